"""The drawn part of a chart: curves, marks and a shaded stretch over two axes."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from calor.desk.widgets import theme as look
from calor.desk.widgets.painting import Curve, doubling_ticks, figure, log_ticks, paint_curve, thinned, value_ticks

LEFT_PX, RIGHT_PX, TOP_PX, BOTTOM_PX = 50, 10, 4, 20
MARK_PX = 8


class Plot(QWidget):
    """Curves over two axes, each straight or logarithmic. It has no menus; the pointer only reads it."""

    def __init__(self, logarithmic: tuple[bool, bool], most_ticks: tuple[int, int]) -> None:
        super().__init__()
        self._logarithmic, self._most_ticks = logarithmic, most_ticks
        self.doubles = True
        """Whether a logarithmic x axis is ticked by doublings, as sizes are."""
        self.theme = look.LIGHT
        self.range = ((0.0, 1.0), (0.0, 1.0))
        self.curves: dict[str, Curve] = {}
        self.points: dict[str, tuple[Any, Any, str, str]] = {}
        self.band: tuple[float, float] | None = None
        self.marked_x: float | None = None
        self.marked_y: float | None = None
        self.pointer: float | None = None
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setMouseTracking(True)
        self.setMinimumHeight(60)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Ignored)

    def _inner(self) -> QRectF:
        wide = max(self.width() - LEFT_PX - RIGHT_PX, 1)
        return QRectF(LEFT_PX, TOP_PX, wide, max(self.height() - TOP_PX - BOTTOM_PX, 1))

    def to_x(self, x: Any) -> Any:
        """Pixel of a place on the x axis."""
        (low, high), inner = self.range[0], self._inner()
        return inner.left() + (x - low) * (inner.width() / max(high - low, 1e-300))

    def to_y(self, y: Any) -> Any:
        """Pixel of a place on the y axis."""
        (low, high), inner = self.range[1], self._inner()
        return inner.top() + (high - y) * (inner.height() / max(high - low, 1e-300))

    def to_place(self, point: Any) -> QPointF:
        """Which place a pixel shows."""
        (x0, x1), (y0, y1), inner = *self.range, self._inner()
        across = x0 + (point.x() - inner.left()) / inner.width() * (x1 - x0)
        return QPointF(across, y1 - (point.y() - inner.top()) / inner.height() * (y1 - y0))

    def _ticks(self) -> tuple[list[float], list[float]]:
        (low, high), most = self.range[0], self._most_ticks
        across = value_ticks(low, high, most[0])
        if self._logarithmic[0]:
            across = doubling_ticks(low, high) if self.doubles else log_ticks(low, high)
        up = log_ticks(*self.range[1]) if self._logarithmic[1] else value_ticks(*self.range[1], most[1])
        return across, thinned(up, self._inner().height())

    def _say(self, value: float, axis: int) -> str:
        return f"{10.0**value:.3g}" if self._logarithmic[axis] else figure(value)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        del event
        painter, inner = QPainter(self), self._inner()
        painter.fillRect(self.rect(), QColor(self.theme.ground))
        if self.band is not None:
            left, right = (self.to_x(x) for x in self.band)
            painter.fillRect(QRectF(left, inner.top(), right - left, inner.height()) & inner, QColor(self.theme.band))
        self._paint_axes(painter, inner)
        painter.setClipRect(inner.adjusted(0, -1, 1, 1))
        for curve in self.curves.values():
            paint_curve(painter, curve, self.to_x, self.to_y)
        self._paint_points(painter)
        self._paint_lines(painter, inner)

    def _paint_axes(self, painter: QPainter, inner: QRectF) -> None:
        """The grid and the figures beside it; figures that would touch are left out."""
        across, up = self._ticks()
        painter.setPen(QColor(self.theme.grid))
        for tick in across:
            x = round(self.to_x(tick))
            painter.drawLine(x, int(inner.top()), x, int(inner.bottom()))
        for tick in up:
            y = round(self.to_y(tick))
            painter.drawLine(int(inner.left()), y, int(inner.right()), y)
        painter.setFont(look.font(look.SMALL_PX))
        painter.setPen(QColor(self.theme.quiet))
        for tick in up:
            place = QRectF(0, self.to_y(tick) - 8, LEFT_PX - 6, 16)
            painter.drawText(place, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, self._say(tick, 1))
        taken, metrics = -1e9, painter.fontMetrics()
        for tick in across:
            text = self._say(tick, 0)
            x, half = self.to_x(tick), metrics.horizontalAdvance(text) / 2.0
            if x - half >= taken + 4 and x + half <= self.width():
                taken = x + half
                painter.drawText(QRectF(x - 40, inner.bottom() + 4, 80, 16), Qt.AlignmentFlag.AlignCenter, text)

    def _paint_points(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for xs, ys, colour, symbol in self.points.values():
            painter.setPen(QPen(QColor(colour), 1.5))
            painter.setBrush(QColor(colour) if symbol == "o" else Qt.BrushStyle.NoBrush)
            for x, y in zip(self.to_x(xs), self.to_y(ys), strict=True):
                box = QRectF(x - MARK_PX / 2, y - MARK_PX / 2, MARK_PX, MARK_PX)
                if symbol == "o":
                    painter.drawEllipse(box)
                else:
                    painter.drawRect(box)

    def _paint_lines(self, painter: QPainter, inner: QRectF) -> None:
        """What is marked on either axis, and the pointer."""
        t, dashed = self.theme, Qt.PenStyle.DashLine
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        for at, colour, style in (
            (self.marked_x, t.setpoint, dashed), (self.pointer, t.ink, Qt.PenStyle.SolidLine),
        ):  # fmt: skip
            if at is not None:
                painter.setPen(QPen(QColor(colour), 1, style))
                painter.drawLine(round(self.to_x(at)), int(inner.top()), round(self.to_x(at)), int(inner.bottom()))
        if self.marked_y is not None:
            painter.setPen(QPen(QColor(t.quiet), 1, dashed))
            y = round(self.to_y(self.marked_y))
            painter.drawLine(int(inner.left()), y, int(inner.right()), y)

    def wheelEvent(self, event: Any) -> None:
        event.ignore()
