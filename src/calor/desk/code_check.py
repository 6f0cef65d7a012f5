"""The check of the C, off the GUI thread: the host and each chip in turn; it says how far it is and can be stopped."""

from __future__ import annotations

import contextlib
import threading
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from calor.design.model import Design
from calor.errors import CalorError


class CodeCheck(QObject):
    """One check at a time; a new one takes the place of one that is on."""

    progressed = pyqtSignal(str)
    finished = pyqtSignal(object, object)
    failed = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self._stop = threading.Event()
        self._thread: threading.Thread | None = None

    def start(self, design: Design) -> None:
        """Check a design."""
        self.close()
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._work, args=(design, self._stop), name="code check", daemon=True)
        self._thread.start()

    def stop(self) -> None:
        """End the check before its next part; what is done by then is dropped."""
        self._stop.set()

    def close(self) -> None:
        """End the check, and wait until it has."""
        self.stop()
        if self._thread is not None:
            self._thread.join(60.0)
            self._thread = None

    def _say(self, signal: Any, *values: Any) -> None:
        with contextlib.suppress(RuntimeError):  # at the very end the receiver may be gone
            signal.emit(*values)

    def _work(self, design: Design, stop: threading.Event) -> None:
        from calor.firmware import agreement

        def goes_on(part: str) -> bool:
            self._say(self.progressed, part)
            return not stop.is_set()

        try:
            data = agreement.check(design, goes_on=goes_on)
        except agreement.CheckStopped:
            self._say(self.failed, "stopped")
        except CalorError as error:
            self._say(self.failed, str(error))
        except Exception as error:  # whatever a tool chain does, the room says it in a line
            self._say(self.failed, f"the check could not be made: {type(error).__name__}: {error}")
        else:
            self._say(self.finished, design, data)
