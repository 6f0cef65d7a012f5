"""The face of a room: all that the window may ask of it. A room is a folder of its own and a line in `rooms`.

A face is light and there from the start; its page, with all widgets, is built when the room is first entered.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from PyQt6.QtCore import QObject, Qt, pyqtSignal
from PyQt6.QtWidgets import QFrame, QWidget

from calor.desk.state.desk import Desk
from calor.desk.widgets import theme as look


def _always() -> bool:
    return True


class Command(NamedTuple):
    """Something to be done, found by Ctrl+K. `group` is its place in the menu of the design's name; empty: not there.

    `wording` is what the menu says in place of the name, where that depends on what there is.
    """

    name: str
    keys: str
    act: Callable[[], object]
    group: str = ""
    allowed: Callable[[], bool] = _always
    wording: Callable[[], str] | None = None


class Entry(NamedTuple):
    """Something Ctrl+K finds: its name, what it is, what choosing it does."""

    name: str
    what: str
    act: Callable[[], object]


class Unsaved(NamedTuple):
    """Something a room has not saved, and how to; False where it could not be."""

    name: str
    save: Callable[[], bool]


class Page(QFrame):
    """The widgets of a room."""

    def set_theme(self, theme: look.Theme) -> None:
        """Take a theme's colours into what is painted by the page itself."""

    def tab_order(self) -> list[QWidget]:
        """What the Tab key reaches, in its order."""
        return []

    def focus(self) -> None:
        """Take the keyboard as the room is entered."""
        self.setFocus(Qt.FocusReason.OtherFocusReason)


class Room(QObject):
    """What every room says of itself; each part has a default that fits a room with nothing special."""

    name, title, purpose = "", "", ""
    on_rail = True
    under = ""
    """The room on the rail that is marked while this one, which is not there, is shown."""
    has_ribbon, has_bench = True, True
    """Whether the ribbon and the benches stand beside it."""
    shows_design = True
    """Whether the open design is in sight, and with it its name, trial, span and ambient in the top bar."""
    reads_code = False
    """Whether code that a design names is read and allowed here."""
    urgent: Command | None = None
    """What has to be at hand in every room while this one is at work: a button on the rail, and Escape held."""
    work_changed = pyqtSignal()
    """Whether it is at work has changed."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.desk = desk
        self._page: Page | None = None

    def build(self) -> Page:
        """Make the page. Raises NotImplementedError where a room has none."""
        raise NotImplementedError

    @property
    def page(self) -> Page:
        """The page, built when it is first asked for."""
        if self._page is None:
            self._page = self.build()
            self._page.setObjectName(self._page.objectName() or "centre")
            self._page.hide()
        return self._page

    @property
    def is_built(self) -> bool:
        """Whether the page is there."""
        return self._page is not None

    @property
    def at_work(self) -> bool:
        """Whether something is going on that takes a while; the rail shows it."""
        return False

    def commands(self) -> list[Command]:
        """Commands of its own; they work in every room."""
        return []

    def entries(self) -> list[Entry]:
        """What else Ctrl+K is to find."""
        return []

    def entered(self) -> None:
        """The room is shown now."""

    def takes(self, path: Path) -> bool:
        """Take a file that was dropped on the window; False where it is none for this room."""
        del path
        return False

    def escape(self) -> bool:
        """The Escape key: end what is on here; False where nothing is."""
        return False

    def unsaved(self) -> list[Unsaved]:
        """What would be lost if the window closed now."""
        return []

    def may_close(self) -> bool:
        """Ask what there is to ask before the window closes; False where the user wants to stay."""
        return True

    def close_down(self) -> None:
        """End all that is at work: the window closes."""
