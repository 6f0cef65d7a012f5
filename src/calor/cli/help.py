"""`calor help [VERB]`: what Calor can be asked for, or what one verb takes."""

from __future__ import annotations

import typer

HELP = "Show what Calor can be asked for, or what a VERB takes."


def command(verb: list[str] = typer.Argument(None, metavar="[VERB]")) -> int:
    from calor.cli import invoke

    return invoke([*(verb or []), "--help"])
