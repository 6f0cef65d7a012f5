"""The mouse on the strip: wheel zooms, drag pans or moves a caliper, Shift and drag sets calipers."""

from __future__ import annotations

from typing import Protocol

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QMouseEvent, QWheelEvent
from PyQt6.QtWidgets import QWidget

from calor.desk.strip.lanes import LEFT_PX, RIGHT_PX, Lane
from calor.desk.strip.rows import Rows

NEAR_PX = 7
ZOOM_PER_STEP = 0.8


class Movable(Protocol):
    """What the mouse can do with a strip."""

    lanes: tuple[Lane, ...]
    rows: Rows
    whole: Lane
    calipers: list[float]

    def shown(self) -> tuple[float, float]: ...
    def time_at(self, x: float) -> float: ...
    def zoom(self, factor: float, about_s: float | None = None) -> None: ...
    def scale_close_up(self, factor: float) -> None: ...
    def look_at(self, begin_s: float, end_s: float) -> None: ...
    def restore(self) -> None: ...
    def set_calipers(self, on: bool) -> None: ...
    def move_caliper(self, number: int, time_s: float) -> None: ...
    def read_at(self, time_s: float | None) -> None: ...
    def redraw_when_settled(self) -> None: ...


class StripHand(QObject):
    """Listens to the lanes and turns what the mouse does into what the strip can do."""

    def __init__(self, strip: Movable, widget: QWidget) -> None:
        super().__init__(widget)
        self._widget = widget
        self._strip = strip
        self._grip: tuple[str, float, tuple[float, float]] | None = None
        for lane in strip.lanes:
            lane.installEventFilter(self)
            lane.setMouseTracking(True)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if event is None:
            return False
        kind = event.type()
        if isinstance(event, QWheelEvent):
            factor = ZOOM_PER_STEP ** (event.angleDelta().y() / 120.0)
            if event.modifiers() & Qt.KeyboardModifier.ControlModifier:
                self._strip.scale_close_up(factor)
            else:
                self._strip.zoom(factor, self._strip.time_at(event.position().x()))
            return True
        if isinstance(event, QMouseEvent):
            x = event.position().x()
            if kind == QEvent.Type.MouseButtonDblClick:
                self._strip.restore()
                return True
            if kind == QEvent.Type.MouseButtonPress and event.button() == Qt.MouseButton.LeftButton:
                self._widget.setFocus(Qt.FocusReason.MouseFocusReason)
                self._take_grip(x, bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier))
                return True
            if kind == QEvent.Type.MouseMove:
                self._move(x)
                return True
            if kind == QEvent.Type.MouseButtonRelease:
                self._grip = None
                return True
        if kind == QEvent.Type.Leave:
            self._strip.read_at(None)
        if kind == QEvent.Type.Resize:
            self._strip.redraw_when_settled()
        return super().eventFilter(watched, event)

    def _caliper_near(self, x: float) -> int | None:
        distances = [abs(self._strip.rows.x_of(time_s) - x) for time_s in self._strip.calipers]
        return distances.index(min(distances)) if distances and min(distances) <= NEAR_PX else None

    def _take_grip(self, x: float, shift: bool) -> None:
        strip = self._strip
        near = self._caliper_near(x)
        if near is not None:
            self._grip = (f"caliper {near}", x, strip.shown())
        elif shift:
            strip.set_calipers(True)
            for number in (0, 1):
                strip.move_caliper(number, strip.time_at(x))
            self._grip = ("caliper 1", x, strip.shown())
        else:
            self._grip = ("pan", x, strip.shown())

    def _move(self, x: float) -> None:
        strip = self._strip
        if self._grip is None:
            shape = Qt.CursorShape.ArrowCursor if self._caliper_near(x) is None else Qt.CursorShape.SizeHorCursor
            self._widget.setCursor(shape)
            strip.read_at(strip.time_at(x))
            return
        what, from_x, (begin, end) = self._grip
        if what == "pan":
            by = (from_x - x) / max(strip.whole.width() - LEFT_PX - RIGHT_PX, 1) * (end - begin)
            strip.look_at(begin + by, end + by)
        else:
            strip.move_caliper(int(what[-1]), strip.time_at(x))
