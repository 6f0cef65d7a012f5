"""Reference and firmware over one time axis, and in a lane of its own how far they are apart."""

from __future__ import annotations

import html
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QVBoxLayout, QWidget

from calor.desk.strip.lanes import LEFT_PX, RIGHT_PX, Lane
from calor.desk.widgets import theme as look
from calor.desk.widgets.fields import label
from calor.desk.widgets.painting import time_ticks
from calor.loop.envelope import envelope
from calor.units import format_time_axis

DEMAND_PX, APART_PX, AXIS_PX = 74, 44, 20
LEAST_APART = 1e-6
"""A lane of nothing but zeros still has a scale, in parts of full output."""


class Answers(NamedTuple):
    """The demand of reference and firmware over a trial, from the same inputs, as fractions."""

    trial: str
    names: tuple[str, str]
    time_s: npt.NDArray[np.float64]
    reference: npt.NDArray[np.float64]
    firmware: npt.NDArray[np.float64]

    @property
    def apart(self) -> npt.NDArray[np.float64]:
        """How far the firmware is above the reference."""
        return np.asarray(self.firmware - self.reference)


class _TimeAxis(QWidget):
    """The instants under the lanes, in line with them."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(AXIS_PX)
        self.span_s, self.colour = 1.0, look.LIGHT.quiet

    def paintEvent(self, event: QPaintEvent | None) -> None:
        del event
        painter = QPainter(self)
        painter.setFont(look.font(look.SMALL_PX))
        painter.setPen(QColor(self.colour))
        wide = self.width() - LEFT_PX - RIGHT_PX
        metrics = painter.fontMetrics()
        for time_s in time_ticks(0.0, self.span_s, 7):
            text = format_time_axis(time_s)
            x = LEFT_PX + round(time_s / self.span_s * wide)
            x = min(max(x - metrics.horizontalAdvance(text) // 2, 0), self.width() - metrics.horizontalAdvance(text))
            painter.drawText(x, 14, text)
        painter.end()


class Overlay(QWidget):
    """Two lanes: both demands, and their difference. Without answers it says what would bring some."""

    def __init__(self) -> None:
        super().__init__()
        self._theme = look.LIGHT
        self.answers: Answers | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        self.title = label("", "quiet")
        self.empty = label(
            "A check draws here what reference and firmware ask for, and how far they are apart.", "quiet"
        )
        self.empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.demand, self.apart = Lane(3), Lane(2)
        self.axis = _TimeAxis()
        self.apart_title = label("", "quiet")
        self._keys: list[QLabel] = []
        head = QHBoxLayout()
        head.setContentsMargins(0, 0, 0, 0)
        head.addWidget(self.title)
        head.addStretch(1)
        for _ in range(2):
            key = label("", "quiet")
            key.setTextFormat(Qt.TextFormat.RichText)
            self._keys.append(key)
            head.addSpacing(12)
            head.addWidget(key)
        column.addLayout(head)
        column.addWidget(self.empty)
        self.demand.setFixedHeight(DEMAND_PX)
        self.apart.setFixedHeight(APART_PX)
        for widget in (self.demand, self.apart_title, self.apart, self.axis):
            column.addWidget(widget)
        self.show_answers(None)

    def set_theme(self, t: look.Theme) -> None:
        """Take a theme's colours."""
        self._theme = t
        for lane in (self.demand, self.apart):
            lane.set_theme(t)
        self.axis.colour = t.quiet
        self._draw()

    def show_answers(self, answers: Answers | None) -> None:
        """Show the answers of a check, or that there are none."""
        self.answers = answers
        self.empty.setVisible(answers is None)
        for widget in (self.title, *self._keys, self.demand, self.apart_title, self.apart, self.axis):
            widget.setVisible(answers is not None)
        self._draw()

    def resizeEvent(self, event: Any) -> None:
        super().resizeEvent(event)
        self._draw()

    def _draw(self) -> None:
        answers, t = self.answers, self._theme
        if answers is None or not len(answers.time_s):
            return
        span_s = float(answers.time_s[-1]) or 1.0
        apart = answers.apart * 100.0
        pixels = self.demand.pixels()

        def points(values: Any) -> tuple[Any, Any]:
            return envelope(answers.time_s, values, 0.0, span_s, pixels)

        self.demand.draw("reference", points(answers.reference * 100.0), t.pinned, z=0, width=4.0)
        self.demand.draw("firmware", points(answers.firmware * 100.0), t.measured, z=1, width=1.2)
        low = min(0.0, float(np.nanmin(answers.reference)) * 100.0)
        self.demand.show_values(low - 14.0, 114.0)
        self.apart.draw("apart", points(apart), t.heat)
        most = float(np.nanmax(np.abs(apart), initial=0.0))
        reach = 1.15 * max(most, LEAST_APART * 100.0)
        self.apart.show_values(-reach, reach)
        for lane in (self.demand, self.apart):
            lane.show_span(0.0, span_s)
        self.axis.span_s = span_s
        self.axis.update()
        self.title.setText(f"Demand, %  ·  {answers.trial}")
        for key, name, colour, sign in zip(
            self._keys, answers.names, (t.pinned, t.measured), ("━━", "──"), strict=True
        ):
            key.setText(f'<span style="color:{colour}">{sign}</span> {html.escape(name)}')
        said = "none anywhere" if most == 0.0 else f"{most:.2g} % of full output at most"
        self.apart_title.setText(f"Difference, %  ·  {said}")
