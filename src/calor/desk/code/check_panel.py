"""The check of the C beside its sources: whether all agree, what it costs, and which controller is under test."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QComboBox, QFileDialog, QHBoxLayout, QPushButton, QScrollArea, QVBoxLayout, QWidget

from calor.design.model import Design
from calor.desk.code.code_check import CodeCheck
from calor.desk.code.cost_table import CostTable
from calor.desk.state.controllers import CONTROLLERS, controller_word
from calor.desk.state.desk import Desk
from calor.desk.widgets.fields import label, set_role
from calor.firmware.sources.form import PLAIN, Form
from calor.firmware.sources.ports import PORTS

SIDE_PX = 262
LAWS = "Laws (*.c *.py)"
CHECK = "Check on host and chips"

OUTWARD = (
    ("Thermostat alone", False, 0), ("With its serial line", True, 0), ("With its front", False, 16),
    ("With line and front", True, 16),
)  # fmt: skip
"""What the C may have to the outside: in words, whether it has its line, and how many letters its front has."""


class CheckPanel(QWidget):
    """Runs the check, shows its figures, and lets another one decide."""

    busy_changed = pyqtSignal()
    answered = pyqtSignal(object)
    """What reference and firmware answered in the chosen trial; None where there is no check."""
    opened = pyqtSignal(str)
    """The path of a law of the user's own that was chosen to decide."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self.is_busy = False
        self._checked: tuple[Design, Form] | None = None
        self.data: dict[str, Any] | None = None
        self._before: dict[str, Any] | None = None
        self.form = PLAIN
        self.check = CodeCheck()
        self.costs = CostTable()
        self.status, self.explain, self.reference = label("", "quiet"), label("", "quiet"), label("", "quiet")
        self.run_check, self.save = QPushButton(CHECK), QPushButton("Export the C…")
        self.verdict = label("", "heading")
        self.controller, self.controller_note = QComboBox(), label("", "quiet")
        self.controller.setAccessibleName("Controller under test")
        self.outward = QComboBox()
        self.outward.setAccessibleName("What the C has to the outside")
        self.outward.setToolTip("The serial line of the Board room; the front of the device, two lines and three keys.")
        for text, with_link, letters in OUTWARD:
            self.outward.addItem(text, (with_link, letters))
        self.port = QComboBox()
        self.port.setAccessibleName("Whole program for a bare chip")
        self.port.setToolTip(
            "Exported beside the C: converter, timers, pins, line and watchdog of a chip, and a Makefile."
        )
        self.port.addItem("No board program", None)
        for one in PORTS.values():
            self.port.addItem(f"Board program, {one.short}", one)
        self._lay_out()
        self.fill_controllers()
        self.controller.activated.connect(self._controller_chosen)
        self.run_check.clicked.connect(self._start_or_stop)
        self.check.progressed.connect(self._say)
        self.check.finished.connect(self._finished)
        self.check.failed.connect(self._failed)
        desk.runs.changed.connect(self.show_controller)

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
        for text in (self.explain, self.status, self.reference, self.controller_note):
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
        right.addWidget(label("Controller under test", "heading"))
        right.addWidget(self.controller)
        right.addWidget(self.controller_note)
        right.addSpacing(6)
        right.addWidget(label("Generated C", "heading"))
        right.addWidget(self.outward)
        right.addWidget(self.port)
        right.addWidget(self.save)

    def _set_busy(self, busy: bool) -> None:
        self.is_busy = busy
        self.busy_changed.emit()

    def forget(self) -> None:
        """Forget the checks of a design that is no longer open."""
        self.data, self._before, self._checked = None, None, None
        self.fill_controllers()

    # ---- the check

    def _start_or_stop(self) -> None:
        if self.is_busy:
            self.check.stop()
            self._say("stopping …")
            return
        self._set_busy(True)
        self.run_check.setText("Stop")
        self._say("building for the host …")
        self.check.start(self._desk.document.design, self.form)

    def _finished(self, design: Design, data: dict[str, Any]) -> None:
        self._rest(data.get("skipped", ""))
        self._before, self.data, self._checked = self.data, data, (design, Form(**data["form"]))
        self.show_check(self.form)

    def _failed(self, text: str) -> None:
        self._rest(text)

    def _rest(self, text: str) -> None:
        self._set_busy(False)
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
        current = self._checked is not None and self._checked == (self._desk.document.design, form)
        self.explain.setText("" if current else "The design has changed since this check.")
        self.explain.setVisible(not current)
        good = data["pass"]
        self.verdict.setText("agrees" if good else "disagrees")
        set_role(self.verdict, "role", "passed" if good else "failed")
        self.costs.show_costs(data, self._before)
        self.reference.setText(said_of(data))
        answers = data.get("answers", {})
        self.answered.emit(answers.get(self._desk.document.trial.name) or next(iter(answers.values()), None))

    # ---- the controller under test

    def fill_controllers(self) -> None:
        """Who may decide: the built-in law, the C on each target, a law of the user's own."""
        self.controller.clear()
        own_file = [] if self._desk.runs.controller in CONTROLLERS else [self._desk.runs.controller]
        for name in (*CONTROLLERS, *own_file):
            self.controller.addItem(controller_word(name, self._desk.document.design), name)
        self.controller.addItem("Your own code…", "")
        self.controller.setCurrentIndex(self.controller.findData(self._desk.runs.controller))

    def _controller_chosen(self, index: int) -> None:
        name = str(self.controller.itemData(index))
        if not name:
            name, _ = QFileDialog.getOpenFileName(self, "Your own controller code", "", LAWS)
            name = name or self._desk.runs.controller
            if name:
                self.opened.emit(name)
        self.choose_controller(name)

    def choose_controller(self, name: str) -> None:
        """Let another one decide, and show who."""
        self._desk.runs.choose_controller(name)
        self.fill_controllers()
        self.show_controller()

    def show_controller(self) -> None:
        """Say how the trial ends under whoever decides."""
        result = self._desk.runs.current
        if result is None:
            return
        passes = {True: "passes", False: "fails", None: "nothing is judged"}[result.verdict.outcome]
        if result.request.controller != self._desk.runs.controller:
            text = "Its run is being made, or could not be."
        else:
            text = f"{self._desk.document.trial.name}: {passes}. Shown in the Loop room."
        self.controller_note.setText(text)


def said_of(data: dict[str, Any]) -> str:
    """What a check found, in words: where two first differ, or over how many steps all are equal."""
    own, steps = data["reference"], data["targets"][0]["steps"]
    first = next((row["first_difference"] for row in data["targets"] if row["first_difference"]), None)
    made = f"{own['branch_steps']:,}".replace(",", "\u00a0")
    counted = f"{steps:,} steps of {len(data['trials'])} trials and".replace(",", " ")
    counted += f" {made} made for every branch"
    if "coverage" in data:
        counted += f" ({data['coverage']['taken']} of {data['coverage']['branches']} taken)"
    if first:
        begin = (
            f"Differ first at step {first['step']} of {first['trial']}, reading {first['reading']:g}, between"
            f" {first['between'].replace(', ', ' and ')}; of {counted}."
        )
    else:
        numbers = "Q16.16" if data["form"]["fixed"] else "single precision"
        begin = f"Reference in {numbers}, host and chips bit-identical over {counted}."
    other = [one for one in data["fails"] if not first or not one.endswith(" differs")]
    if other:
        begin += f" Fails: {'; '.join(other)}."
    elif data.get("conversations"):
        begin += f" Line and front: {data['conversations'][0]['commands']} commands, keys and power cuts, all right."
    return (
        f"{begin} From the simulation in double precision apart by: demand {own['demand'] * 100.0:.2g} %, reading"
        f" {own['measured_celsius']:.1g} °C. A time made of instructions is an estimate."
    )
