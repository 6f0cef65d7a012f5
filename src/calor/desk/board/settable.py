"""What can be set on the board, beside what the design has: differences marked, values sent and taken."""

from __future__ import annotations

import math

from PyQt6.QtCore import QSignalBlocker, QSize, Qt
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import (
    QHBoxLayout,
    QPushButton,
    QSizePolicy,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from calor.desk.board.work import BoardWork
from calor.desk.state.desk import Desk
from calor.desk.widgets import theme as look
from calor.desk.widgets.fields import Entry, label
from calor.desk.widgets.numbers import typed_number
from calor.desk.widgets.tables import rows_to_choose
from calor.firmware.run.device import WHOLE
from calor.firmware.sources.parameters import Parameter, parameters_of
from calor.scales import scale_of, shown_number

ROW_PX, HEAD_PX, NUMBER_PX, UNIT_PX, FEWEST_ROWS = 21, 26, 74, 64, 3
NOT_YET = "A board says what can be set when it is connected: setpoint, gains, times, each with its range."
MARK = "≠ "
SAME_SHARE = 2e-4
"""So near a value on the board counts as the design's: fixed point, or a time that was a rate."""


class _Table(QTableWidget):
    """As high as its lines, and less where there is no room."""

    def sizeHint(self) -> QSize:
        return QSize(0, self.rowCount() * ROW_PX + HEAD_PX)

    def minimumSizeHint(self) -> QSize:
        return QSize(0, min(self.rowCount(), FEWEST_ROWS) * ROW_PX + HEAD_PX)


class Settable(QWidget):
    """A table with a line for each, and an entry for the chosen one."""

    def __init__(self, desk: Desk, work: BoardWork) -> None:
        super().__init__()
        self._desk, self._work = desk, work
        self._theme = look.LIGHT
        self._keys: list[str] = []
        self._known: dict[str, Parameter] = {}
        self.table = _Table(0, 3)
        self.entry = Entry()
        self.send, self.take = QPushButton("Send"), QPushButton("Take from the board")
        self.send_all, self.keep = QPushButton("Send the design's"), QPushButton("Keep on the board")
        self.send.setToolTip("Send this value to the board.")
        self.take.setToolTip("Take the board's value of the chosen line into the design.")
        self.send_all.setToolTip("Send all of the design's values that differ to the board.")
        self.keep.setToolTip("Have the board keep its values over a loss of power.")
        self._lay_out()
        self.table.itemSelectionChanged.connect(self._choose)
        self.entry.returnPressed.connect(self._send)
        self.send.clicked.connect(self._send)
        self.take.clicked.connect(self._take)
        self.send_all.clicked.connect(self._send_all)
        self.keep.clicked.connect(lambda: work.send("keep"))

    def _lay_out(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        self.heading = label("What can be set", "heading")
        column.addWidget(self.heading)
        table = self.table
        table.setAccessibleName("What can be set on the board")
        table.setHorizontalHeaderLabels(("", "board", "design"))
        rows_to_choose(table, ROW_PX, 0, {1: NUMBER_PX, 2: NUMBER_PX})
        self.nothing = label(NOT_YET, "quiet")
        self.nothing.setWordWrap(True)
        column.addWidget(self.nothing)
        table.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Maximum)
        column.addWidget(table)
        self.entry.setAccessibleName("New value")
        self.entry.setFixedWidth(NUMBER_PX)
        self.entry.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.unit = label("", "unit")
        self.unit.setFixedWidth(UNIT_PX)
        row = QHBoxLayout()
        row.setSpacing(6)
        row.addWidget(self.entry)
        row.addWidget(self.unit)
        row.addWidget(self.send, 1)
        column.addLayout(row)
        for pair in ((self.take, self.send_all), (self.keep,)):
            row = QHBoxLayout()
            row.setSpacing(6)
            for widget in pair:
                row.addWidget(widget, 1)
            column.addLayout(row)

    def tab_order(self) -> list[QWidget]:
        """What the Tab key reaches."""
        return [self.table, self.entry, self.send, self.take, self.send_all, self.keep]

    def set_theme(self, theme: look.Theme) -> None:
        """Take a theme's colours."""
        self._theme = theme
        self.show_values()

    # ---- showing

    def show_values(self) -> None:
        """Show what the board says that can be set."""
        greeting = self._work.greeting
        self._known = {one.key: one for one in parameters_of(self._desk.document.design, WHOLE)}
        keys = [] if greeting is None else list(greeting.can)
        with QSignalBlocker(self.table):
            if keys != self._keys:
                self._keys = keys
                self.table.setRowCount(len(keys))
                self.table.updateGeometry()
                if keys:
                    self.table.selectRow(0)
            for row, key in enumerate(keys):
                self._show_row(row, key)
        is_open = self._work.is_heard and bool(keys)
        for widget in (self.table, self.entry, self.unit, self.send, self.take, self.send_all):
            widget.setVisible(bool(keys))
        self.nothing.setVisible(not keys)
        self.nothing.setText("Nothing, this board says." if self._work.is_open and greeting is not None else NOT_YET)
        for widget in (self.entry, self.send):
            widget.setEnabled(is_open)
        chosen = self.chosen
        self.take.setEnabled(is_open and chosen in self._known and chosen in self._work.values)
        self.send_all.setEnabled(is_open and bool(self.differences()))
        self.keep.setVisible(greeting is not None and greeting.keeps)
        if not self.entry.isModified():
            self._fill()

    def _show_row(self, row: int, key: str) -> None:
        known, own = self._known.get(key), self._work.values.get(key)
        differs = self.differs(key)
        texts = (
            self.title_of(key), "–" if own is None else f"{MARK if differs else ''}{self.shown(key, own)}",
            "" if known is None else self.shown(key, known.value),
        )  # fmt: skip
        for place, text in enumerate(texts):
            item = self.table.item(row, place)
            if item is None:
                item = QTableWidgetItem()
                side = Qt.AlignmentFlag.AlignLeft if place == 0 else Qt.AlignmentFlag.AlignRight
                item.setTextAlignment(side | Qt.AlignmentFlag.AlignVCenter)
                self.table.setItem(row, place, item)
            if item.text() != text:
                item.setText(text)
            if place == 1:
                colour = self._theme.failed if differs else self._theme.ink
                item.setForeground(QColor(colour))
                item.setToolTip("The board's value is not the design's." if differs else "")

    def title_of(self, key: str) -> str:
        """What a key is called: as in the design, where that has it."""
        known = self._known.get(key)
        if known is None:
            return key.removesuffix("_celsius").replace("_", " ").capitalize()
        settings = getattr(self._desk.document.design, known.section)
        return str(type(settings).model_fields[known.field].title)

    def _quantity(self, key: str) -> str:
        known = self._known.get(key)
        return known.quantity if known is not None else "temperature" if key.endswith("_celsius") else "number"

    def shown(self, key: str, value: float) -> str:
        """A value in the desk's unit."""
        scale = scale_of(self._quantity(key), self._desk.view.unit)
        text = shown_number(float(f"{scale.show(value):.4g}"))
        return f"{text} {scale.unit.replace('per ', '/').replace('% /', '%/')}".strip()

    def differs(self, key: str) -> bool:
        """Whether the board's value is known, and not the design's."""
        known, own = self._known.get(key), self._work.values.get(key)
        if known is None or own is None or not math.isfinite(own):
            return False
        return abs(own - known.value) > SAME_SHARE * max(abs(known.value), abs(own), 1e-3)

    def differences(self) -> list[str]:
        """The keys whose values differ."""
        return [key for key in self._keys if self.differs(key)]

    @property
    def chosen(self) -> str:
        """The key of the chosen line."""
        row = self.table.currentRow()
        return self._keys[row] if 0 <= row < len(self._keys) else ""

    def _choose(self) -> None:
        self.entry.setModified(False)
        self.show_values()

    def _fill(self) -> None:
        """The entry offers the design's value, or the board's where the design has none."""
        key = self.chosen
        known = self._known.get(key)
        value = known.value if known is not None else self._work.values.get(key)
        scale = scale_of(self._quantity(key), self._desk.view.unit)
        self.unit.setText(scale.unit if key else "")
        text = "" if value is None or not key else shown_number(float(f"{scale.show(value):.6g}"))
        if self.entry.text() != text:
            self.entry.setText(text)

    # ---- sending

    def _send(self) -> None:
        key = self.chosen
        typed = typed_number(self.entry.text())
        if not key:
            return
        if typed is None:
            self._desk.say("error", f"{self.title_of(key)} takes a number (received {self.entry.text()!r})")
            return
        value = scale_of(self._quantity(key), self._desk.view.unit).read(typed)
        if self._is_allowed(key, value):
            self._work.set_value(key, value)
            self.entry.setModified(False)

    def _is_allowed(self, key: str, value: float) -> bool:
        """Whether a value is inside the design's limits and what the board takes: what is not is not sent."""
        greeting, known = self._work.greeting, self._known.get(key)
        if key == "setpoint_celsius" and known is not None:
            limits = (known.low, known.high)
            if not limits[0] <= value <= limits[1]:
                ends = " to ".join(self.shown(key, one) for one in limits)
                self._desk.say("error", f"The design's setpoint limits are {ends}; it is not sent.")
                return False
        if greeting is not None and key in greeting.can:
            bounds = greeting.can[key]
            if not bounds.low <= value <= bounds.high:
                ends = " to ".join(self.shown(key, one) for one in bounds)
                self._desk.say("error", f"{self.title_of(key)}: the board takes {ends}; it is not sent.")
                return False
        return True

    def _take(self) -> None:
        known, own = self._known.get(self.chosen), self._work.values.get(self.chosen)
        if known is None or own is None:
            return
        problem = self._desk.document.set_value(known.section, known.field, float(f"{own:.6g}"))
        if problem:
            self._desk.say("error", str(problem))
        self.entry.setModified(False)
        self.show_values()

    def _send_all(self) -> None:
        for key in self.differences():
            if self._is_allowed(key, self._known[key].value):
                self._work.set_value(key, self._known[key].value)
