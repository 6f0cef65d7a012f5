"""`calor open`, and `calor FILE`: the desk with a design."""

from __future__ import annotations

from pathlib import Path

import typer

HELP = "Open the desk; no FILE: the last design, or the demo."


def command(file: Path = typer.Argument(None, metavar="[FILE]")) -> int:
    raise NotImplementedError("the desk is opened before the command line is read; this is its help")
