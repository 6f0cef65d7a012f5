"""Options that take several values."""

from __future__ import annotations

import re

WORDS = {
    "--free": r"[a-z][a-z0-9_]*", "--leave-out": r"[-+.\d]*:[-+.\deE]*", "--keep": r"[a-z_]+",
}  # fmt: skip
"""Options that take several words, and what such a word is like."""


def spread(arguments: list[str]) -> list[str]:
    """Options that take several values: `--celsius 0 25 100` becomes one option for each."""
    spread: list[str] = []
    option, is_first = "", False
    for argument in arguments:
        name, _, value = argument.partition("=")
        if name in ("--celsius", "--counts"):
            option = "" if value else name
            spread += [f"{name}={part}" for part in _parts(name, value)]
        elif name in WORDS:
            option, is_first = "" if value else name, True
            spread += [f"{name}={part}" for part in value.split(",") if part]
        elif option in WORDS and (is_first or re.fullmatch(f"{WORDS[option]}(,{WORDS[option]})*", argument)):
            # the first word is the option's whatever it is like
            is_first = False
            spread += [f"{option}={part}" for part in argument.split(",")]
        elif option in WORDS:
            option = ""
            spread.append(argument)
        elif option and (not argument.startswith("-") or is_number(argument.split(",")[0])):
            spread += [f"{option}={part}" for part in _parts(option, argument)]
        else:
            option = ""
            spread.append(argument)
    return spread


def _parts(option: str, text: str) -> list[str]:
    """The values in a word: several with commas between them; of a temperature one comma is that of a decimal."""
    if option == "--celsius" and re.fullmatch(r"[-+]?\d+,\d+", text):
        return [text.replace(",", ".")]
    return [part for part in text.split(",") if part]


def is_number(text: str) -> bool:
    """Whether a word is a number."""
    try:
        float(text)
    except ValueError:
        return False
    return True
