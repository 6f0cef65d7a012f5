"""Escape held for a while: what is urgent in the rooms at work is done, whatever has the keyboard."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QApplication

from calor.desk.widgets.keys import timer

HELD_MS = 600


class HeldEscape(QObject):
    """Watches the key in all of the application's windows, dialogs among them, while there is something urgent: every
    event passes here then."""

    def __init__(self, act: Callable[[], object]) -> None:
        super().__init__()
        self._timer = timer(self, HELD_MS, act, once=True)
        self._watches = False

    def watch(self, watches: bool) -> None:
        """Watch from now on, or no longer."""
        app = QApplication.instance()
        if watches == self._watches or app is None:
            return
        self._watches = watches
        if watches:
            app.installEventFilter(self)
        else:
            self._timer.stop()
            app.removeEventFilter(self)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        del watched
        if isinstance(event, QKeyEvent) and event.key() == Qt.Key.Key_Escape and not event.isAutoRepeat():
            if event.type() == QEvent.Type.KeyRelease:
                self._timer.stop()
            elif not self._timer.isActive():
                self._timer.start()
        return False
