"""Options that take several values."""

from __future__ import annotations


def spread(arguments: list[str]) -> list[str]:
    """Options that take several values: `--celsius 0 25 100` becomes one option for each."""
    spread: list[str] = []
    option = ""
    for argument in arguments:
        name, _, value = argument.partition("=")
        if name in ("--celsius", "--counts"):
            option = "" if value else name
            spread += [f"{name}={part}" for part in value.split(",") if part]
        elif option and (not argument.startswith("-") or is_number(argument.split(",")[0])):
            spread += [f"{option}={part}" for part in argument.split(",") if part]
        else:
            option = ""
            spread.append(argument)
    return spread


def is_number(text: str) -> bool:
    """Whether a word is a number."""
    try:
        float(text)
    except ValueError:
        return False
    return True
