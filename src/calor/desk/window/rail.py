"""The rail: the rooms that there are, and what belongs to no room."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QFrame, QPushButton, QVBoxLayout

from calor.desk.room import Room
from calor.desk.widgets import theme as look
from calor.desk.widgets.fields import label


class Rail(QFrame):
    """A button for each room, with what it is for; while a room is at work, its name ends in three points."""

    chosen = pyqtSignal(str)

    def __init__(self, rooms: list[Room]) -> None:
        super().__init__()
        self.setObjectName("rail")
        self.setFixedWidth(72)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 8)
        column.setSpacing(0)
        mark = label("calor", "heading")
        mark.setAlignment(Qt.AlignmentFlag.AlignCenter)
        mark.setFixedHeight(46)
        column.addWidget(mark)
        self.rooms: dict[str, QPushButton] = {}
        self.urgent: dict[str, QPushButton] = {}
        self._every = rooms
        for room in rooms:
            if not room.on_rail:
                continue
            button = QPushButton()
            button.setCheckable(True)
            button.setProperty("role", "room")
            button.clicked.connect(lambda _, room=room: self.chosen.emit(room.name))
            room.work_changed.connect(lambda room=room: self._word(room))
            self.rooms[room.name] = button
            self._word(room)
            column.addWidget(button)
        column.addStretch(1)
        for room in rooms:
            if room.urgent is not None:
                button = QPushButton(room.urgent.name.replace(" ", "\n", 1))
                button.setProperty("role", "urgent")
                button.setToolTip(f"{room.urgent.name} (Escape held).")
                button.clicked.connect(room.urgent.act)
                button.hide()
                self.urgent[room.name] = button
                column.addWidget(button)
        self.find_button, self.theme_button = QPushButton("Find\nCtrl+K"), QPushButton("Dark")
        for button in (self.find_button, self.theme_button):
            column.addWidget(button)

    def set_theme(self, theme: look.Theme) -> None:
        """The button offers the other one."""
        self.theme_button.setText("Light" if theme is look.DARK else "Dark")

    def _word(self, room: Room) -> None:
        button = self.rooms[room.name]
        button.setText(f"{room.title}{' …' if room.at_work else ''}\n{room.purpose}")
        working = ", at work" if room.at_work else ""
        button.setAccessibleName(f"Room: {room.title}, {room.purpose}{working}")
        self._offer(room)

    def _offer(self, room: Room) -> None:
        """What is urgent in a room that is not on show, where it would have it itself."""
        if room.name in self.urgent and room.urgent is not None:
            is_shown = self.rooms[room.name].isChecked()
            self.urgent[room.name].setVisible(room.urgent.allowed() and not is_shown)

    def show_room(self, shown: Room) -> None:
        """Mark the room on show."""
        for name, button in self.rooms.items():
            button.setChecked(name == (shown.under or shown.name))
        for room in self._every:
            self._offer(room)
