"""Rooms got ready before they are entered, while the window has nothing else to do."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, pyqtSignal

from calor.desk.widgets.keys import timer

if TYPE_CHECKING:
    from calor.desk.window.window import Window

BETWEEN_MS = 20
"""After each step the window gets its turn."""


class Ahead(QObject):
    """Builds the rooms' pages out of sight, in short steps: a room that is ready is entered at once."""

    done = pyqtSignal()

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self._window = window
        self._steps: Iterator[None] = iter(())
        self._may_begin: Callable[[], bool] = lambda: True
        self._timer = timer(self, BETWEEN_MS, self._step)

    def begin(self, may_begin: Callable[[], bool]) -> None:
        """Get the rooms ready, as soon as it may begin."""
        self._may_begin = may_begin
        self._steps = self._all()
        self._timer.start()

    def end(self) -> None:
        """Leave the rest to be built when it is entered."""
        self._timer.stop()

    @property
    def is_done(self) -> bool:
        """Whether nothing is left to be built."""
        return not self._timer.isActive()

    def _step(self) -> None:
        if self._may_begin() and next(self._steps, self) is self:
            self.end()
            self.done.emit()

    def _all(self) -> Iterator[None]:
        for room in self._window.rooms:
            if room.is_built:
                continue
            try:
                page = room.page
            except ImportError:  # a library is missing: said when the room is entered
                continue
            yield
            self._window.place(room)
            yield
            # all in it takes its style, which is most of what showing it would take
            page.ensurePolished()
            yield
