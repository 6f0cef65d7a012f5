"""Looking about in a strip: zoom, pan, calipers, by mouse and by keyboard; what is drawn is another's."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QFocusEvent, QKeyEvent, QResizeEvent
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton, QWidget

from calor.desk.strip.calipers import Readout, caliper_text
from calor.desk.strip.hand import StripHand
from calor.desk.strip.lanes import LEFT_PX, RIGHT_PX, Lane
from calor.desk.strip.rows import Legend, Rows
from calor.desk.strip.time_view import TimeView
from calor.desk.widgets import theme as look
from calor.desk.widgets.fields import label, set_role
from calor.desk.widgets.keys import timer
from calor.loop.trace import Trace
from calor.units import TemperatureUnit

BY_KEYBOARD = (Qt.FocusReason.TabFocusReason, Qt.FocusReason.BacktabFocusReason, Qt.FocusReason.ShortcutFocusReason)


class TimeStrip(QFrame):
    """Lanes and rows over one time axis. Who draws says how long it is and which trace the calipers measure."""

    def __init__(self, lanes: tuple[Lane, ...]) -> None:
        super().__init__()
        self.setObjectName("centre")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Strip: arrow keys pan, plus and minus zoom, 0 shows the whole run, C sets calipers")
        self._theme = look.LIGHT
        self._view = TimeView()
        self.calipers: list[float] = []
        self._close_up_factor = 1.0
        self.lanes, self.whole = lanes, lanes[0]
        self.rows, self.legend = Rows(), Legend()
        self.rows.calipers = self.calipers
        self.caliper_button = QPushButton("Calipers")
        self.caliper_button.setCheckable(True)
        self.caliper_button.setProperty("role", "link")
        self.caliper_button.setToolTip("Measure between two instants (C, or Shift and drag).")
        self.caliper_button.clicked.connect(self.set_calipers)
        self.whole_button = QPushButton("Whole run")
        self.whole_button.setProperty("role", "link")
        self.whole_button.setToolTip("Show the whole run (double-click, or 0).")
        self.whole_button.clicked.connect(self.restore)
        self.empty = QLabel(self)
        self.empty.setTextFormat(Qt.TextFormat.PlainText)
        self.empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.empty.setWordWrap(True)
        self.readout = Readout(self)
        # redrawn once the layout has settled
        self._resized = timer(self, 0, self.redraw, once=True)
        self._hand = StripHand(self, self)

    def head(self, *beside: QWidget) -> QHBoxLayout:
        """The line over the lanes: unit, legend, and what stands beside them."""
        line = QHBoxLayout()
        line.setContentsMargins(0, 0, RIGHT_PX, 2)
        line.setSpacing(8)
        self.unit_label = label("", "quiet")
        self.unit_label.setFixedWidth(LEFT_PX - 8)
        self.unit_label.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        line.addWidget(self.unit_label)
        line.addWidget(self.legend, 1)
        for widget in beside:
            line.addWidget(widget)
        return line

    # ---- of whoever draws

    def span_s(self) -> float:
        """Length of what there is to show."""
        raise NotImplementedError

    def measured(self) -> Trace | None:
        """What the calipers measure; None where there is nothing."""
        raise NotImplementedError

    def shown_unit(self) -> TemperatureUnit:
        """The unit of what is read."""
        raise NotImplementedError

    def redraw(self) -> None:
        """Draw the shown stretch of time."""
        raise NotImplementedError

    def read_at(self, time_s: float | None) -> None:
        """Say what there is at an instant; None: the pointer has left."""
        raise NotImplementedError

    def calipers_moved(self) -> None:
        """The calipers stand elsewhere, or are gone."""

    def set_theme(self, theme: look.Theme) -> None:
        """Take a theme's colours."""
        self._theme = theme
        for lane in self.lanes:
            lane.set_theme(theme)
        self.rows.theme = self.legend.theme = theme
        self.readout.set_theme(theme)
        self.empty.setStyleSheet(f"color: {theme.quiet}; background: {theme.ground};")
        self.redraw()

    # ---- zoom and pan

    def shown(self) -> tuple[float, float]:
        """The stretch of time on the screen."""
        self._view.span_s = self.span_s()
        return self._view.shown()

    def look_at(self, begin: float, end: float) -> None:
        """Show a stretch of time, held inside the run."""
        self._view.span_s = self.span_s()
        self._view.look_at(begin, end)
        self.redraw()

    def restore(self) -> None:
        """Show the whole run."""
        self._view.restore()
        self._close_up_factor = 1.0
        self.redraw()

    def zoom(self, factor: float, about_s: float | None = None) -> None:
        """Show `factor` times as much time, keeping an instant where it is."""
        self._view.span_s = self.span_s()
        self._view.zoom(factor, about_s)
        self.redraw()

    def pan(self, share: float) -> None:
        """Move by a share of what is shown."""
        self._view.pan(share)
        self.redraw()

    def time_at(self, x: float) -> float:
        """The instant under a pixel of a lane."""
        begin, end = self.shown()
        return begin + (x - LEFT_PX) / max(self.whole.width() - LEFT_PX - RIGHT_PX, 1) * (end - begin)

    # ---- calipers

    def set_calipers(self, on: bool) -> None:
        """Put calipers on the shown stretch, or take them off."""
        begin, end = self.shown()
        self.calipers[:] = [begin + (end - begin) * share for share in (0.35, 0.6)] if on else []
        self.caliper_button.setChecked(on)
        self._place_calipers()

    def draw_calipers(self) -> None:
        """Show the calipers where they stand."""
        for lane in self.lanes:
            for number, line in enumerate(lane.lines[:2]):
                line.show_at(self.calipers[number] if self.calipers else None)
        self.rows.update()

    def _place_calipers(self) -> None:
        self.draw_calipers()
        trace = self.measured()
        self.readout.setVisible(bool(self.calipers) and trace is not None)
        if self.calipers and trace is not None:
            ends = [self.rows.x_of(time_s) for time_s in sorted(self.calipers)]
            text = caliper_text(trace, self.shown_unit(), *sorted(self.calipers))
            self.readout.show_between(text, ends[0], ends[1], self.whole.y() + int(self.whole.height() * 0.55))
        self.calipers_moved()

    # ---- mouse and keyboard

    def scale_close_up(self, factor: float) -> None:
        """Make the close-up higher or lower."""
        self._close_up_factor = min(max(self._close_up_factor * factor, 0.05), 50.0)
        self.redraw()

    def move_caliper(self, number: int, time_s: float) -> None:
        """Put one caliper at an instant, held inside what is shown."""
        begin, end = self.shown()
        self.calipers[number] = min(max(time_s, begin), end)
        self._place_calipers()

    def redraw_when_settled(self) -> None:
        """Draw again once the layout has settled."""
        self._resized.start()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        key = event.key()
        actions: dict[Qt.Key, Callable[[], None]] = {
            Qt.Key.Key_Left: lambda: self._arrow(-1.0, event), Qt.Key.Key_Right: lambda: self._arrow(1.0, event),
            Qt.Key.Key_Plus: lambda: self.zoom(0.7), Qt.Key.Key_Equal: lambda: self.zoom(0.7),
            Qt.Key.Key_Minus: lambda: self.zoom(1.0 / 0.7), Qt.Key.Key_0: self.restore, Qt.Key.Key_Home: self.restore,
            Qt.Key.Key_C: lambda: self.set_calipers(not self.calipers),
        }  # fmt: skip
        action = actions.get(Qt.Key(key))
        if action is not None and not event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            action()
        else:
            super().keyPressEvent(event)

    def _arrow(self, direction: float, event: QKeyEvent) -> None:
        """Pan; with calipers, move the right one, and the left one with Shift."""
        if not self.calipers:
            self.pan(0.1 * direction)
            return
        begin, end = self.shown()
        number = 0 if event.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1
        self.move_caliper(number, self.calipers[number] + direction * (end - begin) / 200.0)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        if event is None:
            return
        super().resizeEvent(event)
        self.empty.setGeometry(1, 1, self.width() - 2, self.height() - 2)
        self.empty.raise_()

    def focusInEvent(self, event: QFocusEvent | None) -> None:
        if event is None:
            return
        super().focusInEvent(event)
        # the frame is for the keyboard: whoever clicked knows where that was
        set_role(self, "focused", "true" if event.reason() in BY_KEYBOARD else "false")

    def focusOutEvent(self, event: Any) -> None:
        super().focusOutEvent(event)
        set_role(self, "focused", "false")
