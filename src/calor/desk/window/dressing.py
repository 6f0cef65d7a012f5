"""The theme of the window's parts: put on at once, or one part after the other while the window goes on."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, Qt
from PyQt6.QtWidgets import QApplication, QWidget

from calor.desk.widgets import theme as look
from calor.desk.widgets.keys import timer

if TYPE_CHECKING:
    from calor.desk.window.window import Window


class Dressing(QObject):
    """Knows which parts of the window are in the theme, and puts those that are not into it.

    Parts on show come first, and nothing is painted before the last of them has changed: light and dark never stand
    beside each other. Rooms that are not on show follow; one that is entered meanwhile is put into the theme then.
    """

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self._window = window
        self.theme = look.LIGHT
        self._turns = timer(self, 0, self._turn)
        self._held = False
        """Whether the window's painting waits for parts on show."""

    def _parts(self) -> list[QWidget]:
        """The parts of the window that are there; menu and dialogs are in the last one."""
        window = self._window
        pages = [room.page for room in window.rooms if room.is_built]
        return [window.rail, window.topbar, window.notice, window.ribbon, window.bench, *pages, window.dialogs]

    def dress(self, part: QWidget) -> None:
        """Put one part into the theme."""
        if look.worn_by(part) != self.theme.name:
            look.dress(part, self.theme)
            set_theme = getattr(part, "set_theme", None)
            if set_theme is not None:
                set_theme(self.theme)

    def put_on(self, theme: look.Theme) -> None:
        """All parts at once: before the window is shown."""
        self._begin(theme)
        for part in self._parts():
            self.dress(part)

    def change_to(self, theme: look.Theme) -> None:
        """One part a turn of the event loop."""
        self._begin(theme)
        if not self._held:
            self._held = True
            self._window.setUpdatesEnabled(False)
            QApplication.setOverrideCursor(Qt.CursorShape.WaitCursor)
        self._turns.start()

    def finish(self) -> None:
        """Do what is left of a change now."""
        self._turns.stop()
        for part in self._parts():
            self.dress(part)
        self._let_paint()

    def _begin(self, theme: look.Theme) -> None:
        self.theme = theme
        app = QApplication.instance()
        if isinstance(app, QApplication):
            look.set_palette(app, theme)

    def _turn(self) -> None:
        waiting = [part for part in self._parts() if look.worn_by(part) != self.theme.name]
        # those on show first; of equals the one that comes first
        part = min(waiting, key=lambda part: not part.isVisible(), default=None)
        if part is not None and (part.isVisible() or not self._held):
            self.dress(part)
        elif self._held:
            self._let_paint()
        else:
            self._turns.stop()

    def _let_paint(self) -> None:
        if self._held:
            self._held = False
            self._window.setUpdatesEnabled(True)
            QApplication.restoreOverrideCursor()
