"""Bars stacked by cause, and the list of causes beside them."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from PyQt6.QtCore import QEvent, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QBrush, QColor, QFontMetricsF, QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from calor.desk.widgets import theme as look
from calor.desk.widgets.painting import value_ticks


class Bars(QWidget):
    """Stacked bars over temperature, each part a cause, numbered as in the list beside them."""

    pointed = pyqtSignal(str)
    LIST_PX, SMALL_LIST_PX, FEWEST_BARS_PX, BAR_PX = 252, 186, 110, 16

    def __init__(self) -> None:
        super().__init__()
        self.theme = look.LIGHT
        self.setMouseTracking(True)
        self._columns: list[tuple[float, float, int]] = []
        self.unit = ""
        self.places: list[float] = []
        self.parts: list[tuple[str, Any]] = []
        self.total: Any = np.empty(0)
        self.here: dict[str, float] = {}
        self.footer: list[tuple[str, str]] = []
        self.empty = ""
        self.setMinimumHeight(150)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def read_at(self, x: float) -> str:
        """The bar at a pixel in words: its temperature and what its causes add up to; empty where there is none."""
        column = next((k for left, right, k in self._columns if left <= x < right), None)
        if column is None:
            return ""
        total = float(self.total[column])
        said = f"{total:.3g} {self.unit} at worst" if math.isfinite(total) else "not read here"
        return f"at {self.places[column]:.4g} {self.unit}: {said}".replace("-", "−")

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is not None:
            self.pointed.emit(self.read_at(event.position().x()))

    def leaveEvent(self, event: QEvent | None) -> None:
        del event
        self.pointed.emit("")

    def _list_px(self) -> float:
        return float(self.LIST_PX if self.width() - self.LIST_PX > self.FEWEST_BARS_PX else self.SMALL_LIST_PX)

    def colours(self) -> list[str]:
        """A colour for each cause, in order; from the seventh on they come again, hatched."""
        t = self.theme
        return [t.measured, t.heat, t.setpoint, t.cool, t.passed, t.pinned]

    def brush(self, number: int) -> Any:
        """The fill of the cause of that number."""
        colour = QColor(self.colours()[number % 6])
        fill = QBrush(colour)
        if number >= 6:
            fill.setStyle(Qt.BrushStyle.BDiagPattern)
        return fill

    def paintEvent(self, event: QPaintEvent | None) -> None:
        del event
        painter = QPainter(self)
        painter.setFont(look.font(look.SMALL_PX))
        painter.setPen(QColor(self.theme.quiet))
        if not self.parts:
            place = QRectF(0, 0, self.width(), self.height())
            painter.drawText(place, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self.empty)
            return
        self._paint_bars(painter)
        self._paint_list(painter)

    def _paint_bars(self, painter: QPainter) -> None:
        t = self.theme
        left, right = 40.0, self.width() - self._list_px() - 12.0
        top, bottom = 6.0, self.height() - 20.0
        highest = float(np.nanmax(self.total, initial=0.0)) * 1.04 or 1.0
        ticks = value_ticks(0.0, highest, 5)
        for tick in ticks:
            y = bottom - tick / highest * (bottom - top)
            painter.setPen(QColor(t.grid))
            painter.drawLine(int(left), int(y), int(right), int(y))
            painter.setPen(QColor(t.quiet))
            painter.drawText(
                QRectF(0, y - 8, left - 6, 16),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                f"{tick:.4g}",
            )
        metrics = QFontMetricsF(painter.font())
        # where there is little room, every second or third bar
        stride = next((n for n in range(1, 9) if (right - left) * n / len(self.places) >= self.BAR_PX), 9)
        shown = list(enumerate(self.places))[::stride]
        step = (right - left) / len(shown)
        self._columns = [(left + n * step, left + (n + 1) * step, k) for n, (k, _) in enumerate(shown)]
        for column, (k, place) in enumerate(shown):
            x, y = left + column * step, bottom
            for number, (_, heights) in enumerate(self.parts):
                value = float(heights[k])
                if not math.isfinite(value) or value <= 0.0:
                    continue
                height = value / highest * (bottom - top)
                bar = QRectF(x + 2, y - height, step - 4, height)
                painter.fillRect(bar, QColor(t.ground))
                painter.fillRect(bar, self.brush(number))
                if height >= 14.0 and number < 6:
                    painter.setPen(QColor(t.ground))
                    painter.drawText(bar, Qt.AlignmentFlag.AlignCenter, str(number + 1))
                y -= height
            painter.setPen(QColor(t.quiet))
            if y == bottom:  # not a bar of height 0: there is no reading here
                painter.drawText(QRectF(x, bottom - 18, step, 16), Qt.AlignmentFlag.AlignCenter, "–")
            text = f"{place:.4g}".replace("-", "−")
            every = 1 if step > metrics.horizontalAdvance(text) + 10 else 2 if step > 20 else 3
            if column % every == 0:
                painter.drawText(QRectF(x - 10, bottom + 3, step + 20, 16), Qt.AlignmentFlag.AlignCenter, text)

    def _paint_list(self, painter: QPainter) -> None:
        t = self.theme
        list_px = self._list_px()
        left, y = self.width() - list_px, 4.0
        row = min(18.0, (self.height() - 8.0) / max(len(self.parts) + len(self.footer), 1))
        metrics = QFontMetricsF(painter.font())
        for number, (name, _) in enumerate(self.parts):
            painter.fillRect(QRectF(left, y + 3, 10, row - 6), self.brush(number))
            painter.setPen(QColor(t.ink))
            value = self.here.get(name)
            shown = "–" if value is None else f"{value:.3f} {self.unit}"
            left_over = list_px - 16 - 8 - metrics.horizontalAdvance(shown)
            text = metrics.elidedText(f"{number + 1}  {name}", Qt.TextElideMode.ElideRight, left_over)
            painter.drawText(QRectF(left + 16, y, list_px - 16, row), Qt.AlignmentFlag.AlignVCenter, text)
            painter.drawText(
                QRectF(left, y, list_px, row), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, shown
            )
            y += row
        painter.setPen(QColor(t.rule))
        painter.drawLine(int(left), int(y + 1), int(left + list_px), int(y + 1))
        y += 3.0
        for name, shown in self.footer:
            painter.setPen(QColor(t.ink))
            painter.drawText(QRectF(left + 16, y, list_px, row), Qt.AlignmentFlag.AlignVCenter, name)
            painter.drawText(
                QRectF(left, y, list_px, row), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, shown
            )
            y += row
