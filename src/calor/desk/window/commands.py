"""Every command of the window: its own and those of the rooms, by key, by menu and by name."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject
from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QMenu

from calor.demo import DEMOS
from calor.desk.room import Command
from calor.desk.widgets.fields import on_button
from calor.desk.widgets.keys import shortcut

if TYPE_CHECKING:
    from calor.desk.window.window import Window

GROUPS = ("start", "file", "log", "edit", "designs", "end")
"""Parts of the menu, with a line between them. Designs are filled in as they are."""


class Commands(QObject):
    """Has the shortcuts answer, fills the menu, and carries out a command by its name."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self._window = window
        rooms = [command for room in window.rooms for command in room.commands()]
        self.all = [*self._entering(), *self._own(), *rooms]
        for command in self.all:
            if command.keys:
                shortcut(command.keys, window, self._of(command))
        shortcut("Ctrl+Y", window, window.desk.document.redo)
        self.menu = QMenu(window.dialogs)
        self.menu.aboutToShow.connect(self._fill)

    def _entering(self) -> list[Command]:
        """One for each room on the rail, by its number there."""
        view = self._window.desk.view
        on_rail = [room for room in self._window.rooms if room.on_rail]
        return [
            Command(f"{room.title} room", f"Ctrl+{number}", partial(view.choose_room, room.name))
            for number, room in enumerate(on_rail, 1)
        ]

    def _own(self) -> list[Command]:
        window, files = self._window, self._window.files
        document, view = window.desk.document, window.desk.view
        stack = document.undo_stack
        return [
            Command("New design", "Ctrl+N", files.new, "file"),
            Command("Open…", "Ctrl+O", files.ask_open, "file"),
            Command("Save", "Ctrl+S", files.save, "file"),
            Command("Save as…", "Ctrl+Shift+S", files.save_as, "file"),
            Command("Undo", "Ctrl+Z", document.undo, "edit", stack.canUndo,
                    lambda: f"Undo: {stack.undoText()}" if stack.canUndo() else "Undo"),
            Command("Redo", "Ctrl+Shift+Z", document.redo, "edit", stack.canRedo),
            Command("Next unit: °C, °F, K", "Ctrl+U", view.next_unit),
            Command("Light or dark", "Ctrl+D", window.toggle_theme),
            Command("Find", "Ctrl+K", window.search),
            Command("Quit", "Ctrl+Q", window.close, "end"),
        ]  # fmt: skip

    @staticmethod
    def _of(command: Command) -> Callable[[], None]:
        def act() -> None:
            if command.allowed():
                command.act()

        return act

    def carry_out(self, name: str) -> None:
        """Carry out the command called `name`. Raises KeyError where there is none."""
        by_name = {command.name: command for command in self.all}
        self._of(by_name[name])()

    def _fill(self) -> None:
        menu = self.menu
        menu.clear()
        for group in GROUPS:
            if group != GROUPS[0]:
                menu.addSeparator()
            if group == "designs":
                self._add_designs(menu)
            for command in self.all:
                if command.group == group:
                    name = command.wording() if command.wording is not None else command.name
                    # the key is told, not set: it belongs to the window's shortcut, and of two owners neither acts
                    keys = QKeySequence(command.keys).toString(QKeySequence.SequenceFormat.NativeText)
                    action = QAction(f"{name}\t{keys}" if keys else name, menu)
                    action.setEnabled(command.allowed())
                    action.triggered.connect(self._of(command))
                    menu.addAction(action)

    def _add_designs(self, menu: QMenu) -> None:
        files = self._window.files
        recent, demos = QMenu("Recent designs", menu), QMenu("Demo designs", menu)
        for sub in (recent, demos):
            menu.addMenu(sub)
        for path in self._window.desk.remembered.recent():
            self._add(recent, path.name, partial(files.open, path))
        if recent.isEmpty():
            action = QAction("none yet", recent)
            action.setEnabled(False)
            recent.addAction(action)
        for number, demo in enumerate(DEMOS):
            self._add(demos, demo.title, partial(files.open_demo, number))

    @staticmethod
    def _add(menu: QMenu, text: str, act: Callable[[], None]) -> None:
        action = QAction(on_button(text), menu)
        action.triggered.connect(lambda _: act())
        menu.addAction(action)
