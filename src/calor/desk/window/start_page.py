"""The start page: the shipped designs, each with a thumbnail of what its first trial does, and the last ones opened."""

from __future__ import annotations

from typing import Any

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QAbstractButton, QGridLayout, QHBoxLayout, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from calor.demo import DEMOS, Demo
from calor.desk.room import Page
from calor.desk.state.desk import Desk
from calor.desk.state.simulator import Thumbnail
from calor.desk.widgets import theme as look
from calor.desk.widgets.fields import as_tip, label, on_button
from calor.desk.window.files import Files
from calor.units import TemperatureUnit, celsius_to, format_span, format_temperature

COLUMNS, MOST_RECENT = 4, 6


class DemoCard(QAbstractButton):
    """One shipped design: its name, what it is about, and its first trial as a small curve."""

    def __init__(self, demo: Demo) -> None:
        super().__init__()
        self.demo, self.theme, self.unit = demo, look.LIGHT, "°C"
        self.thumbnail: Thumbnail | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setAccessibleName(f"{demo.title}. {demo.about}")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def sizeHint(self) -> QSize:
        return QSize(260, 210)

    def minimumSizeHint(self) -> QSize:
        return QSize(180, 150)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        del event
        t = self.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        frame = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        marked = self.hasFocus() or self.underMouse()
        painter.setPen(QPen(QColor(t.measured if marked else t.rule), 2 if self.hasFocus() else 1))
        painter.setBrush(QColor(t.raised))
        painter.drawRoundedRect(frame, 4, 4)
        width = self.width() - 24
        painter.setFont(look.font(look.BODY_PX, bold=True))
        painter.setPen(QColor(t.ink))
        painter.drawText(QRectF(12, 10, width, 18), Qt.AlignmentFlag.AlignVCenter, self.demo.title)
        painter.setFont(look.font(look.SMALL_PX))
        painter.setPen(QColor(t.quiet))
        words = QRectF(12, 30, width, 32)
        painter.drawText(words, Qt.AlignmentFlag.AlignTop | Qt.TextFlag.TextWordWrap, self.demo.about)
        self._paint_thumbnail(painter, QRectF(12, 68, width, self.height() - 96))

    def _paint_thumbnail(self, painter: QPainter, place: QRectF) -> None:
        t, thumbnail = self.theme, self.thumbnail
        if thumbnail is None:
            painter.drawText(
                place,
                Qt.AlignmentFlag.AlignCenter,
                "being simulated",
            )
            return
        known = np.isfinite(thumbnail.measured_celsius)
        both = np.concatenate((thumbnail.measured_celsius[known], thumbnail.setpoint_celsius))
        low, high = float(both.min()), float(both.max())
        high = high if high > low else low + 1.0
        span_s = thumbnail.span_s

        def curve(values: Any) -> QPolygonF:
            keep = np.isfinite(values)
            x = place.left() + thumbnail.time_s[keep] / span_s * place.width()
            y = place.bottom() - (values[keep] - low) / (high - low) * place.height()
            return QPolygonF([QPointF(a, b) for a, b in zip(x.tolist(), y.tolist(), strict=True)])

        painter.setPen(QPen(QColor(t.setpoint), 1.2, Qt.PenStyle.DashLine))
        painter.drawPolyline(curve(thumbnail.setpoint_celsius))
        painter.setPen(QPen(QColor(t.measured), 1.6))
        painter.drawPolyline(curve(thumbnail.measured_celsius))
        painter.setPen(QColor(t.quiet))
        unit: TemperatureUnit = self.unit  # type: ignore[assignment]
        places = 1 if high - low < 5.0 else 0
        ends = f"{celsius_to(unit, low):.{places}f} to {format_temperature(unit, high, places)}, setpoint dashed"
        ends = ends.replace("-", "−")
        line = QRectF(place.left(), place.bottom() + 5, place.width(), 16)
        painter.drawText(line, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, ends)
        span = f"over {format_span(span_s)}"
        painter.drawText(line, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, span)


class StartPage(Page):
    """All shipped designs and the last ones opened, over the whole room."""

    def __init__(self, desk: Desk, files: Files) -> None:
        super().__init__()
        self.setObjectName("start")
        self._desk, self._files = desk, files
        column = QVBoxLayout(self)
        column.setContentsMargins(24, 20, 24, 16)
        column.setSpacing(12)
        head = QHBoxLayout()
        title = label("Start from a thermostat that is nearly yours", "title")
        head.addWidget(title)
        head.addStretch(1)
        self.new, self.ask = QPushButton("New design"), QPushButton("Open a file…")
        self.back = QPushButton("Back to the open design")
        for button, act in ((self.new, files.new), (self.ask, files.ask_open)):
            button.clicked.connect(lambda _, act=act: act())
        for button in (self.new, self.ask, self.back):
            head.addWidget(button)
        column.addLayout(head)
        grid = QGridLayout()
        grid.setSpacing(12)
        self.cards = [DemoCard(demo) for demo in DEMOS]
        for number, card in enumerate(self.cards):
            card.clicked.connect(lambda _, number=number: files.open_demo(number))
            grid.addWidget(card, number // COLUMNS, number % COLUMNS)
        column.addLayout(grid, 1)
        self._recent = QHBoxLayout()
        self._recent.setSpacing(16)
        column.addLayout(self._recent)
        note = label("All of it is made up. Simulation is not proof of safety.", "quiet")
        column.addWidget(note)
        desk.simulator.pictured.connect(self._pictured)

    def tab_order(self) -> list[QWidget]:
        return [*self.cards, self.new, self.ask, self.back]

    def show_model(self) -> None:
        """Show the designs there are; thumbnails that are missing are simulated."""
        while self._recent.count():
            item = self._recent.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.deleteLater()
        paths = self._desk.remembered.recent()[:MOST_RECENT]
        if paths:
            self._recent.addWidget(label("Opened last:", "quiet"))
        for path in paths:
            button = QPushButton(on_button(path.name))
            button.setProperty("role", "link")
            button.setToolTip(as_tip(str(path)))
            button.clicked.connect(lambda _, path=path: self._files.open(path))
            self._recent.addWidget(button)
        self._recent.addStretch(1)
        for card in self.cards:
            card.unit = self._desk.view.unit
        missing = [number for number, card in enumerate(self.cards) if card.thumbnail is None]
        if missing:
            self._desk.simulator.picture([(number, DEMOS[number].design) for number in missing])

    def _pictured(self, number: int, thumbnail: Thumbnail) -> None:
        self.cards[number].thumbnail = thumbnail
        self.cards[number].update()

    def focus(self) -> None:
        self.cards[0].setFocus(Qt.FocusReason.OtherFocusReason)

    def set_theme(self, theme: look.Theme) -> None:
        for card in self.cards:
            card.theme = theme
            card.update()
