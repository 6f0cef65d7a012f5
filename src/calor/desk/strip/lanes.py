"""The lanes of the strip: charts of curves over one time axis."""

from __future__ import annotations

from typing import Any

import numpy as np
from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from calor.desk.widgets import theme as look
from calor.desk.widgets.painting import Curve, figure, paint_curve, polygon, thinned, time_ticks, value_ticks

LEFT_PX, RIGHT_PX = 44, 10
HALF_FIGURE_PX = 5


class Line:
    """A line across a lane at an instant."""

    def __init__(self, lane: Lane) -> None:
        self._lane, self.shown, self.at_s = lane, False, 0.0

    def show_at(self, at_s: float | None) -> None:
        """Stand at an instant; None hides it."""
        before = (self.shown, self.at_s)
        self.shown, self.at_s = at_s is not None, self.at_s if at_s is None else at_s
        if before != (self.shown, self.at_s):
            self._lane.update()


class Lane(QWidget):
    """One chart: named curves, a band around the setpoint, no mouse of its own. Painted at one go, from columns."""

    def __init__(self, most_ticks: int = 5) -> None:
        super().__init__()
        self._most_ticks = most_ticks
        self._theme = look.LIGHT
        self.curves: dict[str, Curve] = {}
        self._band: tuple[Any, Any, Any, str] | None = None
        self._x, self._y = (0.0, 1.0), (0.0, 1.0)
        self.lines = [Line(self) for _ in range(3)]
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setMinimumHeight(40)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)

    def pixels(self) -> int:
        """Width of the drawn part."""
        return max(self.width() - LEFT_PX - RIGHT_PX, 50)

    def draw(
        self, name: str, points: tuple[Any, Any] | None, colour: str, dash: bool = False, z: int = 0, width: float = 1.6
    ) -> None:
        """Show points as a curve; None takes it away."""
        x, y = points if points is not None else (np.empty(0), np.empty(0))
        self.curves[name] = Curve(x, y, colour, width, dash, z)
        self.update()

    def draw_band(self, times: Any, low: Any, high: Any, colour: str) -> None:
        """Shade between two curves."""
        self._band = (times, low, high, colour)
        self.update()

    def set_theme(self, t: look.Theme) -> None:
        """Take a theme's colours."""
        self._theme = t
        self.update()

    def show_span(self, begin_s: float, end_s: float) -> None:
        """Show a stretch of time."""
        self._x = (begin_s, end_s)
        self.update()

    def show_values(self, low: float, high: float) -> None:
        """Show a range of values."""
        self._y = (low, high)
        self.update()

    @property
    def values(self) -> tuple[float, float]:
        """The range of values that is shown."""
        return self._y

    def _to_x(self, times: Any) -> Any:
        begin, end = self._x
        return LEFT_PX + (times - begin) * (self.pixels() / max(end - begin, 1e-12))

    def _to_y(self, values: Any) -> Any:
        low, high = self._y
        return (high - values) * ((self.height() - 1.0) / max(high - low, 1e-12))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        del event
        t, painter, high = self._theme, QPainter(self), self.height() - 1
        painter.fillRect(self.rect(), QColor(t.ground))
        ticks = thinned(value_ticks(*self._y, self._most_ticks), high)
        self._paint_grid(painter, ticks)
        painter.setClipRect(QRectF(LEFT_PX, 0, self.pixels(), high + 1))
        if self._band is not None and len(self._band[0]):
            times, low, top, colour = self._band
            x = self._to_x(np.concatenate((times, times[::-1])))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(QColor(colour))
            painter.drawPolygon(polygon(x, self._to_y(np.concatenate((low, top[::-1])))))
            painter.setBrush(Qt.BrushStyle.NoBrush)
        for curve in sorted(self.curves.values(), key=lambda one: one.z):
            paint_curve(painter, curve, self._to_x, self._to_y)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.setPen(QPen(QColor(t.ink), 1))
        for line in self.lines:
            if line.shown:
                x = round(self._to_x(line.at_s))
                painter.drawLine(x, 0, x, high)

    def _paint_grid(self, painter: QPainter, ticks: list[float]) -> None:
        t, right = self._theme, LEFT_PX + self.pixels()
        painter.setPen(QColor(t.grid))
        for tick in time_ticks(*self._x):
            x = round(self._to_x(tick))
            painter.drawLine(x, 0, x, self.height() - 1)
        for tick in ticks:
            y = round(self._to_y(tick))
            painter.drawLine(LEFT_PX, y, right, y)
        painter.setFont(look.font(look.SMALL_PX))
        painter.setPen(QColor(t.quiet))
        for tick in ticks:
            y = self._to_y(tick)
            if not HALF_FIGURE_PX <= y <= self.height() - HALF_FIGURE_PX:
                continue  # half a figure says nothing
            place = QRectF(0, y - 8, LEFT_PX - 6, 16)
            painter.drawText(place, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, figure(tick))
