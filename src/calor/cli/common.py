"""What the verbs of the command line share: designs read, numbers read, JSON printed."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

from calor.compiled.library import listen
from calor.errors import CalorError

if TYPE_CHECKING:
    from calor.design.model import Design


def numbers(option: str, words: list[str], whole: bool) -> list[float]:
    """The values of an option as numbers. Raises CalorError at the first that is none."""
    values = []
    for word in words:
        if not is_number(word) or (whole and not word.lstrip("-").isdigit()):
            kind = "whole numbers" if whole else "numbers"
            raise CalorError(f"calor probe: {option}: takes {kind}, for example {option} 25 (received {word!r})")
        values.append(float(word))
    return values


def is_number(text: str) -> bool:
    """Whether a word is a number."""
    try:
        float(text)
    except ValueError:
        return False
    return True


def print_json(data: Any) -> None:
    """Print data as JSON; what is no number may not be in it."""
    import json

    print(json.dumps(data, indent=2, ensure_ascii=False, allow_nan=False))


def open_design(path: Path) -> Design:
    """The design in a file. Raises DesignError."""
    from calor.design import file

    return file.read(path).design


def say_of_the_loop() -> None:
    """Say on standard error when the loop is compiled, and what was wrong with it."""
    listen(lambda line: print(f"calor: {line}", file=sys.stderr))
