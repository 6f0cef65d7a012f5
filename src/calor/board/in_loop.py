"""A board in the loop: it is given simulated counts, and answers with what it decides, step by step.

The board takes the seat of the law in a run. Each answer's time is measured; late ones and missing ones are named, and
for a step without an answer the last one holds. A board that is silent for too long ends the run.
"""

from __future__ import annotations

import contextlib
import ctypes
import math
import os
import select
import termios
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import numpy as np
import numpy.typing as npt

from calor import loop
from calor.board.feed import Feed
from calor.board.link import USUAL_BAUD, USUAL_FRAMING, opened
from calor.board.protocol import Answer, checked, row_line, row_of
from calor.design.model import Design
from calor.design.trial import Trial
from calor.errors import CalorError, FirmwareError
from calor.loop import answer_row
from calor.loop import seat as at
from calor.loop.seat import Seat, seat_of
from calor.loop.trace import Trace

LATE_S, LONGEST_S, MOST_MISSING = 0.05, 1.0, 20
"""An answer after this long is late; after this long it is missing; and after so many missing in a row the run ends."""
STEP = "step"
MOST_NAMED, MOST_SAID = 100, 4
"""So many late and missing answers are named, the first of them."""


class InLoop:
    """A board that decides in a run, and how it answered."""

    def __init__(self, design: Design, port: str, baud: int = USUAL_BAUD, framing: str = USUAL_FRAMING) -> None:
        """Open the port. Raises FirmwareError where that cannot be."""
        self._design, self.port = design, port
        self.answers_s: list[float] = []
        self.late, self.missing, self._missing_in_a_row = 0, 0, 0
        self._named: list[dict[str, float | None]] = []
        self.trouble: FirmwareError | None = None
        self.ended: npt.NDArray[np.int64] | None = None
        self._feed = Feed()
        try:
            self._serial = opened(port, baud, framing)
        except CalorError as error:
            raise FirmwareError(error.where, error.rule, error.received, error.remedy) from None

    def seat(self) -> Seat:
        """The seat that it takes."""
        self._called = ctypes.CFUNCTYPE(None, ctypes.c_void_p, ctypes.c_void_p, ctypes.c_void_p)(self._step)
        self._seat = seat_of(ctypes.cast(self._called, ctypes.c_void_p).value or 0, 0)
        return self._seat

    def _step(self, state: Any, given: Any, row: Any) -> None:
        del state, given, row
        if self.trouble is not None:
            return
        values = self._seat.given
        said = {
            "counts": float(values[at.COUNTS]), "other": float(values[at.OTHER]), "hand": float(values[at.BY_HAND]),
            "setpoint": float(values[at.PUT_IN]), "restart": float(values[at.RESTART]), "tune": float(values[at.TUNE]),
            "n": float(len(self.answers_s) + self.missing),
        }  # fmt: skip
        began = time.perf_counter()
        answer = self._asked(said, began)
        step = len(self.answers_s) + self.missing
        if answer is None:
            self._name(step, None)
            self.missing += 1
            self._missing_in_a_row += 1
            if self._missing_in_a_row >= MOST_MISSING:
                self._give_up(f"{MOST_MISSING} answers in a row are missing")
            return
        self._missing_in_a_row = 0
        took_s = time.perf_counter() - began
        self.answers_s.append(took_s)
        if took_s > LATE_S:
            self.late += 1
            self._name(step, took_s)
        self._fill(answer)

    def _name(self, step: int, took_s: float | None) -> None:
        """Write down which answer was late, or None: missing."""
        if len(self._named) < MOST_NAMED:
            took_ms = None if took_s is None else took_s * 1e3
            self._named.append({"step": step, "time_s": step * float(self._design.law.period_s), "ms": took_ms})

    def _asked(self, said: dict[str, float], began: float) -> dict[str, float] | None:
        """What the board decides on some inputs; None where it does not answer."""
        line = f"{STEP} {row_line(said)}"
        try:
            # the port's own file: a library's read costs as much as the board's whole step
            port = self._serial.fileno()
            os.write(port, f"{checked(line)}\n".encode())
            while (left := began + LONGEST_S - time.perf_counter()) > 0.0:
                if not select.select([port], [], [], left)[0]:
                    return None
                data = os.read(port, 4096)
                if not data:
                    self._give_up("the port is gone")
                    return None
                for item in self._feed.take(data):
                    if not isinstance(item, Answer) or not item.text.startswith(STEP):
                        if isinstance(item, Answer) and not item.ok:
                            self._give_up(f"the board answers: {item.text}")
                            return None
                        continue
                    answer = row_of(item.text[len(STEP) :])
                    if answer is not None and answer.values.get("n") == said["n"]:
                        return answer.values
        except (OSError, TypeError, termios.error) as error:
            self._give_up(f"the port is gone ({error})")
        return None

    def _give_up(self, why: str) -> None:
        step = len(self.answers_s) + self.missing
        self.trouble = FirmwareError(self.port, f"{why}, at step {step}", "", "look at the board with calor link")
        if self.ended is not None:
            self.ended[0] = 1

    def _fill(self, answer: dict[str, float]) -> None:
        """Put an answer into the row."""
        row = self._seat.row
        row[answer_row.MEASURED] = answer.get("measured_celsius", math.nan)
        row[answer_row.SETPOINT] = answer.get("setpoint_celsius", math.nan)
        row[answer_row.FLAGS] = answer.get("flags", 0.0)
        row[answer_row.ALARMS] = answer.get("alarms", 0.0)
        row[answer_row.STATUS] = answer.get("status", 0.0)
        for output in range(len(self._design.outputs)):
            key = "demand" if output == 0 else f"demand_{output + 1}"
            row[answer_row.demand_at(output)] = answer.get(key, 0.0)

    def data(self) -> dict[str, Any]:
        """How it answered, as plain data."""
        times = np.array(self.answers_s) if self.answers_s else np.array([math.nan])
        return {
            "answers": len(self.answers_s), "late": self.late, "missing": self.missing,
            "mean_ms": float(times.mean() * 1e3), "worst_ms": float(times.max() * 1e3), "late_after_ms": LATE_S * 1e3,
            "late_or_missing": self._named,
        }  # fmt: skip

    def close(self) -> None:
        """Outputs off, and the port closed."""
        with contextlib.suppress(OSError, TypeError, termios.error):
            self._serial.write(b"stop\n")
            self._serial.flush()
            self._serial.close()


@contextmanager
def board_seated(
    design: Design, port: str, control: npt.NDArray[np.int64], baud: int = USUAL_BAUD, framing: str = USUAL_FRAMING
) -> Iterator[tuple[Seat, InLoop]]:
    """A board in the seat of the law for a run, which its end switches off. Raises FirmwareError."""
    board = InLoop(design, port, baud, framing)
    board.ended = control
    try:
        yield board.seat(), board
    finally:
        board.close()


def run_with_board(
    design: Design, trial: Trial, port: str, control: npt.NDArray[np.int64], baud: int = USUAL_BAUD,
    framing: str = USUAL_FRAMING,
) -> tuple[Trace, dict[str, Any]]:  # fmt: skip
    """A run that a board decides in; how it answered, and how far it is from the reference. Raises FirmwareError where
    it falls silent, Stopped where the run was ended."""
    with board_seated(design, port, control, baud, framing) as (seat, board):
        try:
            trace = loop.run(design, trial, control, seat)
        except loop.Stopped:
            if board.trouble is None:
                raise
        if board.trouble is not None:
            raise board.trouble
    reference = {} if design.law.kind == "code" else {"reference": compared(trace, loop.run(design, trial))}
    return trace, {"board": board.data(), **reference}


def described(data: dict[str, Any]) -> str:
    """How a board answered in a run, and how far it was from the reference, in a few sentences."""
    board, reference = data["board"], data.get("reference")
    named = [f"{one['time_s']:g} s" for one in board["late_or_missing"][:MOST_SAID]]
    more = ", …" if len(board["late_or_missing"]) > MOST_SAID else ""
    said = ", ".join(named)
    text = (
        f"{board['answers']} answers, {board['mean_ms']:.3g} ms each, {board['worst_ms']:.3g} ms at most;"
        f" {board['late']} late, {board['missing']} missing{f' (at {said}{more})' if named else ''}."
    )
    if reference is None:
        return text
    apart = reference["first_apart_s"]
    where = "" if apart is None else f", apart from {apart:g} s on"
    return f"{text} Demand within {reference['demand'] * 100.0:.2g} % of the reference{where}."


def compared(ours: Any, theirs: Any) -> dict[str, Any]:
    """A run with a board in the loop against the reference, step by step: demand and reading, and where they part."""
    steps = min(ours.steps, theirs.steps)
    apart = np.abs(np.nan_to_num(ours.demand[:steps]) - np.nan_to_num(theirs.demand[:steps]))
    reading = np.abs(np.nan_to_num(ours.measured_celsius[:steps]) - np.nan_to_num(theirs.measured_celsius[:steps]))
    beyond = np.flatnonzero(apart > 1e-3)
    return {
        "steps": steps, "demand": float(apart.max(initial=0.0)), "measured_celsius": float(reading.max(initial=0.0)),
        "first_apart_step": int(beyond[0]) if len(beyond) else None,
        "first_apart_s": float(ours.time_s[beyond[0]]) if len(beyond) else None,
    }  # fmt: skip
