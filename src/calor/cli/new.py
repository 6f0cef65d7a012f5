"""`calor new`: a commented design to start from."""

from __future__ import annotations

from pathlib import Path

import typer

from calor.cli.exit_codes import PASS
from calor.errors import CalorError, unwritable

HELP = "Write a commented design to start from."


def command(
    file: Path = typer.Argument(..., metavar="FILE", help="Where to write it."),
    force: bool = typer.Option(False, "--force", help="Replace a file that is already there."),
) -> int:
    from calor.demo import STARTER
    from calor.files import save_atomically

    if file.exists() and not force:
        raise CalorError(file, "is already there", "", "choose another name or add --force to replace it")
    try:
        save_atomically(file, STARTER.read_text(encoding="utf-8"))
    except OSError as error:
        raise unwritable(CalorError, file, error) from None
    print(f"wrote {file}; next: calor run {file}")
    return PASS
