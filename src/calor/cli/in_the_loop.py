"""A board in the loop, for `calor run --with PORT`: run, judged, compared with the reference, each answer timed."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import numpy as np
    import numpy.typing as npt

    from calor.design.model import Design
    from calor.design.trial import Trial
    from calor.loop.trace import Trace


def is_port(name: str) -> bool:
    """Whether what is to decide is a serial port."""
    return name.startswith("/dev/") or (bool(name) and Path(name).is_char_device())


def with_board(
    design: Design, trial: Trial, port: str, baud: int, control: npt.NDArray[np.int64]
) -> tuple[Trace, dict[str, Any]]:
    """A run that a board decides in, and how it answered. Raises FirmwareError where it falls silent."""
    from calor import loop
    from calor.board.in_loop import board_seated, compared
    from calor.loop.simulate import Stopped

    with board_seated(design, port, control, baud) as (seat, board):
        try:
            trace = loop.run(design, trial, control, seat)
        except Stopped:
            if board.trouble is None:
                raise
        if board.trouble is not None:
            raise board.trouble
    reference = {} if design.law.kind == "code" else {"reference": compared(trace, loop.run(design, trial))}
    return trace, {"board": board.data(), **reference}
