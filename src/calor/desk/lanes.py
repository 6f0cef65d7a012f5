"""The lanes of the strip: charts of curves over one time axis, and rows of what was switched and what happened."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QFontMetricsF, QImage, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from calor.desk import theme as look
from calor.loop.trace import RunEvent
from calor.units import format_time_axis

LEFT_PX, RIGHT_PX = 44, 10
FEW_POINTS = 3000
CROWDED_PX, TICK_PX = 60, 13
_FIRST_NAMED = {"cut_out": 0, "alarm": 1, "probe_fault": 2, "in_band": 3}
_STEPS_S = (
    0.1, 0.2, 0.5, 1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 10800, 21600, 43200, 86400, 172800,
    432000, 864000, 1728000, 4320000, 8640000,
)  # fmt: skip


def time_ticks(begin_s: float, end_s: float, most: int = 9) -> list[float]:
    """Round instants between two times, at most about `most`."""
    step = next((step for step in _STEPS_S if (end_s - begin_s) / step <= most), _STEPS_S[-1])
    first = math.ceil(begin_s / step - 1e-9)
    last = math.floor(end_s / step + 1e-9)
    return [k * step for k in range(first, last + 1)]


def value_ticks(low: float, high: float, most: int = 5) -> list[float]:
    """Round values between two."""
    if not high > low:
        return []
    raw = (high - low) / most
    power = 10.0 ** math.floor(math.log10(raw))
    step = next(factor * power for factor in (1, 2, 2.5, 5, 10) if factor * power >= raw * 0.999)
    return [k * step for k in range(math.ceil(low / step - 1e-9), math.floor(high / step + 1e-9) + 1)]


class Axis(pg.AxisItem):
    """An axis with round ticks, quiet figures and a thin grid; `find` gives the ticks, `say` their figures."""

    def __init__(
        self,
        side: str,
        find: Callable[[float, float], list[float]],
        with_text: bool,
        say: Callable[[float], str] = "{:.6g}".format,
    ) -> None:
        super().__init__(side)
        self._find, self._say = find, say
        self.setStyle(tickLength=0, tickTextOffset=6, showValues=with_text, autoExpandTextSpace=False,
                      autoReduceTextSpace=False)  # fmt: skip
        self.setTickFont(look.font(look.SMALL_PX))

    def tickValues(self, low: float, high: float, size: float) -> list[tuple[float, list[float]]]:
        ticks = self._find(low, high)
        stride = math.ceil(len(ticks) * TICK_PX / max(size, TICK_PX)) if self.orientation == "left" else 1
        return [(1.0, ticks[::stride])]

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        del scale, spacing
        return [self._say(value).replace("-", "−") for value in values]


class Lane(pg.PlotWidget):
    """One chart: named curves, a band around the setpoint, no menus, no mouse of its own."""

    def __init__(self, most_ticks: int = 5) -> None:
        left = Axis("left", lambda low, high: value_ticks(low, high, most_ticks), True)
        bottom = Axis("bottom", time_ticks, False)
        super().__init__(axisItems={"left": left, "bottom": bottom})
        item = self.getPlotItem()
        item.hideButtons()
        item.setMenuEnabled(False)
        item.setContentsMargins(0, 0, RIGHT_PX, 0)
        item.layout.setContentsMargins(0, 0, 0, 0)
        item.getViewBox().setDefaultPadding(0.0)
        left.setWidth(LEFT_PX)
        bottom.setHeight(1)
        for axis in (left, bottom):
            axis.setGrid(255)
            axis.setZValue(-1000)
        self.setMouseEnabled(False, False)
        self.setFrameShape(pg.QtWidgets.QFrame.Shape.NoFrame)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setMinimumHeight(40)
        self.draft = False
        self._curves: dict[str, pg.PlotCurveItem] = {}
        self._band = pg.FillBetweenItem(pg.PlotCurveItem(), pg.PlotCurveItem())
        self._band.setZValue(-20)
        self.addItem(self._band)
        self.lines = [pg.InfiniteLine(angle=90) for _ in range(3)]
        for line in self.lines:
            line.setZValue(30)
            line.hide()
            self.addItem(line, ignoreBounds=True)

    def pixels(self) -> int:
        """Width of the drawn part."""
        return max(int(self.getPlotItem().getViewBox().width()), 50)

    def curve(self, name: str, z: int = 0) -> pg.PlotCurveItem:
        """The curve called `name`, made when first asked for."""
        if name not in self._curves:
            made = pg.PlotCurveItem(connect="finite", skipFiniteCheck=False)
            made.setZValue(z)
            self._curves[name] = made
            self.addItem(made)
        return self._curves[name]

    def draw(
        self, name: str, points: tuple[Any, Any] | None, colour: str, dash: bool = False, z: int = 0, width: float = 1.6
    ) -> None:
        """Show points as a curve; None takes it away. A line with many points is thin, which draws far faster."""
        item = self.curve(name, z)
        if points is None:
            item.setData([], [])
            return
        few = len(points[0]) < FEW_POINTS and width > 1.0 and not self.draft
        pen = pg.mkPen(colour, width=width if few else 1)
        if dash:
            pen.setStyle(Qt.PenStyle.CustomDashLine)
            pen.setDashPattern([5, 3])
        item.setData(points[0], points[1], pen=pen, antialias=few, connect="finite")

    def draw_band(self, times: Any, low: Any, high: Any, colour: str) -> None:
        """Shade between two curves."""
        first, second = pg.PlotCurveItem(times, low), pg.PlotCurveItem(times, high)
        self._band.setCurves(first, second)
        self._band.setBrush(QColor(colour))

    def set_theme(self, t: look.Theme) -> None:
        """Take a theme's colours."""
        self.setBackground(t.ground)
        for side in ("left", "bottom"):
            axis = self.getAxis(side)
            axis.setPen(pg.mkPen(t.grid))
            axis.setTickPen(pg.mkPen(t.grid))
            axis.setTextPen(pg.mkPen(t.quiet))
        for line in self.lines:
            line.setPen(pg.mkPen(t.ink, width=1))

    def show_span(self, begin_s: float, end_s: float) -> None:
        """Show a stretch of time."""
        self.getPlotItem().getViewBox().setXRange(begin_s, end_s, padding=0)

    def show_values(self, low: float, high: float) -> None:
        """Show a range of values."""
        self.getPlotItem().getViewBox().setYRange(low, high, padding=0)


@dataclass
class Row:
    """One row of switching: its name, the mean output under each pixel, its colour."""

    name: str
    share: Any
    colour: str


class Rows(QWidget):
    """What was switched, what happened, and the time axis, under the charts and in line with them."""

    ROW_PX, EVENTS_PX, AXIS_PX = 18, 40, 22

    def __init__(self) -> None:
        super().__init__()
        self.theme = look.LIGHT
        self.rows: list[Row] = []
        self.caption = "heater on"
        self.events: list[tuple[RunEvent, str]] = []
        self.span = (0.0, 1.0)
        self.calipers: list[float] = []
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def sizeHint(self) -> QSize:
        return QSize(400, 18 + max(len(self.rows), 1) * self.ROW_PX + 16 + self.EVENTS_PX + self.AXIS_PX)

    def minimumSizeHint(self) -> QSize:
        return self.sizeHint()

    def x_of(self, time_s: float) -> float:
        """Pixel of an instant."""
        begin, end = self.span
        return LEFT_PX + (time_s - begin) / (end - begin) * (self.width() - LEFT_PX - RIGHT_PX)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        del event
        t = self.theme
        painter = QPainter(self)
        painter.setFont(look.font(look.SMALL_PX))
        width = self.width() - LEFT_PX - RIGHT_PX
        top = 18
        painter.setPen(QColor(t.quiet))
        painter.drawText(
            QRectF(LEFT_PX, 0, width, 16), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, self.caption
        )
        for row in self.rows:
            self._paint_row(painter, row, top)
            top += self.ROW_PX
        painter.setPen(QColor(t.quiet))
        painter.drawText(
            QRectF(LEFT_PX, top + 1, width, 15), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, "events"
        )
        self._paint_events(painter, top + 16)
        axis_top = top + 16 + self.EVENTS_PX
        painter.setPen(QPen(QColor(t.rule), 1))
        painter.drawLine(QPointF(LEFT_PX, axis_top), QPointF(LEFT_PX + width, axis_top))
        self._paint_axis(painter, axis_top)
        painter.setPen(QPen(QColor(t.ink), 1))
        for time_s in self.calipers:
            x = round(self.x_of(time_s))
            if LEFT_PX <= x <= LEFT_PX + width:
                painter.drawLine(x, 0, x, int(axis_top))

    def _paint_row(self, painter: QPainter, row: Row, top: int) -> None:
        t = self.theme
        width = self.width() - LEFT_PX - RIGHT_PX
        height = self.ROW_PX - 4
        place = QRectF(LEFT_PX, top + 1, width, height)
        painter.fillRect(place, QColor(t.grid))
        if len(self.rows) > 1:
            painter.setPen(QColor(t.quiet))
            painter.drawText(
                QRectF(0, top, LEFT_PX - 6, self.ROW_PX - 2),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                row.name,
            )
        if row.share is None or not len(row.share):
            return
        colour = QColor(row.colour)
        pixels = np.zeros((1, len(row.share), 4), np.uint8)
        pixels[..., 0], pixels[..., 1], pixels[..., 2] = colour.blue(), colour.green(), colour.red()
        pixels[0, :, 3] = np.round(np.clip(row.share, 0.0, 1.0) * 255.0)
        image = QImage(pixels.data, len(row.share), 1, 4 * len(row.share), QImage.Format.Format_ARGB32)
        painter.drawImage(place, image)

    def _paint_events(self, painter: QPainter, top: int) -> None:
        metrics = QFontMetricsF(painter.font())
        right_edge = self.width() - RIGHT_PX
        marks: list[tuple[float, float, int, RunEvent, str]] = []
        for event, colour in self.events:
            x = self.x_of(event.at_s)
            until = self.x_of(event.until_s) if math.isfinite(event.until_s) else x
            if until < LEFT_PX - 2 or x > right_edge + 2:
                continue
            x = max(x, LEFT_PX)
            end = min(max(until, x + (3.0 if math.isfinite(event.until_s) else 8.0)), right_edge + 4)
            # two marks that would crowd one line share both
            crowded = any(line == 0 and x < other_end + CROWDED_PX for _, other_end, line, _, _ in marks)
            marks.append((x, end, 1 if crowded else 0, event, colour))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        for x, end, line, event, colour in marks:
            middle = top + 9 + line * 19
            painter.setBrush(QColor(colour))
            if math.isfinite(event.until_s):
                painter.drawRect(QRectF(x, middle - 6, end - x, 12))
            else:
                painter.drawEllipse(QPointF(x + 4, middle), 4.0, 4.0)
        taken = [(x, end, line) for x, end, line, _, _ in marks]
        painter.setPen(QColor(self.theme.quiet))
        for x, end, line, event, _ in sorted(marks, key=lambda mark: _FIRST_NAMED.get(mark[3].kind, 9)):
            length = metrics.horizontalAdvance(event.text) + 4
            for at in (end + 4, x - length - 4):
                fits = at >= LEFT_PX - 2 and at + length <= self.width() - 6
                if fits and not any(line == o and at < e + 3 and at + length > b - 3 for b, e, o in taken):
                    place = QRectF(at, top + line * 19, length, 18)
                    painter.drawText(place, Qt.AlignmentFlag.AlignVCenter, event.text)
                    taken.append((at, at + length, line))
                    break
            else:
                left, right = max(x, LEFT_PX), min(end, right_edge)
                if math.isfinite(event.until_s) and right - left > length + 8:  # in the bar, where it is all there is
                    painter.setPen(QColor(self.theme.ground))
                    place = QRectF(left + 5, top + line * 19, length, 18)
                    painter.drawText(place, Qt.AlignmentFlag.AlignVCenter, event.text)
                    painter.setPen(QColor(self.theme.quiet))
        if not self.events:
            painter.drawText(QRectF(LEFT_PX, top, 400, 18), Qt.AlignmentFlag.AlignVCenter, "none in this trial")

    def _paint_axis(self, painter: QPainter, top: float) -> None:
        metrics = QFontMetricsF(painter.font())
        painter.setPen(QColor(self.theme.quiet))
        for tick in time_ticks(*self.span):
            text = format_time_axis(tick)
            length = metrics.horizontalAdvance(text) + 2
            x = min(max(self.x_of(tick) - length / 2, 0.0), self.width() - length)
            painter.drawText(QRectF(x, top + 3, length, 16), Qt.AlignmentFlag.AlignCenter, text)


class Legend(QWidget):
    """What each line style stands for."""

    def __init__(self) -> None:
        super().__init__()
        self.theme = look.LIGHT
        self.entries: list[tuple[str, str, str]] = []
        self.setFixedHeight(20)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        del event
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(look.font(look.SMALL_PX))
        metrics = QFontMetricsF(painter.font())
        x = 0.0
        for text, colour, style in self.entries:
            pen = QPen(QColor(colour), 2)
            if style == "dash":
                pen.setDashPattern([2.5, 1.5])
            if style == "dot":
                pen.setDashPattern([1, 1.5])
            painter.setPen(pen)
            painter.drawLine(QPointF(x, 10), QPointF(x + 18, 10))
            painter.setPen(QColor(self.theme.ink))
            room = self.width() - x - 24
            if room < 30:
                break
            shown = metrics.elidedText(text, Qt.TextElideMode.ElideRight, room)
            painter.drawText(QRectF(x + 23, 0, room, 20), Qt.AlignmentFlag.AlignVCenter, shown)
            x += 23 + metrics.horizontalAdvance(shown) + 14
