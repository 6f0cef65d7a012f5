"""`calor stand-in`: the generated firmware of a design on a pseudo-terminal, as if it were a board."""

from __future__ import annotations

import select
import sys
from pathlib import Path

import typer

from calor.cli.common import DESIGN_FILE, chosen_trial, open_design
from calor.cli.exit_codes import PASS
from calor.errors import CalorError

HELP = "Run the generated firmware of a design on a pseudo-terminal, as a board on a serial port; Ctrl-C ends it."


def command(
    file: Path = DESIGN_FILE,
    chip: str = typer.Option("host", "--chip", metavar="NAME", help="host, cortex-m0plus, cortex-m4f or rv32imc."),
    faster: float = typer.Option(1.0, "--faster", metavar="N", help="So many times faster than real time."),
    trial: str = typer.Option(None, "--trial", metavar="NAME", help="Whose start and ambient; else the first."),
    plain: bool = typer.Option(False, "--plain", help="Lines without a checksum."),
    seconds: float = typer.Option(None, "--for", metavar="S", help="End after so long."),
) -> int:
    import time

    from calor.board.stand_in import FAULTS, StandIn

    if not 0.01 <= faster <= 10_000.0:
        raise CalorError("calor stand-in: --faster", "takes a number from 0.01 to 10000", f"{faster:g}")
    if seconds is not None and not 0.0 < seconds <= 1e7:
        raise CalorError("calor stand-in: --for", "takes a number of seconds above 0", f"{seconds:g}")
    design = open_design(file)
    board = StandIn(design, chip, faster, not plain, chosen_trial(design, file, trial))
    board.start()
    try:
        print(board.port, flush=True)
        print(f"calor stand-in: {design.name} on {board.port}; calor link {board.port}", file=sys.stderr)
        print(f"calor stand-in: type a fault: {', '.join(FAULTS)}, reset, none", file=sys.stderr, flush=True)
        end = None if seconds is None else time.monotonic() + seconds
        listens = True
        while board.is_running and (end is None or time.monotonic() < end):
            if not listens or not select.select([sys.stdin], [], [], 0.1)[0]:
                board.wait(0.1 if not listens else 0.0)
                continue
            word = sys.stdin.readline()
            listens = bool(word)
            if word.strip():
                _throw(board, word.strip())
    finally:
        board.close()
    if board.trouble is not None:
        raise board.trouble
    return PASS


def _throw(board: object, word: str) -> None:
    from calor.board.stand_in import StandIn

    assert isinstance(board, StandIn)
    try:
        board.throw(word)
        print(f"calor stand-in: {word}", file=sys.stderr, flush=True)
    except CalorError as error:
        print(f"calor stand-in: {error}", file=sys.stderr, flush=True)
