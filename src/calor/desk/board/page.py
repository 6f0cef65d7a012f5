"""The Board room's page: the connection on the left, the growing run in the middle, what can be set on the right."""

from __future__ import annotations

import math
from typing import Any

from PyQt6.QtWidgets import QComboBox, QGridLayout, QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from calor.board.link import BAUDS, ports
from calor.board.protocol import number
from calor.board.stand_in import FAULTS
from calor.desk.board.work import BoardWork
from calor.desk.room import Page
from calor.desk.state.desk import Desk
from calor.desk.strip.overlay import Overlaid, OverlayStrip
from calor.desk.widgets import theme as look
from calor.desk.widgets.fields import label, set_role
from calor.desk.widgets.keys import timer
from calor.errors import CalorError
from calor.units import celsius_to, format_temperature, to_celsius

LEFT_PX, RIGHT_PX, DRAW_EVERY_MS = 236, 252, 250
EMPTY = "Connect to a board, or start the stand-in: the firmware of this design, on a line like a board's."
CAUTION = (
    "Nobody leaves a first run alone. What heats needs a cut-out that shares neither probe, controller nor switch."
    " Disconnecting switches the outputs off."
)


class BoardPage(Page):
    """Connects, shows what comes, and sends what is asked."""

    def __init__(self, desk: Desk, work: BoardWork) -> None:
        super().__init__()
        self.setObjectName("centre")
        self._desk, self._work = desk, work
        self.port, self.baud = QComboBox(), QComboBox()
        self.port.setEditable(True)
        self.port.setAccessibleName("Serial port")
        self.baud.setAccessibleName("Bits in a second")
        for one in BAUDS:
            self.baud.addItem(str(one), one)
        self.look, self.connect_button = QPushButton("List ports"), QPushButton("Connect")
        self.stand_in, self.off = QPushButton("Start the stand-in"), QPushButton("Output off")
        self.off.setProperty("role", "main")
        self.look.setToolTip("Look for serial ports again.")
        self.off.setToolTip("Outputs off, until by hand or automatic (Esc in this room).")
        self.said, self.fault = label(""), QComboBox()
        self.fault.setAccessibleName("Fault of the stand-in")
        self.fault.addItem("Fault of the stand-in …", "")
        for word in (*FAULTS, "reset", "none"):
            self.fault.addItem(word.replace("_", " "), word)
        self.setpoint, self.hand, self.note = QLineEdit(), QLineEdit(), QLineEdit()
        self.send, self.take_back, self.by_hand = QPushButton("Send"), QPushButton("Take"), QPushButton("By hand")
        self.auto, self.tune, self.mark = QPushButton("Automatic"), QPushButton("Tune itself"), QPushButton("Mark")
        self.to_logs, self.to_journal = QPushButton("To Logs"), QPushButton("To Journal")
        self.send.setToolTip("Send this setpoint to the board.")
        self.take_back.setToolTip("Take the board's setpoint into the design.")
        self.strip = OverlayStrip(EMPTY)
        self.figures = {name: label("–") for name in ("Reading", "Setpoint", "Demand", "Lowest", "Highest", "Rows")}
        self.differs = label("", "quiet")
        self._lay_out()
        self._connect()
        self._timer = timer(self, DRAW_EVERY_MS, self._draw)
        self.look_for_ports()
        self.show_work()

    def _lay_out(self) -> None:
        across = QHBoxLayout(self)
        across.setContentsMargins(14, 10, 14, 8)
        across.setSpacing(12)
        left, left_box = QVBoxLayout(), QWidget()
        left_box.setFixedWidth(LEFT_PX)
        left_box.setLayout(left)
        left.setContentsMargins(0, 0, 0, 0)
        left.setSpacing(6)
        left.addWidget(label("Connection", "heading"))
        left.addWidget(self.port)
        row = QHBoxLayout()
        row.addWidget(self.baud, 1)
        row.addWidget(self.look)
        left.addLayout(row)
        for widget in (self.connect_button, self.stand_in, self.fault, self.said):
            left.addWidget(widget)
        self.said.setWordWrap(True)
        left.addStretch(1)
        caution = label(CAUTION, "quiet")
        caution.setWordWrap(True)
        left.addWidget(caution)
        left.addWidget(self.off)
        across.addWidget(left_box)
        across.addWidget(self.strip, 1)
        across.addWidget(self._right())

    def _right(self) -> QWidget:
        box = QWidget()
        box.setFixedWidth(RIGHT_PX)
        column = QVBoxLayout(box)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        column.addWidget(label("Measures so far", "heading"))
        grid = QGridLayout()
        grid.setColumnStretch(0, 1)
        for at, (name, value) in enumerate(self.figures.items()):
            grid.addWidget(label(name), at, 0)
            grid.addWidget(value, at, 1)
        column.addLayout(grid)
        column.addSpacing(8)
        column.addWidget(label("What can be set", "heading"))
        for text, entry, buttons in (
            ("Setpoint", self.setpoint, (self.send, self.take_back)), ("Output, %", self.hand, (self.by_hand,)),
        ):  # fmt: skip
            row = QHBoxLayout()
            row.setSpacing(6)
            entry.setAccessibleName(text)
            entry.setFixedWidth(64)
            row.addWidget(label(text), 1)
            row.addWidget(entry)
            for button in buttons:
                row.addWidget(button)
            column.addLayout(row)
        self.differs.setWordWrap(True)
        column.addWidget(self.differs)
        row = QHBoxLayout()
        row.addWidget(self.auto)
        row.addWidget(self.tune)
        column.addLayout(row)
        column.addSpacing(8)
        column.addWidget(label("Record", "heading"))
        row = QHBoxLayout()
        self.note.setPlaceholderText("Door opened, say")
        self.note.setAccessibleName("Mark")
        row.addWidget(self.note, 1)
        row.addWidget(self.mark)
        column.addLayout(row)
        self.record = label("", "quiet")
        self.record.setWordWrap(True)
        column.addWidget(self.record)
        row = QHBoxLayout()
        row.addWidget(self.to_logs)
        row.addWidget(self.to_journal)
        column.addLayout(row)
        column.addStretch(1)
        return box

    def _connect(self) -> None:
        work, desk = self._work, self._desk
        self.look.clicked.connect(self.look_for_ports)
        self.connect_button.clicked.connect(self._connect_or_not)
        self.stand_in.clicked.connect(work.start_stand_in)
        self.off.clicked.connect(work.off)
        self.fault.activated.connect(self._throw)
        self.send.clicked.connect(self._send_setpoint)
        self.setpoint.returnPressed.connect(self._send_setpoint)
        self.take_back.clicked.connect(self._take_setpoint)
        self.by_hand.clicked.connect(self._send_hand)
        self.hand.returnPressed.connect(self._send_hand)
        self.auto.clicked.connect(lambda: work.send("auto"))
        self.tune.clicked.connect(lambda: work.send("tune"))
        self.mark.clicked.connect(self._mark)
        self.note.returnPressed.connect(self._mark)
        self.to_logs.clicked.connect(self._to_logs)
        self.to_journal.clicked.connect(self._to_journal)
        work.changed.connect(self.show_work)
        desk.view.unit_changed.connect(self.show_work)
        desk.runs.changed.connect(self._draw)

    def tab_order(self) -> list[QWidget]:
        return [
            self.port, self.baud, self.look, self.connect_button, self.stand_in, self.fault, self.off, self.strip,
            self.setpoint, self.send, self.take_back, self.hand, self.by_hand, self.auto, self.tune, self.note,
            self.mark, self.to_logs, self.to_journal,
        ]  # fmt: skip

    def focus(self) -> None:
        self.connect_button.setFocus()

    def set_theme(self, theme: look.Theme) -> None:
        self.strip.set_theme(theme)

    def showEvent(self, event: Any) -> None:
        super().showEvent(event)
        self._timer.start()
        self.show_work()

    def hideEvent(self, event: Any) -> None:
        super().hideEvent(event)
        self._timer.stop()

    # ---- showing

    def look_for_ports(self) -> None:
        """List the serial ports there are."""
        now = self.port.currentText()
        self.port.clear()
        for one in ports():
            self.port.addItem(one.name)
            self.port.setItemData(self.port.count() - 1, one.what, 3)
        if now:
            self.port.setEditText(now)
        line = self.port.lineEdit()
        if line is not None:
            line.setPlaceholderText("no serial port found")
        self.baud.setCurrentIndex(self.baud.findData(self._work.baud_of(self.port.currentText())))

    def show_work(self) -> None:
        """Show whether something is on the line, and what was said."""
        work = self._work
        self.connect_button.setText("Disconnect" if work.is_open else "Connect")
        self.stand_in.setEnabled(not work.is_open)
        self.fault.setVisible(work.stand_in is not None)
        self.said.setText(work.said)
        for widget in (
            self.off, self.send, self.take_back, self.by_hand, self.auto, self.tune, self.mark, self.setpoint,
            self.hand, self.note,
        ):  # fmt: skip
            widget.setEnabled(work.is_open)
        has_record = work.record is not None and work.record.exists()
        self.to_logs.setEnabled(has_record)
        self.to_journal.setEnabled(has_record)
        self.record.setText(f"On disk: {work.record.name}" if work.record is not None and has_record else "")
        self._draw()

    def _draw(self) -> None:
        if not self.isVisible():
            return
        unit, work = self._desk.view.unit, self._work
        trace = work.looked_at()
        runs = [] if trace is None else [Overlaid("board", trace, "measured")]
        current = self._desk.runs.current
        if runs and current is not None:
            runs.append(Overlaid("design, simulated", current.trace, "pinned"))
        self.strip.show_runs(runs, unit)
        last = work.latest()
        reading, aim = last.get("measured_celsius"), last.get("setpoint_celsius")
        low, high = (None, None) if trace is None else trace.measured_range
        for name, value in (("Reading", reading), ("Setpoint", aim), ("Lowest", low), ("Highest", high)):
            known = value is not None and math.isfinite(value)
            self.figures[name].setText(format_temperature(unit, value, 2) if known and value is not None else "–")
        if int(last.get("flags", 0.0)) % 2:
            self.figures["Reading"].setText("probe fault")
        self.figures["Demand"].setText(f"{last['demand'] * 100.0:.0f} %" if "demand" in last else "–")
        lost = f", {work.link.garbage} lost" if work.link is not None and work.link.garbage else ""
        self.figures["Rows"].setText(f"{work.rows.count}{lost}")
        own = self._desk.document.design.setpoint.celsius
        is_other = aim is not None and math.isfinite(aim) and abs(aim - own) > 0.005
        words = f"≠ the design's {format_temperature(unit, own)}" if is_other else "as in the design"
        self.differs.setText("" if aim is None else f"Setpoint on the board {words}.")
        set_role(self.differs, "role", "failed" if is_other else "quiet")

    # ---- sending

    def _connect_or_not(self) -> None:
        if self._work.is_open:
            self._work.close()
        elif self.port.currentText().strip():
            self._work.connect_to(self.port.currentText().strip(), int(self.baud.currentData() or BAUDS[7]))
        else:
            self._desk.say("error", "There is no serial port; plug a board in and look again, or start the stand-in.")

    def _throw(self, at: int) -> None:
        word = self.fault.itemData(at)
        if word and self._work.stand_in is not None:
            self._work.stand_in.throw(word)
        self.fault.setCurrentIndex(0)

    def _number(self, entry: QLineEdit, what: str) -> float | None:
        text = entry.text().replace(",", ".").replace("%", "").replace("−", "-")
        for sign in ("°C", "°F", "K"):
            text = text.replace(sign, "")
        value = number(text.strip())
        if value is None or not math.isfinite(value):
            self._desk.say("error", f"{what} takes a number (received {entry.text()!r})")
            return None
        return value

    def _send_setpoint(self) -> None:
        value = self._number(self.setpoint, "The setpoint")
        if value is None:
            return
        celsius = to_celsius(self._desk.view.unit, value)
        limits = self._desk.document.design.setpoint
        low, high = limits.low_limit_celsius, limits.high_limit_celsius
        if (low is not None and celsius < low) or (high is not None and celsius > high):
            unit = self._desk.view.unit
            ends = " to ".join("–" if one is None else format_temperature(unit, one) for one in (low, high))
            self._desk.say("error", f"The design's setpoint limits are {ends}; it is not sent.")
            return
        self._work.send(f"set setpoint_celsius {celsius:.7g}")

    def _take_setpoint(self) -> None:
        aim = self._work.latest().get("setpoint_celsius")
        if aim is not None and math.isfinite(aim):
            problem = self._desk.document.set_value("setpoint", "celsius", float(f"{aim:.6g}"))
            if problem:
                self._desk.say("error", str(problem))
            self.setpoint.setText(f"{celsius_to(self._desk.view.unit, aim):.4g}")

    def _send_hand(self) -> None:
        value = self._number(self.hand, "The output")
        if value is not None:
            self._work.send(f"hand {value / 100.0:.5g}")

    def _mark(self) -> None:
        self._work.mark(self.note.text().strip() or "mark")
        self.note.clear()

    def _to_logs(self) -> None:
        if self._work.record is not None:
            self._desk.view.offer_record(self._work.record)

    def _to_journal(self) -> None:
        if self._work.record is not None:
            try:
                number_kept = self._desk.kept.keep_record(self._work.record)
            except CalorError as error:
                self._desk.say("error", str(error))
            else:
                self._desk.say("note", f"Kept in the journal as run {number_kept}.")
