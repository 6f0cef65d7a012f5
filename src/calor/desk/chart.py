"""A chart of one quantity over another: titled, with units on its axes, read at the pointer."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QEvent, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFontMetricsF, QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QSizePolicy, QVBoxLayout, QWidget

from calor.desk import theme as look
from calor.desk.fields import label
from calor.desk.lanes import Axis, value_ticks

LEFT_PX, RIGHT_PX = 50, 10


def log_ticks(low: float, high: float) -> list[float]:
    """Logarithms of 1, 2 and 5 times powers of ten between two logarithms; powers alone where there are many."""
    powers = range(math.floor(low), math.ceil(high) + 1)
    factors = (1.0, 2.0, 5.0) if high - low < 2.2 else (1.0,)
    ticks = [power + math.log10(factor) for power in powers for factor in factors]
    return [tick for tick in ticks if low - 1e-9 <= tick <= high + 1e-9]


def doubling_ticks(low: float, high: float) -> list[float]:
    """Logarithms (to 10) of the powers of two between two."""
    step = math.log10(2.0)
    return [k * step for k in range(math.ceil(low / step - 1e-9), math.floor(high / step + 1e-9) + 1)]


class Plot(pg.PlotWidget):
    """The drawn part of a chart. It has no menus; the pointer only reads it."""

    def __init__(self, logarithmic: bool, most_ticks: tuple[int, int]) -> None:
        across, up = most_ticks
        if logarithmic:
            power = lambda value: f"{10.0**value:.3g}"  # noqa: E731
            axes = {"left": Axis("left", log_ticks, True, power), "bottom": Axis("bottom", doubling_ticks, True, power)}
        else:
            axes = {
                "left": Axis("left", lambda a, b: value_ticks(a, b, up), True),
                "bottom": Axis("bottom", lambda a, b: value_ticks(a, b, across), True),
            }
        super().__init__(axisItems=axes)
        item = self.getPlotItem()
        item.hideButtons()
        item.setMenuEnabled(False)
        item.setContentsMargins(0, 4, RIGHT_PX, 0)
        item.getViewBox().setDefaultPadding(0.0)
        axes["left"].setWidth(LEFT_PX)
        axes["bottom"].setHeight(20)
        for axis in axes.values():
            axis.setGrid(255)
            axis.setZValue(-1000)
        self.setMouseEnabled(False, False)
        self.setFrameShape(pg.QtWidgets.QFrame.Shape.NoFrame)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setMouseTracking(True)
        self.setMinimumHeight(60)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Ignored)

    def wheelEvent(self, event: Any) -> None:
        event.ignore()


class Chart(QWidget):
    """A title with its units, a plot, and at the pointer a line with both axes read."""

    def __init__(self, title: str, logarithmic: bool = False, most_ticks: tuple[int, int] = (7, 5)) -> None:
        super().__init__()
        self._logarithmic = logarithmic
        self._read: Callable[[float], str] | None = None
        self._theme = look.LIGHT
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        self.title = label(title, "quiet")
        self._title_text = title
        self.plot = Plot(logarithmic, most_ticks)
        column.addWidget(self.title)
        column.addWidget(self.plot, 1)
        self._curves: dict[str, pg.PlotCurveItem] = {}
        self._points: dict[str, pg.ScatterPlotItem] = {}
        self._band = pg.LinearRegionItem(movable=False)
        self._band.setZValue(-30)
        for line in self._band.lines:
            line.hide()
        self._band.hide()
        self.plot.addItem(self._band, ignoreBounds=True)
        self._marks = {angle: pg.InfiniteLine(angle=angle) for angle in (0, 90)}
        self._pointer = pg.InfiniteLine(angle=90)
        for line in (*self._marks.values(), self._pointer):
            line.hide()
            self.plot.addItem(line, ignoreBounds=True)
        viewport = self.plot.viewport()
        if viewport is not None:
            viewport.installEventFilter(self)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def set_title(self, text: str) -> None:
        """Name what is drawn over what, with units."""
        self._title_text = text
        self.title.setText(text)

    def set_theme(self, t: look.Theme) -> None:
        """Take a theme's colours."""
        self._theme = t
        self.plot.setBackground(t.ground)
        for side in ("left", "bottom"):
            axis = self.plot.getAxis(side)
            axis.setPen(pg.mkPen(t.grid))
            axis.setTickPen(pg.mkPen(t.grid))
            axis.setTextPen(pg.mkPen(t.quiet))
        self._band.setBrush(QColor(t.band))
        self._pointer.setPen(pg.mkPen(t.ink))
        self._marks[90].setPen(pg.mkPen(t.setpoint, width=1, style=Qt.PenStyle.DashLine))
        self._marks[0].setPen(pg.mkPen(t.quiet, width=1, style=Qt.PenStyle.DashLine))

    def _to(self, values: Any) -> Any:
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.log10(np.asarray(values, float)) if self._logarithmic else np.asarray(values, float)

    def draw(self, name: str, x: Any, y: Any, colour: str, width: float = 1.8) -> None:
        """Show points as a curve."""
        if name not in self._curves:
            self._curves[name] = pg.PlotCurveItem(connect="finite")
            self.plot.addItem(self._curves[name])
        pen = pg.mkPen(colour, width=width)
        self._curves[name].setData(self._to(x), self._to(y), pen=pen, antialias=True, connect="finite")

    def mark_points(self, name: str, x: Any, y: Any, colour: str, symbol: str = "o") -> None:
        """Show points as marks, filled circles or open squares."""
        if name not in self._points:
            self._points[name] = pg.ScatterPlotItem(size=8)
            self.plot.addItem(self._points[name])
        brush = pg.mkBrush(colour) if symbol == "o" else pg.mkBrush(None)
        self._points[name].setData(
            self._to(x), self._to(y), symbol=symbol, pen=pg.mkPen(colour, width=1.5), brush=brush
        )

    def shade(self, low: float, high: float) -> None:
        """Shade a stretch of the x axis."""
        self._band.setRegion((float(self._to(low)), float(self._to(high))))
        self._band.show()

    def mark(self, x: float | None = None, y: float | None = None) -> None:
        """Mark a place on the x axis, and one on the y axis, by a dashed line."""
        for angle, value in ((90, x), (0, y)):
            self._marks[angle].setVisible(value is not None)
            if value is not None:
                self._marks[angle].setPos(float(self._to(value)))

    def show_range(self, x: tuple[float, float], y: tuple[float, float]) -> None:
        """Show a range of both axes."""
        box = self.plot.getPlotItem().getViewBox()
        (x0, x1), (y0, y1) = self._to(x), self._to(y)
        box.setRange(xRange=(x0, x1), yRange=(y0, y1 if y1 > y0 else y0 + 1.0), padding=0)

    def read_with(self, read: Callable[[float], str] | None) -> None:
        """What to say at the pointer, from its place on the x axis."""
        self._read = read

    def read_at(self, x: float) -> str:
        """What is said where the pointer is at `x`."""
        return self._read(x) if self._read is not None else ""

    def eventFilter(self, watched: Any, event: Any) -> bool:
        if event.type() == QEvent.Type.MouseMove and isinstance(event, QMouseEvent) and self._read is not None:
            scene = self.plot.mapToScene(event.position().toPoint())
            place = self.plot.getPlotItem().getViewBox().mapSceneToView(scene)
            low, high = self.plot.getPlotItem().getViewBox().viewRange()[0]
            inside = bool(low <= place.x() <= high)
            self._pointer.setVisible(inside)
            self._pointer.setPos(place.x())
            x = 10.0 ** place.x() if self._logarithmic else place.x()
            self.title.setText(self._read(x) if inside else self._title_text)
        elif event.type() == QEvent.Type.Leave:
            self._pointer.hide()
            self.title.setText(self._title_text)
        return super().eventFilter(watched, event)


def padded(values: Any, share: float = 0.08, at_least: float = 1e-6) -> tuple[float, float]:
    """The range of finite values with some room on both sides; 0 to 1 where there are none."""
    known = np.asarray(values, float)
    known = known[np.isfinite(known)]
    if not len(known):
        return 0.0, 1.0
    low, high = float(known.min()), float(known.max())
    room = max((high - low) * share, at_least)
    return low - room, high + room


class Bars(QWidget):
    """Stacked bars over temperature, each part a cause, numbered as in the list beside them."""

    pointed = pyqtSignal(str)
    LIST_PX, SMALL_LIST_PX, FEWEST_BARS_PX, BAR_PX = 226, 186, 110, 16

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
        found = next((k for left, right, k in self._columns if left <= x < right), None)
        if found is None:
            return ""
        total = float(self.total[found])
        said = f"{total:.3g} {self.unit} at worst" if math.isfinite(total) else "not read here"
        return f"at {self.places[found]:.4g} {self.unit}: {said}".replace("-", "−")

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
        made = pg.mkBrush(colour)
        if number >= 6:
            made.setStyle(Qt.BrushStyle.BDiagPattern)
        return made

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
            text = metrics.elidedText(f"{number + 1}  {name}", Qt.TextElideMode.ElideRight, list_px - 84)
            painter.drawText(QRectF(left + 16, y, list_px - 16, row), Qt.AlignmentFlag.AlignVCenter, text)
            value = self.here.get(name)
            shown = "–" if value is None else f"{value:.3f} {self.unit}"
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
