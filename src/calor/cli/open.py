"""`calor open`, and `calor FILE`: the desk with a design."""

from __future__ import annotations

from pathlib import Path

import typer

from calor.cli.desk import open_desk

HELP = "Open the desk; no FILE: the last design, or the demo."


def command(file: Path = typer.Argument(None, metavar="[FILE]")) -> int:
    return open_desk(["open", *([str(file)] if file else [])])
