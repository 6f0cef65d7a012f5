"""Fitted numbers with their intervals: a dot, and a line as long as the interval is wide."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QFontMetricsF, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from calor.desk.widgets import theme as look
from calor.identify import told
from calor.identify.outcome import Number

ROW_PX = 34
WIDEST_SHARE = 0.25
"""An interval of so much of the value on both sides, or more, fills its line."""


class Whiskers(QWidget):
    """A row a number: its words, its value, and its interval; one that is not told is said so, in words as well."""

    def __init__(self) -> None:
        super().__init__()
        self.theme = look.LIGHT
        self.numbers: tuple[Number, ...] = ()
        self.titles: dict[str, str] = {}
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def show_numbers(self, numbers: tuple[Number, ...], titles: dict[str, str]) -> None:
        """Show fitted numbers; `titles` has each one's by its key."""
        self.numbers, self.titles = numbers, titles
        self.setAccessibleName("; ".join(f"{titles[item.key]} {told.in_words(item)}" for item in numbers))
        self.setToolTip("\n".join(f"{item.key}: {item.low:.5g} to {item.high:.5g} (95 %)" for item in numbers))
        self.updateGeometry()
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(200, max(len(self.numbers), 1) * ROW_PX)

    def minimumSizeHint(self) -> QSize:
        return self.sizeHint()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        del event
        t, painter, width = self.theme, QPainter(self), float(self.width())
        painter.setFont(look.font(look.SMALL_PX))
        metrics = QFontMetricsF(painter.font())
        for row, item in enumerate(self.numbers):
            top = row * ROW_PX
            value = told.in_words(item)
            painter.setPen(QColor(t.ink))
            room = width - metrics.horizontalAdvance(value) - 10
            words = metrics.elidedText(self.titles[item.key], Qt.TextElideMode.ElideRight, room)
            painter.drawText(QRectF(0, top, room, 17), Qt.AlignmentFlag.AlignVCenter, words)
            right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
            painter.drawText(QRectF(0, top, width, 17), right, value)
            colour = QColor(t.measured if item.is_told else t.failed)
            said = f"{self._share(item)}{'' if item.is_told else '  not told'}"
            left, end = 4.0, width - 112.0
            painter.setPen(QColor(t.quiet) if item.is_told else colour)
            painter.drawText(QRectF(0, top + 16, width, 15), right, said)
            middle, y = 0.5 * (left + end), top + 24.0
            painter.setPen(QPen(QColor(t.grid), 1))
            painter.drawLine(QPointF(left, y), QPointF(end, y))
            scale = 0.5 * (end - left) / (WIDEST_SHARE * max(abs(item.value), 1e-12))
            low = max(middle - (item.value - item.low) * scale, left)
            high = min(middle + (item.high - item.value) * scale, end)
            pen = QPen(colour, 2)
            if not item.is_told:
                pen.setDashPattern([2.0, 1.5])
            painter.setPen(pen)
            painter.drawLine(QPointF(low, y), QPointF(high, y))
            painter.setPen(QPen(colour, 2))
            for x in (low, high):
                painter.drawLine(QPointF(x, y - 4), QPointF(x, y + 4))
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setBrush(colour)
            painter.drawEllipse(QPointF(middle, y), 3.0, 3.0)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)

    @staticmethod
    def _share(item: Number) -> str:
        share = 50.0 * (item.high - item.low) / max(abs(item.value), 1e-300)
        return f"± {share:.2g} %" if share < 100.0 else "± > 100 %"
