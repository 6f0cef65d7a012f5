"""The rail: the rooms that there are, and what belongs to no room."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QFrame, QPushButton, QVBoxLayout

from calor.desk.room import Room
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
        self.find_button, self.theme_button = QPushButton("Find\nCtrl+K"), QPushButton("Dark")
        for button in (self.find_button, self.theme_button):
            column.addWidget(button)

    def _word(self, room: Room) -> None:
        button = self.rooms[room.name]
        button.setText(f"{room.title}{' …' if room.at_work else ''}\n{room.purpose}")
        working = ", at work" if room.at_work else ""
        button.setAccessibleName(f"Room: {room.title}, {room.purpose}{working}")

    def show_room(self, shown: Room) -> None:
        """Mark the room on show."""
        for name, button in self.rooms.items():
            button.setChecked(name == (shown.under or shown.name))
