"""The front of the device: its two lines of figures as they are on it, and its three keys to be pressed."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFont, QPainter
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from calor.desk.widgets import theme as look

LETTER_PX, LINE_PX, EDGE_PX = 19, 26, 10
KEYS = {"down": "Down", "up": "Up", "set": "Set"}
HINTS = {
    "down": "Lower the value; held, it runs.", "up": "Raise the value; held, it runs.",
    "set": "Take over, or the next page; held: home, and from home the outputs off and on.",
}  # fmt: skip
NOTHING = " " * 16


class Lines(QWidget):
    """Two lines of letters, each in a place of its own."""

    def __init__(self) -> None:
        super().__init__()
        self.lines = (NOTHING, NOTHING)
        self._theme = look.LIGHT
        self.setFixedHeight(2 * LINE_PX + 2 * EDGE_PX)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        return QSize(236, 2 * LINE_PX + 2 * EDGE_PX)

    def show_lines(self, lines: tuple[str, str], theme: look.Theme) -> None:
        """Show two lines."""
        self.lines, self._theme = lines, theme
        self.setAccessibleName(f"Front of the device: {' '.join(lines[0].split())}; {' '.join(lines[1].split())}")
        self.update()

    def paintEvent(self, event: Any) -> None:
        del event
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(QColor(self._theme.rail))
        painter.drawRoundedRect(QRectF(self.rect()), 4, 4)
        font = QFont(look.MONO)
        font.setPixelSize(LETTER_PX)
        painter.setFont(font)
        painter.setPen(QColor(self._theme.rail_ink))
        letters = max(len(self.lines[0]), 1)
        wide = min((self.width() - 2 * EDGE_PX) / letters, LETTER_PX * 0.75)
        left = (self.width() - wide * letters) / 2
        for row, line in enumerate(self.lines):
            for place, letter in enumerate(line):
                box = QRectF(left + place * wide, EDGE_PX + row * LINE_PX, wide, LINE_PX)
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, letter)


class Front(QFrame):
    """Lines over keys. `held` says which keys are down, as often as that changes."""

    held = pyqtSignal(tuple)

    def __init__(self) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.lines = Lines()
        column.addWidget(self.lines)
        row = QHBoxLayout()
        row.setSpacing(6)
        self.keys: dict[str, QPushButton] = {}
        for key, word in KEYS.items():
            button = QPushButton(word)
            button.setToolTip(HINTS[key])
            button.setAccessibleName(f"Key {word} of the device")
            button.pressed.connect(self._tell)
            button.released.connect(self._tell)
            self.keys[key] = button
            row.addWidget(button)
        column.addLayout(row)

    def _tell(self) -> None:
        self.held.emit(tuple(key for key, button in self.keys.items() if button.isDown()))

    def show_front(self, lines: tuple[str, str] | None, theme: look.Theme) -> None:
        """Show the lines of a board's front, or that nothing is known of it yet."""
        self.lines.show_lines(lines or (NOTHING, NOTHING), theme)
        for button in self.keys.values():
            button.setEnabled(lines is not None)
