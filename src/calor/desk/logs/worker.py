"""Reading, measuring and fitting beside the window: one thread, the newest of each kind wins, a fit can be stopped."""

from __future__ import annotations

import contextlib
import threading
import time
from collections.abc import Callable
from typing import Any, Literal, NamedTuple

from PyQt6.QtCore import QObject, pyqtSignal

from calor.errors import CalorError
from calor.loop.simulate import Stopped
from calor.mistakes import in_words

Kind = Literal["read", "measure", "compare", "fit"]


class Job(NamedTuple):
    """Something to be worked out: what it is about, and the work, which is told of by `watch` how far it is."""

    kind: Kind
    about: Any
    work: Callable[[Callable[[float], None]], Any]


class Worker(QObject):
    """One thread for the room."""

    done = pyqtSignal(object, object)
    """A job, and what came of it."""
    failed = pyqtSignal(object, str)
    """A job, and what was wrong, in a line; empty where it was stopped."""
    changed = pyqtSignal()
    """Whether it is at work has changed."""

    def __init__(self) -> None:
        super().__init__()
        self._wanted: list[Job] = []
        self._wake = threading.Condition()
        self._ending = False
        self._now: Job | None = None
        self._stop = False
        self._began_s, self._share = 0.0, 0.0
        self._thread: threading.Thread | None = None

    def ask(self, job: Job) -> None:
        """Have a job done; an older one of its kind that is not of the same file's reading is forgotten or stopped."""
        with self._wake:
            if job.kind != "read":
                self._wanted = [other for other in self._wanted if other.kind != job.kind]
                if self._now is not None and self._now.kind == job.kind:
                    self._stop = True
            self._wanted.append(job)
            if self._thread is None:
                self._thread = threading.Thread(target=self._work, name="logs", daemon=True)
                self._thread.start()
            self._wake.notify()

    def stop(self, kind: Kind) -> None:
        """End what is being done of a kind, and forget what waits."""
        with self._wake:
            self._wanted = [other for other in self._wanted if other.kind != kind]
            if self._now is not None and self._now.kind == kind:
                self._stop = True

    def progress(self) -> tuple[Kind, float, float] | None:
        """(kind, seconds since it began, share done) of what is being done."""
        now = self._now
        return None if now is None else (now.kind, time.perf_counter() - self._began_s, self._share)

    def close(self) -> None:
        """End the thread."""
        with self._wake:
            self._ending, self._stop = True, True
            self._wanted.clear()
            self._wake.notify()
        if self._thread is not None:
            self._thread.join(20.0)

    def _watch(self, share: float) -> None:
        if self._stop:
            raise Stopped
        if share >= 0.0:
            self._share = share

    def _work(self) -> None:
        while True:
            with self._wake:
                while not self._wanted and not self._ending:
                    self._wake.wait()
                if self._ending:
                    return
                job = self._wanted.pop(0)
                self._now, self._stop, self._share = job, False, 0.0
                self._began_s = time.perf_counter()
            self._say(self.changed)
            try:
                made = job.work(self._watch)
            except Stopped:
                self._say(self.failed, job, "")
            except CalorError as error:
                self._say(self.failed, job, str(error))
            except Exception as error:  # whatever a strange file provokes, the window says it in a line
                self._say(self.failed, job, f"this could not be worked out: {in_words(error)}")
            else:
                self._say(self.done, job, made)
            with self._wake:
                self._now = None
            self._say(self.changed)

    def _say(self, signal: Any, *values: Any) -> None:
        # at the very end Qt may already have taken the receiver away
        with contextlib.suppress(RuntimeError):
            signal.emit(*values)
