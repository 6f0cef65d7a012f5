"""The Board room's page: connection and front on the left, the growing run in the middle, what can be set on the
right."""

from __future__ import annotations

import math
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from calor.desk.board.connection import Connection
from calor.desk.board.front import Front
from calor.desk.board.settable import NUMBER_PX, UNIT_PX, Settable
from calor.desk.board.work import BoardWork
from calor.desk.room import Page
from calor.desk.state.desk import Desk
from calor.desk.strip.overlay import Overlaid, OverlayStrip
from calor.desk.widgets import theme as look
from calor.desk.widgets.fields import as_tip, label, set_role
from calor.desk.widgets.keys import timer
from calor.desk.widgets.numbers import typed_number
from calor.errors import CalorError
from calor.units import format_temperature

LEFT_PX, RIGHT_PX, DRAW_EVERY_MS, LOOK_EVERY_MS = 244, 296, 250, 150
EMPTY = "Connect to a board, or start the stand-in: the firmware of this design, on a line like a board's."
CAUTION = (
    "Nobody leaves a first run alone. What heats needs a cut-out that shares neither probe, controller nor switch."
    " Disconnecting switches the outputs off."
)
STOP, GO_ON = "Stop recording", "Go on recording"
MEASURES = ("Reading", "Setpoint", "Demand", "Clock", "Lowest", "Highest", "Rows", "Lost lines")


def _clock(drift_ppm: float | None) -> str:
    """How far the board's clock is from this machine's: a drift, or how many times as fast it is."""
    if drift_ppm is None:
        return "–"
    return f"{drift_ppm:+.0f} ppm" if abs(drift_ppm) < 20_000.0 else f"{1.0 + drift_ppm * 1e-6:.3g} times"


class BoardPage(Page):
    """Shows what comes, and sends what is asked."""

    def __init__(self, desk: Desk, work: BoardWork) -> None:
        super().__init__()
        self.setObjectName("centre")
        self._desk, self._work, self._theme = desk, work, look.LIGHT
        self.connection, self.front, self.settable = Connection(desk, work), Front(), Settable(desk, work)
        self.off = QPushButton("Output off")
        self.off.setProperty("role", "main")
        self.off.setToolTip("Outputs off, until by hand or automatic (Escape in this room; held, in every room).")
        self.hand, self.note = QLineEdit(), QLineEdit()
        self.by_hand, self.auto, self.tune = (
            QPushButton("By hand"),
            QPushButton("Automatic"),
            QPushButton("Tune itself"),
        )
        self.mark, self.recording = QPushButton("Mark"), QPushButton(STOP)
        self.to_logs, self.to_journal = QPushButton("To Logs"), QPushButton("To Journal")
        self.strip = OverlayStrip(EMPTY)
        self.strip.rows.none = "none yet"
        self.figures = {name: label("–") for name in MEASURES}
        self.looped = label("")
        self._lay_out()
        self._connect()
        self._timer = timer(self, DRAW_EVERY_MS, self._draw)
        self._looks = timer(self, LOOK_EVERY_MS, work.look)
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
        left.addWidget(self.connection)
        left.addSpacing(8)
        self.front_heading = label("Front of the device", "heading")
        left.addWidget(self.front_heading)
        left.addWidget(self.front)
        left.addSpacing(8)
        caution = label(CAUTION, "quiet")
        caution.setWordWrap(True)
        # not at the foot of the page, where notes lie: nothing ever covers it
        left.addWidget(self.off)
        left.addWidget(caution)
        left.addStretch(1)
        across.addWidget(left_box)
        middle = QVBoxLayout()
        middle.setSpacing(4)
        self.looped.setWordWrap(True)
        self.to_live = QPushButton("Live run")
        self.to_live.setToolTip("Back to what the board sends now.")
        head = QHBoxLayout()
        head.addWidget(self.looped, 1)
        head.addWidget(self.to_live)
        middle.addLayout(head)
        middle.addWidget(self.strip, 1)
        across.addLayout(middle, 1)
        across.addWidget(self._right())

    def _right(self) -> QWidget:
        box = QWidget()
        box.setFixedWidth(RIGHT_PX)
        column = QVBoxLayout(box)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        column.addWidget(label("Measures so far", "heading"))
        grid = QGridLayout()
        grid.setHorizontalSpacing(12)
        grid.setVerticalSpacing(2)
        for at, (name, value) in enumerate(self.figures.items()):
            grid.addWidget(label(name, "quiet"), at // 2, 2 * (at % 2))
            grid.addWidget(value, at // 2, 2 * (at % 2) + 1)
        self.figures["Clock"].setToolTip("How much faster the board's clock is than this machine's.")
        grid.setColumnStretch(1, 1)
        grid.setColumnStretch(3, 1)
        column.addLayout(grid)
        column.addSpacing(8)
        column.addWidget(self.settable)
        column.addSpacing(8)
        column.addWidget(label("Output", "heading"))
        row = QHBoxLayout()
        row.setSpacing(6)
        self.hand.setAccessibleName("Output by hand, per cent")
        self.hand.setPlaceholderText("30")
        self.hand.setFixedWidth(NUMBER_PX)
        self.hand.setAlignment(Qt.AlignmentFlag.AlignRight)
        per_cent = label("%", "unit")
        per_cent.setFixedWidth(UNIT_PX)
        for widget in (self.hand, per_cent):
            row.addWidget(widget)
        row.addWidget(self.by_hand, 1)
        column.addLayout(row)
        row = QHBoxLayout()
        row.setSpacing(6)
        row.addWidget(self.auto, 1)
        row.addWidget(self.tune, 1)
        column.addLayout(row)
        column.addSpacing(8)
        column.addWidget(label("Record", "heading"))
        row = QHBoxLayout()
        row.setSpacing(6)
        self.note.setPlaceholderText("Door opened, say")
        self.note.setAccessibleName("Mark")
        row.addWidget(self.note, 1)
        row.addWidget(self.mark)
        column.addLayout(row)
        self.record = label("", "quiet")
        self.record.setWordWrap(True)
        column.addWidget(self.record)
        column.addWidget(self.recording)
        row = QHBoxLayout()
        row.setSpacing(6)
        row.addWidget(self.to_logs, 1)
        row.addWidget(self.to_journal, 1)
        column.addLayout(row)
        column.addStretch(1)
        return box

    def _connect(self) -> None:
        work, desk = self._work, self._desk
        self.off.clicked.connect(work.off)
        self.front.held.connect(work.hold)
        self.by_hand.clicked.connect(self._send_hand)
        self.hand.returnPressed.connect(self._send_hand)
        self.auto.clicked.connect(lambda: work.send("auto"))
        self.tune.clicked.connect(lambda: work.send("tune"))
        self.to_live.clicked.connect(work.looped.leave)
        self.mark.clicked.connect(self._mark)
        self.recording.clicked.connect(work.record_or_not)
        self.note.returnPressed.connect(self._mark)
        self.to_logs.clicked.connect(self._to_logs)
        self.to_journal.clicked.connect(self._to_journal)
        work.changed.connect(self.show_work)
        work.values_changed.connect(self._show_values)
        desk.view.unit_changed.connect(self.show_work)
        desk.document.changed.connect(self._show_values)
        desk.runs.changed.connect(self._draw)

    def tab_order(self) -> list[QWidget]:
        left = [*self.connection.tab_order(), *self.front.keys.values(), self.off, self.to_live, self.strip]
        right = [self.hand, self.by_hand, self.auto, self.tune, self.note, self.mark, self.recording]
        return [*left, *self.settable.tab_order(), *right, self.to_logs, self.to_journal]

    def focus(self) -> None:
        self.connection.connect_button.setFocus()

    def set_theme(self, theme: look.Theme) -> None:
        self._theme = theme
        self.strip.set_theme(theme)
        self.settable.set_theme(theme)
        self._show_values()

    def showEvent(self, event: Any) -> None:
        super().showEvent(event)
        self._timer.start()
        self._looks.start()
        self.show_work()

    def hideEvent(self, event: Any) -> None:
        super().hideEvent(event)
        self._timer.stop()
        self._looks.stop()

    # ---- showing

    def show_work(self) -> None:
        """Show whether something is on the line, and what was said."""
        work = self._work
        self.connection.show_work()
        for widget in (self.off, self.by_hand, self.auto, self.tune, self.mark, self.hand, self.note):
            widget.setEnabled(work.is_open)
        has_record = work.record is not None and work.record.exists()
        self.to_logs.setEnabled(has_record)
        self.to_journal.setEnabled(has_record)
        self.record.setVisible(has_record)
        self.recording.setVisible(work.is_open)
        self.recording.setText(STOP if work.link is not None and work.link.records else GO_ON)
        self.record.setText(f"On disk: {work.record.name}" if work.record is not None and has_record else "")
        self.looped.setVisible(work.looped.result is not None)
        self.to_live.setVisible(work.looped.result is not None)
        self.looped.setText(work.looped.said)
        set_role(self.looped, "role", "passed" if work.looped.is_pass else "failed")
        self._show_values()
        self._draw()

    def _show_values(self) -> None:
        greeting = self._work.greeting
        has_front = greeting is not None and greeting.panel > 0
        self.front_heading.setVisible(has_front)
        self.front.setVisible(has_front)
        self.front.show_front(self._work.front if self._work.is_heard else None, self._theme)
        self.settable.show_values()

    def _draw(self) -> None:
        if not self.isVisible():
            return
        if self._work.looped.is_running:
            self.connection.show_work()
        unit, work = self._desk.view.unit, self._work
        looped = work.looped.result
        trace = work.looked_at() if looped is None else looped
        name = "board" if looped is None else "board in the loop"
        runs = [] if trace is None else [Overlaid(name, trace, "measured", grows=looped is None)]
        current = self._desk.runs.current
        if runs and current is not None:
            runs.append(Overlaid("design, simulated", current.trace, "pinned"))
        self.strip.show_runs(runs, unit)
        last = work.latest()
        low, high = (None, None) if trace is None else trace.measured_range
        for name, value in (
            ("Reading", last.get("measured_celsius")), ("Setpoint", last.get("setpoint_celsius")), ("Lowest", low),
            ("Highest", high),
        ):  # fmt: skip
            known = value is not None and math.isfinite(value)
            self.figures[name].setText(format_temperature(unit, value, 2) if known and value is not None else "–")
        if int(last.get("flags", 0.0)) % 2:
            self.figures["Reading"].setText("probe fault")
        if work.is_open and not work.is_heard:
            self.figures["Reading"].setText("not heard")
        self.figures["Demand"].setText(f"{last['demand'] * 100.0:.0f} %" if "demand" in last else "–")
        self.figures["Rows"].setText(f"{work.rows.count}")
        self.figures["Lost lines"].setText(f"{work.link.garbage}" if work.link is not None else "–")
        self.figures["Lost lines"].setToolTip(as_tip(work.link.last_garbage) if work.link is not None else "")
        self.figures["Clock"].setText(_clock(None if work.link is None else work.link.drift_ppm))

    # ---- sending

    def _send_hand(self) -> None:
        value = typed_number(self.hand.text())
        if value is None:
            self._desk.say("error", f"The output takes a number, in per cent (received {self.hand.text()!r})")
        else:
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
