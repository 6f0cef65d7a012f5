"""A trial with the board in the loop, run off the window's thread: how far it is, and what came of it, judged."""

from __future__ import annotations

import threading
from typing import Any

import numpy as np
import numpy.typing as npt
from PyQt6.QtCore import QObject, pyqtSignal

from calor import loop
from calor.board.in_loop import described, run_with_board
from calor.desk.state.desk import Desk
from calor.errors import CalorError
from calor.judge.verdict import LIMIT_TITLES, Verdict, judge
from calor.loop.simulate import steps_of
from calor.loop.trace import Trace


class LoopedRun(QObject):
    """One run at a time."""

    changed = pyqtSignal()
    """It is over."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self.port, self.baud, self.framing = "", 0, ""
        self.result: Trace | None = None
        self.data: dict[str, Any] = {}
        self.said, self.is_pass = "", False
        self._control: npt.NDArray[np.int64] = loop.new_control()
        self._steps = 1
        self._thread: threading.Thread | None = None

    @property
    def is_running(self) -> bool:
        """Whether it goes on."""
        return self._thread is not None and self._thread.is_alive()

    @property
    def share(self) -> float:
        """How far it is."""
        return min(1.0, float(self._control[1]) / self._steps)

    def forget(self) -> None:
        """Nothing came of any run."""
        self.result, self.data, self.said = None, {}, ""

    def leave(self) -> None:
        """What came of the last one is not looked at any longer."""
        self.forget()
        self.changed.emit()

    def start(self, port: str, baud: int, framing: str) -> None:
        """Begin one with the board on a port."""
        document = self._desk.document
        design, trial = document.design, document.trial
        self.forget()
        self.port, self.baud, self.framing = port, baud, framing
        self._control, self._steps = loop.new_control(), steps_of(design, trial)
        control = self._control

        def work() -> None:
            try:
                trace, self.data = run_with_board(design, trial, port, control, baud, framing)
            except loop.Stopped:
                self.said = "Stopped: no run with the board."
            except CalorError as error:
                self.said = str(error)
            else:
                verdict = judge(trace, design.limits)
                self.said = _words(self.data, verdict)
                # last, for the window looks at it meanwhile
                self.is_pass, self.result = verdict.passes, trace
            self._thread = None
            self.changed.emit()

        self._thread = threading.Thread(target=work, name="in the loop", daemon=True)
        self._thread.start()

    def stop(self) -> None:
        """End it early."""
        thread = self._thread
        if thread is not None:
            self._control[0] = 1
            thread.join(10.0)


def _words(data: dict[str, Any], verdict: Verdict) -> str:
    """What came of a run, in a few sentences."""
    failed = ", ".join(LIMIT_TITLES[one.name].lower() for one in verdict.limits if not one.passes)
    ended = f"failed ({failed})" if failed else "passed" if verdict.limits else "nothing is judged, as no limit is set"
    return f"In the loop: {ended}. {described(data)}"
