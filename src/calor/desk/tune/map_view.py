"""The verdict over gain and integral time, painted: green inside the limits, red beyond, a letter for what fails."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from calor.desk.widgets import theme as look
from calor.judge.verdict import LIMIT_TITLES
from calor.tune.verdict_map import VerdictMap
from calor.units import TemperatureUnit, difference_to

LEFT_PX, RIGHT_PX, TOP_PX, BOTTOM_PX = 50, 10, 22, 20
GOOD, BAD = 0.25, 1.0
"""Margins at which the colours are full."""
MARK_EVERY = 5
TICKS = (1.0, 2.0, 5.0)


class MapView(QWidget):
    """Shows a map as far as it is filled; a click picks a setting."""

    picked = pyqtSignal(float, float)
    """A gain per °C and an integral time, s."""

    def __init__(self) -> None:
        super().__init__()
        self.theme = look.LIGHT
        self.map: VerdictMap | None = None
        self.unit: TemperatureUnit = "°C"
        self.ms_bound = 1.6
        self.chosen: tuple[float, float] | None = None
        self._at: tuple[int, int] | None = None
        self.setAccessibleName("Map of the verdict over gain and integral time")
        self.setMouseTracking(True)
        self.setMinimumHeight(120)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Ignored)

    def set_theme(self, theme: look.Theme) -> None:
        """Take a theme's colours."""
        self.theme = theme
        self.update()

    def show_map(
        self, made: VerdictMap | None, unit: TemperatureUnit, ms_bound: float, chosen: tuple[float, float] | None
    ) -> None:
        """Show a map, perhaps one that is still being filled, and which setting is chosen."""
        self.map, self.unit, self.ms_bound, self.chosen = made, unit, ms_bound, chosen
        self.update()

    def _inner(self) -> QRectF:
        wide, high = self.width() - LEFT_PX - RIGHT_PX, self.height() - TOP_PX - BOTTOM_PX
        return QRectF(LEFT_PX, TOP_PX, max(wide, 1), max(high, 1))

    def place_of(self, point: QPointF) -> tuple[int, int] | None:
        """(row, column) of the place under a pixel; None outside."""
        inner = self._inner()
        if self.map is None or not inner.contains(point):
            return None
        rows, columns = self.map.margin.shape
        column = int((point.x() - inner.left()) / inner.width() * columns)
        row = rows - 1 - int((point.y() - inner.top()) / inner.height() * rows)
        return min(max(row, 0), rows - 1), min(max(column, 0), columns - 1)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        place = None if event is None else self.place_of(event.position())
        if place is not None and self.map is not None:
            self.picked.emit(float(self.map.gains_per_celsius[place[1]]), float(self.map.integral_times_s[place[0]]))

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        self._at = None if event is None else self.place_of(event.position())
        self.update()

    def leaveEvent(self, event: Any) -> None:
        del event
        self._at = None
        self.update()

    def heading(self) -> str:
        """What is said above: at the pointer the setting there, else what is shown."""
        if self.map is None:
            return ""
        if self._at is None:
            letters = ", ".join(f"{mark} {LIMIT_TITLES[name].split(',')[0].lower()}" for mark, name in self._marks())
            return f"Integral, s, over gain, %/{self.unit}; line: Ms {self.ms_bound:g}; missed: {letters}"
        row, column = self._at
        margin, first = self.map.margin[row, column], int(self.map.first[row, column])
        gain = 100.0 * self.map.gains_per_celsius[column] / difference_to(self.unit, 1.0)
        text = f"Gain {gain:.3g} %/{self.unit}, integral {self.map.integral_times_s[row]:.3g} s"
        if math.isnan(margin):
            return text
        title = LIMIT_TITLES.get(self.map.limits[first], "") if first >= 0 else ""
        says = f"passes, {100.0 * margin:.0f} % inside" if margin >= 0.0 else "fails"
        ms = self.map.ms[row, column]
        return f"{text}: {says}, {title.lower()}; {'unstable' if math.isinf(ms) else f'Ms {ms:.2f}'}"

    def _marks(self) -> list[tuple[str, str]]:
        """(letter, limit) of the limits that are missed somewhere."""
        assert self.map is not None
        missed = set(np.unique(self.map.first[self.map.margin < 0.0]).tolist())
        letters = marks_of(self.map.limits)
        return [(letters[k], name) for k, name in enumerate(self.map.limits) if k in missed]

    def paintEvent(self, event: QPaintEvent | None) -> None:
        del event
        painter, inner, t = QPainter(self), self._inner(), self.theme
        painter.fillRect(self.rect(), QColor(t.ground))
        font = painter.font()
        font.setPixelSize(look.SMALL_PX)
        painter.setFont(font)
        painter.setPen(QColor(t.quiet))
        said = painter.fontMetrics().elidedText(self.heading(), Qt.TextElideMode.ElideRight, self.width())
        painter.drawText(QRectF(0, 0, self.width(), TOP_PX), Qt.AlignmentFlag.AlignVCenter, said)
        if self.map is None:
            return
        rows, columns = self.map.margin.shape
        wide, high = inner.width() / columns, inner.height() / rows
        shown = filled(self.map.margin)
        for row in range(rows):
            top = inner.bottom() - (row + 1) * high
            for column in range(columns):
                value = shown[row, column]
                if not math.isnan(value):
                    painter.fillRect(
                        QRectF(inner.left() + column * wide, top, wide + 0.6, high + 0.6), self._colour(value)
                    )
        self._paint_bound(painter, inner, wide, high)
        self._paint_marks(painter, inner, wide, high)
        self._paint_axes(painter, inner)
        if self.chosen is not None:
            self._paint_chosen(painter, inner)

    def _colour(self, margin: float) -> QColor:
        t = self.theme
        end, share = (t.passed, min(margin / GOOD, 1.0)) if margin >= 0.0 else (t.failed, min(-margin / BAD, 1.0))
        ground, full = QColor(t.raised), QColor(end)
        share = 0.12 + 0.4 * share
        return QColor(
            *(round(a + (b - a) * share) for a, b in zip(ground.getRgb()[:3], full.getRgb()[:3], strict=True))
        )

    def _paint_bound(self, painter: QPainter, inner: QRectF, wide: float, high: float) -> None:
        """The edge between settings within the bound on Ms and beyond it."""
        assert self.map is not None
        ms = filled(self.map.ms)
        within = ms <= self.ms_bound
        rows, columns = within.shape
        painter.setPen(QPen(QColor(self.theme.setpoint), 1.6))
        for row in range(rows):
            for column in range(columns):
                x, y = inner.left() + (column + 1) * wide, inner.bottom() - row * high
                if column + 1 < columns and within[row, column] != within[row, column + 1]:
                    painter.drawLine(QPointF(x, y), QPointF(x, y - high))
                if row + 1 < rows and within[row, column] != within[row + 1, column]:
                    painter.drawLine(QPointF(x - wide, y - high), QPointF(x, y - high))

    def _paint_marks(self, painter: QPainter, inner: QRectF, wide: float, high: float) -> None:
        assert self.map is not None
        painter.setPen(QColor(self.theme.ink))
        letters = marks_of(self.map.limits)
        for row in range(2, self.map.margin.shape[0], MARK_EVERY):
            for column in range(2, self.map.margin.shape[1], MARK_EVERY):
                margin, first = self.map.margin[row, column], int(self.map.first[row, column])
                if margin < 0.0 and first >= 0:
                    place = QRectF(
                        inner.left() + column * wide - 6.0,
                        inner.bottom() - (row + 1) * high - 4.0,
                        wide + 12.0,
                        high + 8.0,
                    )
                    painter.drawText(place, Qt.AlignmentFlag.AlignCenter, letters[first])

    def _paint_axes(self, painter: QPainter, inner: QRectF) -> None:
        assert self.map is not None
        painter.setPen(QColor(self.theme.quiet))
        per = 100.0 / difference_to(self.unit, 1.0)
        for value in _ticks(self.map.gains_per_celsius * per):
            x = inner.left() + inner.width() * _share(self.map.gains_per_celsius * per, value)
            painter.drawText(QRectF(x - 30, inner.bottom() + 2, 60, 16), Qt.AlignmentFlag.AlignCenter, f"{value:g}")
        for value in _ticks(self.map.integral_times_s):
            y = inner.bottom() - inner.height() * _share(self.map.integral_times_s, value)
            painter.drawText(
                QRectF(0, y - 8, LEFT_PX - 6, 16),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                f"{value:g}",
            )

    def _paint_chosen(self, painter: QPainter, inner: QRectF) -> None:
        assert self.map is not None
        assert self.chosen is not None
        gain, ti_s = self.chosen
        if gain <= 0.0 or ti_s <= 0.0:
            return
        x = inner.left() + inner.width() * _share(self.map.gains_per_celsius, gain)
        y = inner.bottom() - inner.height() * _share(self.map.integral_times_s, ti_s)
        if inner.contains(QPointF(x, y)):
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(QPen(QColor(self.theme.ink), 1.6))
            painter.drawEllipse(QPointF(x, y), 5.0, 5.0)
            painter.drawLine(QPointF(x - 9, y), QPointF(x + 9, y))
            painter.drawLine(QPointF(x, y - 9), QPointF(x, y + 9))


def filled(values: Any) -> Any:
    """Values with each place that is not there yet as the one before it in its coarser net; NaN where there is none."""
    out = np.array(values, np.float64)
    for stride in (1, 2):
        known = ~np.isnan(out)
        for down, right in ((0, stride), (stride, 0), (stride, stride)):
            moved = np.full_like(out, np.nan)
            moved[down:, right:] = np.where(known, out, np.nan)[: out.shape[0] - down, : out.shape[1] - right]
            out = np.where(np.isnan(out), moved, out)
    return out


def marks_of(limits: tuple[str, ...]) -> list[str]:
    """A letter or two for each limit, no two alike."""
    marks: list[str] = []
    for name in limits:
        title = LIMIT_TITLES[name]
        mark = next((title[:k].strip() for k in range(1, len(title)) if title[:k].strip() not in marks), title)
        marks.append(mark)
    return marks


def _share(axis: Any, value: float) -> float:
    """Where a value lies on a logarithmic axis of places, 0 to 1; a place's middle is half a place in."""
    step = math.log(axis[1] / axis[0])
    return (math.log(value / axis[0]) / step + 0.5) / len(axis)


def _ticks(axis: Any) -> list[float]:
    low, high = float(axis[0]), float(axis[-1])
    every = [
        one * 10.0**power
        for power in range(math.floor(math.log10(low)), math.ceil(math.log10(high)) + 1)
        for one in TICKS
    ]
    return [value for value in every if low * 1.05 <= value <= high * 0.95]
