"""The check of the C beside its sources: whether all agree, what it costs, and who decides in the trial."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QComboBox, QFileDialog, QHBoxLayout, QPushButton, QScrollArea, QVBoxLayout, QWidget

from calor.design.model import Design
from calor.desk.code.code_check import CodeCheck
from calor.desk.code.cost_table import CostTable
from calor.desk.state.model import Model
from calor.desk.widgets.fields import label, set_role
from calor.desk.widgets.words import SEATS, seat_word
from calor.firmware.sources.form import PLAIN, Form

SIDE_PX = 262
LAWS = "Laws (*.c *.py)"
CHECK = "Check on host and chips"


class CheckPanel(QWidget):
    """Runs the check, shows its figures, and lets another one decide."""

    answered = pyqtSignal(object)
    """What reference and firmware answered in the chosen trial; None where there is no check."""
    opened = pyqtSignal(str)
    """The path of a law of the user's own that was chosen to decide."""

    def __init__(self, model: Model) -> None:
        super().__init__()
        self._model = model
        self._busy = False
        self._checked: tuple[Design, Form] | None = None
        self.data: dict[str, Any] | None = None
        self._before: dict[str, Any] | None = None
        self.form = PLAIN
        self.check = CodeCheck()
        self.costs = CostTable()
        self.status, self.explain, self.reference = label("", "quiet"), label("", "quiet"), label("", "quiet")
        self.run_check, self.save = QPushButton(CHECK), QPushButton("Save its folder…")
        self.verdict = label("", "heading")
        self.seat, self.seat_note = QComboBox(), label("", "quiet")
        self.seat.setAccessibleName("Who decides in the trial")
        self._lay_out()
        self.fill_seats()
        self.seat.activated.connect(self._seat_chosen)
        self.run_check.clicked.connect(self._start_or_stop)
        self.check.progressed.connect(self._say)
        self.check.finished.connect(self._finished)
        self.check.failed.connect(self._failed)
        model.run_changed.connect(self.show_seat)

    def _lay_out(self) -> None:
        self.setFixedWidth(SIDE_PX)
        right = QVBoxLayout(self)
        right.setSpacing(6)
        right.setContentsMargins(0, 0, 0, 0)
        title = QHBoxLayout()
        title.addWidget(label("Costs and agreement", "heading"))
        title.addStretch(1)
        title.addWidget(self.verdict)
        right.addLayout(title)
        for text in (self.explain, self.status, self.reference, self.seat_note):
            text.setWordWrap(True)
        right.addWidget(self.explain)
        right.addWidget(self.run_check)
        right.addWidget(self.status)
        self.status.hide()
        inside = QWidget()
        inside.setObjectName("costs")
        below = QVBoxLayout(inside)
        below.setContentsMargins(0, 0, 10, 0)
        below.setSpacing(6)
        below.addWidget(self.reference)
        below.addWidget(self.costs)
        below.addStretch(1)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(inside)
        right.addWidget(scroll, 1)
        right.addWidget(label("Who decides in the trial", "heading"))
        right.addWidget(self.seat)
        right.addWidget(self.seat_note)
        right.addWidget(self.save)

    def forget(self) -> None:
        """Forget the checks of a design that is no longer open."""
        self.data, self._before, self._checked = None, None, None
        self.fill_seats()

    # ---- the check

    def _start_or_stop(self) -> None:
        if self._busy:
            self.check.stop()
            self._say("stopping …")
            return
        self._busy = True
        self.run_check.setText("Stop")
        self._say("building for the host …")
        self.check.start(self._model.design, self.form)

    def _finished(self, design: Design, data: dict[str, Any]) -> None:
        self._rest(data.get("skipped", ""))
        self._before, self.data, self._checked = self.data, data, (design, Form(**data["form"]))
        self.show_check(self.form)

    def _failed(self, text: str) -> None:
        self._rest(text)

    def _rest(self, text: str) -> None:
        self._busy = False
        self.run_check.setText(CHECK)
        self._say(text)

    def _say(self, text: str) -> None:
        self.status.setText(text)
        self.status.setVisible(bool(text))

    def show_check(self, form: Form) -> None:
        """Show the last check, and whether it is of the design as it is now, in a form of its C."""
        self.form, data = form, self.data
        if data is None:
            self.explain.setText(
                "Builds the C, gives it every trial's readings on this machine and on three emulated chips, and"
                " compares them bit by bit. Takes some seconds, the first time some more."
            )
            self.explain.show()
            self.verdict.setText("")
            self.reference.setText("")
            self.costs.show_costs(None, None)
            self.answered.emit(None)
            return
        current = self._checked is not None and self._checked == (self._model.design, form)
        self.explain.setText("" if current else "The design has changed since this check.")
        self.explain.setVisible(not current)
        good = data["pass"]
        self.verdict.setText("agrees" if good else "disagrees")
        set_role(self.verdict, "role", "passed" if good else "failed")
        self.costs.show_costs(data, self._before)
        self.reference.setText(said_of(data))
        answers = data.get("answers", {})
        self.answered.emit(answers.get(self._model.trial.name) or next(iter(answers.values()), None))

    # ---- who decides

    def fill_seats(self) -> None:
        """Who may decide: the built-in law, the C on each target, a law of the user's own."""
        self.seat.clear()
        own = [] if self._model.seat in SEATS else [self._model.seat]
        for seat in (*SEATS, *own):
            self.seat.addItem(seat_word(seat, self._model.design), seat)
        self.seat.addItem("A law of your own…", "")
        self.seat.setCurrentIndex(self.seat.findData(self._model.seat))

    def _seat_chosen(self, index: int) -> None:
        seat = str(self.seat.itemData(index))
        if not seat:
            name, _ = QFileDialog.getOpenFileName(self, "A law of your own", "", LAWS)
            seat = name or self._model.seat
            if name:
                self.opened.emit(name)
        self.choose_seat(seat)

    def choose_seat(self, seat: str) -> None:
        """Let another one decide, and show who."""
        self._model.choose_seat(seat)
        self.fill_seats()
        self.show_seat()

    def show_seat(self) -> None:
        """Say how the trial ends under whoever decides."""
        result = self._model.result
        if result is None:
            return
        passes = "passes" if result.verdict.passes else "fails"
        if result.request.seat != self._model.seat:
            text = "Its run is being made, or could not be."
        else:
            text = f"{self._model.trial.name}: {passes}. Shown in the Loop room."
        self.seat_note.setText(text)


def said_of(data: dict[str, Any]) -> str:
    """What a check found, in words: where two first differ, or over how many steps all are equal."""
    own, steps = data["reference"], data["targets"][0]["steps"]
    first = next((row["first_difference"] for row in data["targets"] if row["first_difference"]), None)
    counted = f"{steps:,} steps of {len(data['trials'])} trials".replace(",", " ")
    if first:
        begin = (
            f"Differ first at step {first['step']} of {first['trial']}, reading {first['reading']:g}, between"
            f" {first['between'].replace(', ', ' and ')}; of {counted}."
        )
    elif own["bit_equal"] is None:
        begin = f"Host and chips equal to the bit over {counted}."
    else:
        begin = f"Reference in single precision, host and chips equal to the bit over {counted}."
    return (
        f"{begin} From the simulation in double precision apart by: demand {own['demand'] * 100.0:.2g} %, reading"
        f" {own['measured_celsius']:.1g} °C. A time made of instructions is an estimate."
    )
