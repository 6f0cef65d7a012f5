"""`calor completion`: verbs and options completed by a shell."""

from __future__ import annotations

import typer

from calor.cli.exit_codes import COMPLETE, PASS
from calor.errors import CalorError

HELP = "Completion of verbs and options for a shell, printed for a file it reads at its start."


def command(shell: str = typer.Argument(..., metavar="SHELL", help="bash, zsh or fish.")) -> int:
    from typer.completion import get_completion_script  # type: ignore[attr-defined]

    if shell not in ("bash", "zsh", "fish"):
        raise CalorError("calor completion", "SHELL must be one of bash, zsh, fish", f"{shell!r}")
    print(get_completion_script(prog_name="calor", complete_var=COMPLETE, shell=shell))
    return PASS
