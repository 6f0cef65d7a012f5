"""Under the charts: rows of what was switched, what happened, the time axis; and the legend."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QFontMetricsF, QImage, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from calor.desk.strip.lanes import LEFT_PX, RIGHT_PX
from calor.desk.widgets import theme as look
from calor.desk.widgets.painting import time_ticks
from calor.loop.trace import RunEvent
from calor.units import format_time_axis

CROWDED_PX = 60
_FIRST_NAMED = {"cut_out": 0, "alarm": 1, "probe_fault": 2, "tuned": 3, "in_band": 4}


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
        self.none = "none in this trial"
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
        image = QImage(pixels.tobytes(), len(row.share), 1, 4 * len(row.share), QImage.Format.Format_ARGB32)
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
            painter.drawText(QRectF(LEFT_PX, top, 400, 18), Qt.AlignmentFlag.AlignVCenter, self.none)

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
            room = self.width() - x - 24
            if room < 30:
                break  # a line without its name says nothing
            pen = QPen(QColor(colour), 2)
            if style == "dash":
                pen.setDashPattern([2.5, 1.5])
            if style == "dot":
                pen.setDashPattern([1, 1.5])
            painter.setPen(pen)
            painter.drawLine(QPointF(x, 10), QPointF(x + 18, 10))
            painter.setPen(QColor(self.theme.ink))
            shown = metrics.elidedText(text, Qt.TextElideMode.ElideRight, room)
            painter.drawText(QRectF(x + 23, 0, room, 20), Qt.AlignmentFlag.AlignVCenter, shown)
            x += 23 + metrics.horizontalAdvance(shown) + 14
