"""The loop as a row of cards: Setpoint → Law → Drive → Load → Probe, and the line back."""

from __future__ import annotations

import itertools
from typing import Any

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QPainter, QPainterPath, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QAbstractButton, QWidget

from calor.design.model import BLOCKS as ORDER
from calor.design.model import block_summary
from calor.desk.state.controllers import controller_word
from calor.desk.state.desk import Desk
from calor.desk.widgets import theme as look
from calor.desk.widgets.words import BLOCKS

CARD_PX, GAP_PX, TOP_PX, BACK_PX = 64, 28, 10, 26


class Card(QAbstractButton):
    """One block: its name, its two lines, and a mark where something in it needs attention."""

    def __init__(self, block: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.block = block
        self.theme = look.LIGHT
        self.caption = BLOCKS[block]
        self.lines = ("", "")
        self.attention = ""
        self.setCheckable(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def sizeHint(self) -> QSize:
        return QSize(200, CARD_PX)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        del event
        t = self.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        frame = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        chosen = self.isChecked()
        painter.setPen(QPen(QColor(t.heat if chosen else t.rule), 2 if chosen else 1))
        painter.setBrush(QColor(t.raised))
        painter.drawRoundedRect(frame, 4, 4)
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(QColor(t.measured), 1, Qt.PenStyle.DotLine))
            painter.drawRoundedRect(frame.adjusted(3, 3, -3, -3), 3, 3)
        width = self.width() - 24
        for text, top, px, colour in (
            (self.caption, 6, look.SMALL_PX, t.quiet),
            (self.lines[0], 22, look.BODY_PX, t.ink),
            (self.lines[1], 42, look.SMALL_PX, t.quiet),
        ):
            painter.setFont(look.font(px))
            painter.setPen(QColor(colour))
            shown = painter.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, width)
            painter.drawText(
                QRectF(12, top, width, 18), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, shown
            )
        if self.attention:
            painter.setFont(look.font(look.SMALL_PX, bold=True))
            painter.setPen(QColor(t.failed))
            painter.drawText(
                QRectF(12, 6, width, 18),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                f"! {self.attention}",
            )


class Ribbon(QWidget):
    """The five cards and the lines between them; choosing a card opens its bench."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self._theme = look.LIGHT
        self.setFixedHeight(TOP_PX + CARD_PX + BACK_PX)
        self.cards: dict[str, Card] = {}
        for block in ORDER:
            card = Card(block, self)
            card.clicked.connect(lambda _, block=block: desk.view.choose_bench(block))
            self.cards[block] = card
        for signal in (desk.document.changed, desk.document.trial_chosen, desk.view.unit_changed):
            signal.connect(self.show_model)
        desk.runs.changed.connect(self.show_model)
        desk.runs.advice_changed.connect(self.show_model)
        desk.view.bench_chosen.connect(lambda *_: self.show_model())
        self.show_model()

    def set_theme(self, theme: look.Theme) -> None:
        """Paint in another theme."""
        self._theme = theme
        for card in self.cards.values():
            card.theme = theme
            card.update()
        self.update()

    def show_model(self) -> None:
        """Show the design's summaries."""
        design, unit = self._desk.document.design, self._desk.view.unit
        marks = self._attention()
        for block, card in self.cards.items():
            card.setChecked(self._desk.view.bench == block)
            lines, attention = block_summary(design, block, unit), marks.get(block, "")
            caption = BLOCKS[block]
            if block == "law" and self._desk.runs.controller != "python":
                # who is under test is seen in every room
                caption = f"{caption} · {controller_word(self._desk.runs.controller)}"
            if (caption, lines, attention) == (card.caption, card.lines, card.attention):
                continue
            card.caption, card.lines, card.attention = caption, lines, attention
            tip = ". ".join((caption, *card.lines, marks.get(block, "")))
            card.setToolTip("\n".join(card.lines))
            card.setAccessibleName(tip)
            card.update()

    def _attention(self) -> dict[str, str]:
        marks: dict[str, str] = {}
        result = self._desk.runs.current
        events: Any = result.trace.events if result is not None else ()
        kinds = {event.kind for event in events}
        if "cut_out" in kinds:
            marks["law"] = "cut out"
        if "probe_fault" in kinds:
            marks["probe"] = "fault in trial"
        for card in self._desk.runs.advice:
            if card.code == "cannot_reach":
                marks["load"] = "too weak"
            if card.code == "contact_life" and card.weight == "wear":
                marks["drive"] = "wears out"
        return marks

    def resizeEvent(self, event: Any) -> None:
        del event
        inner = self.width() - 32
        width = (inner - 4 * GAP_PX) // 5
        for number, card in enumerate(self.cards.values()):
            card.setGeometry(16 + number * (width + GAP_PX), TOP_PX, width, CARD_PX)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        del event
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        line = QColor(self._theme.pinned)
        cards = list(self.cards.values())
        middle = TOP_PX + CARD_PX / 2
        for left, right in itertools.pairwise(cards):
            begin, end = left.geometry().right() + 1, right.geometry().left() - 1
            painter.setPen(QPen(line, 1.5))
            painter.drawLine(QPointF(begin, middle), QPointF(end - 6, middle))
            painter.setBrush(line)
            painter.setPen(Qt.PenStyle.NoPen)
            tip = [QPointF(end, middle), QPointF(end - 7, middle - 4), QPointF(end - 7, middle + 4)]
            painter.drawPolygon(QPolygonF(tip))
        law, probe = cards[1].geometry(), cards[4].geometry()
        bottom, back = TOP_PX + CARD_PX, TOP_PX + CARD_PX + 14
        path = QPainterPath(QPointF(probe.center().x(), bottom))
        path.lineTo(probe.center().x(), back - 5)
        path.quadTo(probe.center().x(), back, probe.center().x() - 5, back)
        path.lineTo(law.center().x() + 5, back)
        path.quadTo(law.center().x(), back, law.center().x(), back - 5)
        path.lineTo(law.center().x(), bottom + 6)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(line, 1.5))
        painter.drawPath(path)
        painter.setBrush(line)
        painter.setPen(Qt.PenStyle.NoPen)
        x = law.center().x()
        painter.drawPolygon(QPolygonF([QPointF(x, bottom + 1), QPointF(x - 4, bottom + 8), QPointF(x + 4, bottom + 8)]))
        painter.setFont(look.font(look.SMALL_PX))
        text = "measured temperature back to the law"
        width = painter.fontMetrics().horizontalAdvance(text) + 16
        place = QRectF((law.center().x() + probe.center().x() - width) / 2, back - 9, width, 18)
        painter.fillRect(place, QColor(self._theme.ground))
        painter.setPen(QColor(self._theme.quiet))
        painter.drawText(place, Qt.AlignmentFlag.AlignCenter, text)
