"""What an option writes, looked at before anything is computed: it destroys no input, and nothing that is not ours."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable
from pathlib import Path

import typer

from calor.errors import CalorError
from calor.files import is_same

FORCE = typer.Option(False, "--force", help="Replace what is there, whoever wrote it; never a file that is read.")
HEAD_BYTES = 2000
GENERATOR = '<meta name="generator" content="Calor">'


def is_run(head: str) -> bool:
    """Whether a text begins as the columns of a run that Calor wrote."""
    return head.startswith(("time_s,true_celsius,", "time_s,output\n", "time_s,output,ambient_celsius\n"))


def is_page(head: str) -> bool:
    """Whether a text begins as a page that Calor wrote."""
    return GENERATOR in head


def is_picture(head: str) -> bool:
    """Whether a file begins as a picture that Calor wrote: SVG or PNG with its name in it."""
    return "Calor" in head and ("<svg" in head or "PNG" in head)


def is_nothing_of_ours(head: str) -> bool:
    """Of a design it cannot be told who wrote it."""
    return not head


def may_write(
    option: str, out: Path | None, inputs: Iterable[Path | None], force: bool, is_ours: Callable[[str], bool]
) -> None:  # fmt: skip
    """Raises CalorError where `out`, what `option` names, is one of `inputs`, a folder, or somebody else's file."""
    if out is None:
        return
    for path in inputs:
        if path is not None and is_same(out, path):
            raise CalorError(option, "is a file that is read here, and would be lost", str(out), "give another name")
    if out.is_dir():
        raise CalorError(option, "is a folder", str(out), f"give the name of a file in it, such as {out / 'out'}")
    if not out.is_file():
        return  # a device or a pipe is written to
    if not out.stat().st_mode & 0o222 or not os.access(out, os.W_OK):
        raise CalorError(option, "is a file that may not be written", str(out), "give another name, or chmod u+w")
    try:
        with out.open("rb") as stream:
            head = stream.read(HEAD_BYTES).decode(errors="replace")
    except OSError:
        head = "?"
    if not force and head and not is_ours(head):
        raise CalorError(
            option, "is there already, and Calor may not have written it", str(out), "give another name, or --force"
        )
