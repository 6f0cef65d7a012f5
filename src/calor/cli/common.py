"""What the verbs of the command line share: options, designs read, numbers read, JSON and CSV written."""

from __future__ import annotations

import contextlib
import gc
import math
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from calor.cli.spreading import is_number
from calor.errors import CalorError, unwritable

if TYPE_CHECKING:
    from calor.design.model import Design
    from calor.design.trial import Trial
    from calor.loop.trace import Trace

DESIGN_FILE = typer.Argument(..., metavar="FILE", help="Design file (TOML).")
AS_JSON = typer.Option(False, "--json", help="Print JSON.")


def numbers(option: str, words: list[str], whole: bool) -> list[float]:
    """The values of an option as numbers. Raises CalorError at the first that is none."""
    values = []
    for word in words:
        if not is_number(word) or (whole and not word.lstrip("-").isdigit()):
            kind = "whole numbers" if whole else "numbers"
            raise CalorError(f"calor probe: {option}", f"takes {kind}, for example {option} 25", f"{word!r}")
        values.append(float(word))
    return values


def print_json(data: Any) -> None:
    """Print data as JSON; what is no finite number is null."""
    import json

    print(json.dumps(_finite(data), indent=2, ensure_ascii=False, allow_nan=False))


def _finite(data: Any) -> Any:
    """Data with null for what is no number, which JSON does not have."""
    if isinstance(data, dict):
        return {key: _finite(value) for key, value in data.items()}
    if isinstance(data, list | tuple):
        return [_finite(value) for value in data]
    return None if isinstance(data, float) and not math.isfinite(data) else data


@contextlib.contextmanager
def _no_garbage_looked_for() -> Iterator[None]:
    """While much is imported: all of it stays, and looking through it again takes a twentieth of a short verb."""
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()


def open_design(path: Path) -> Design:
    """The design in a file; from here on standard error says when the loop is compiled. Raises DesignError."""
    with _no_garbage_looked_for():
        from calor.compiled.library import listen
        from calor.design import file

    listen(lambda line: print(f"calor: {line}", file=sys.stderr))
    return file.read(path).design


def chosen_trial(design: Design, file: Path, name: str | None) -> Trial:
    """The trial that --trial names, the first where it names none. Raises CalorError."""
    try:
        return design.find_trial(name)
    except KeyError:
        names = ", ".join(repr(item.name) for item in design.trial)
        raise CalorError(f"{file}: --trial", "there is no trial of that name", f"{name!r}", f"one of {names}") from None


def write_csv(trace: Trace, path: Path) -> None:
    """The trace's columns as CSV; empty where a run has no figure. Raises CalorError."""
    import pandas as pd

    from calor.files import save_atomically

    frame = pd.DataFrame(trace.table())
    frame["flags"] = frame["flags"].astype(int)
    try:
        save_atomically(path, frame.to_csv(index=False, float_format="%.9g"))
    except OSError as error:
        raise unwritable(CalorError, path, error) from None
