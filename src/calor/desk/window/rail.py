"""The rail: the rooms that there are, and what belongs to no room."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFrame, QPushButton, QVBoxLayout

from calor.desk.widgets.fields import label

ROOMS = {"loop": ("Loop", "design"), "code": ("Code", "firmware")}
"""The rooms on the rail, each with what it is for."""


class Rail(QFrame):
    """The rooms that there are, and what belongs to no room."""

    def __init__(self) -> None:
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
        for room, (name, what) in ROOMS.items():
            button = QPushButton(f"{name}\n{what}")
            button.setCheckable(True)
            button.setProperty("role", "room")
            button.setAccessibleName(f"Room: {name}, {what}")
            self.rooms[room] = button
            column.addWidget(button)
        column.addStretch(1)
        self.find, self.theme = QPushButton("Find\nCtrl+K"), QPushButton("Dark")
        for button in (self.find, self.theme):
            column.addWidget(button)
