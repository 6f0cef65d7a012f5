"""Checks of code, off the GUI thread: the C on host and chips, and what is wrong with a law of the user's own."""

from __future__ import annotations

import contextlib
import threading
from typing import Any

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from calor.design.model import Design
from calor.desk.code.overlay import Answers
from calor.errors import CalorError
from calor.firmware.sources.form import PLAIN, Form
from calor.loop import answer_row
from calor.mistakes import in_words


class _Working(QObject):
    """Work in a thread of its own, whose signals reach the desk; at the very end the receiver may be gone."""

    def __init__(self) -> None:
        super().__init__()
        self._thread: threading.Thread | None = None

    def _begin(self, work: Any, *given: Any) -> None:
        self._thread = threading.Thread(target=work, args=given, name="code check", daemon=True)
        self._thread.start()

    def _say(self, signal: Any, *values: Any) -> None:
        with contextlib.suppress(RuntimeError):
            signal.emit(*values)

    def close(self) -> None:
        """Wait until the work is over."""
        if self._thread is not None:
            self._thread.join(60.0)
            self._thread = None


class CodeCheck(_Working):
    """The check of a design's C, one at a time; a new one takes the place of one that is on."""

    progressed = pyqtSignal(str)
    finished = pyqtSignal(object, object)
    """The design, and what was found; under "answers" the demands of each trial."""
    failed = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self._stop = threading.Event()

    def start(self, design: Design, form: Form = PLAIN) -> None:
        """Check a design in one form of its C."""
        self.close()
        self._stop = threading.Event()
        self._begin(self._work, design, form, self._stop)

    def stop(self) -> None:
        """End the check before its next part; what is done by then is dropped."""
        self._stop.set()

    def close(self) -> None:
        """End the check, and wait until it has."""
        self.stop()
        super().close()

    def _work(self, design: Design, form: Form, stop: threading.Event) -> None:
        from calor.firmware.check import agreement

        answers: dict[str, Answers] = {}

        def goes_on(part: str) -> bool:
            self._say(self.progressed, part)
            return not stop.is_set()

        def seen(record: Any, reference: Any, own: Any) -> None:
            time_s = record.trace.time_s[record.rows]
            first = [np.asarray(rows[:, answer_row.demand_at(0)], np.float64) for rows in (reference, own)]
            answers[record.trial.name] = Answers(record.trial.name, ("reference", "firmware"), time_s, *first)

        try:
            data = agreement.check(design, goes_on=goes_on, form=form, seen=seen)
        except agreement.CheckStopped:
            self._say(self.failed, "stopped")
        except CalorError as error:
            self._say(self.failed, str(error))
        except Exception as error:  # whatever a tool chain does, the room says it in a line
            self._say(self.failed, f"the check could not be made: {in_words(error)}")
        else:
            self._say(self.finished, design, data | {"answers": answers})


class LawCheck(_Working):
    """What is wrong with a law of the user's own: its latest text, as often as it changes."""

    found = pyqtSignal(str, object, str)
    """The text that was looked at, its diagnostics, and what kept it from being looked at."""

    def __init__(self) -> None:
        super().__init__()
        self._lock = threading.Lock()
        self._wanted: tuple[str, str] | None = None
        self._busy = False

    def ask(self, name: str, text: str) -> None:
        """Look at a text; one that waits is forgotten for it."""
        with self._lock:
            self._wanted = (name, text)
            if self._busy:
                return
            self._busy = True
        self._begin(self._work)

    def _work(self) -> None:
        from calor.firmware.controller.diagnostics import diagnose

        while True:
            with self._lock:
                wanted, self._wanted = self._wanted, None
                if wanted is None:
                    self._busy = False
                    return
            name, text = wanted
            try:
                self._say(self.found, text, diagnose(name, text), "")
            except CalorError as error:
                self._say(self.found, text, [], str(error))

    def close(self) -> None:
        """Forget what waits, and wait until the work is over."""
        with self._lock:
            self._wanted = None
        super().close()
