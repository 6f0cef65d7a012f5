"""The bar over the room: design, trial, span, ambient, unit, pin, C."""

from __future__ import annotations

from PyQt6.QtCore import QSignalBlocker, Qt
from PyQt6.QtWidgets import QComboBox, QFrame, QHBoxLayout, QLineEdit, QPushButton, QWidget

from calor.desk.state.model import Model
from calor.desk.widgets.fields import label, set_role
from calor.errors import Problem
from calor.units import TEMPERATURE_UNITS, celsius_to, format_span, parse_duration, to_celsius


class TopBar(QFrame):
    """Names what is run, and lets the commonest of it be changed."""

    def __init__(self, model: Model) -> None:
        super().__init__()
        self.setObjectName("topbar")
        self.setFixedHeight(46)
        self._model = model
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 0, 16, 0)
        row.setSpacing(6)
        self.name = QPushButton()
        self.name.setProperty("role", "name")
        self.name.setToolTip("New, open, save, and the demo designs.")
        self.trial = QComboBox()
        self.trial.setAccessibleName("Trial")
        self.trial.setMinimumContentsLength(22)
        self.trial.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.edit_trial = QPushButton("Edit")
        self.edit_trial.setToolTip("Change this trial: its start and its events.")
        self.edit_trial.clicked.connect(lambda: model.choose_bench("trial"))
        self.span, self.ambient = QLineEdit(), QLineEdit()
        for line, name, width in ((self.span, "Span", 96), (self.ambient, "Ambient", 70)):
            line.setAccessibleName(name)
            line.setFixedWidth(width)
            line.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.span.editingFinished.connect(self._span_entered)
        self.ambient.editingFinished.connect(self._ambient_entered)
        self.unit = QPushButton()
        self.unit.setToolTip("°C, °F or K everywhere (Ctrl+U).")
        self.unit.clicked.connect(self.next_unit)
        self.pin = QPushButton("Pin this run")
        self.pin.setToolTip("Keep this run underneath in grey, to compare with (Ctrl+P).")
        self.pin.clicked.connect(self._toggle_pin)
        self.save = QPushButton("Save")
        self.save.setProperty("role", "main")
        row.addWidget(self.name)
        row.addSpacing(6)
        for text, widgets in (
            ("Trial", (self.trial, self.edit_trial)), ("Span", (self.span,)), ("Ambient", (self.ambient,)),
        ):  # fmt: skip
            row.addWidget(label(text, "quiet"))
            for widget in widgets:
                row.addWidget(widget)
            row.addSpacing(4)
        row.addStretch(1)
        for widget in (self.unit, self.pin, self.save):
            row.addWidget(widget)
        self.trial.activated.connect(model.choose_trial)
        for signal in (model.design_changed, model.unit_changed, model.pinned_changed, model.run_changed):
            signal.connect(self.show_model)
        self.show_model()

    def order(self) -> list[QWidget]:
        """The widgets in the order of the Tab key."""
        return [self.name, self.trial, self.edit_trial, self.span, self.ambient, self.unit, self.pin, self.save]

    def show_model(self) -> None:
        """Show what is open."""
        model = self._model
        name = model.design.name if len(model.design.name) < 26 else model.design.name[:24] + "…"
        self.name.setText(f"{name}{' •' if model.edited else ''}  ▾")
        self.name.setAccessibleName(f"Design {model.design.name}{', edited' if model.edited else ''}: menu")
        self.save.setEnabled(model.edited or model.path is None)
        names = [trial.name for trial in model.design.trial]
        with QSignalBlocker(self.trial):
            if [self.trial.itemText(k) for k in range(self.trial.count())] != names:
                self.trial.clear()
                self.trial.addItems(names)
            self.trial.setCurrentIndex(min(model.trial_number, len(names) - 1))
        if not (self.span.hasFocus() and self.span.isModified()):
            self.span.setText(format_span(model.trial.span_s))
        ambient = celsius_to(model.unit, model.design.ambient_celsius(model.trial))
        if not (self.ambient.hasFocus() and self.ambient.isModified()):
            self.ambient.setText(f"{ambient:.4g} {model.unit}")
        self.unit.setText(model.unit)
        self.unit.setAccessibleName(f"Unit {model.unit}: next")
        self.pin.setText("Unpin" if model.pinned else "Pin this run")
        self.pin.setEnabled(model.result is not None)

    def next_unit(self) -> None:
        """The next of °C, °F and K."""
        now = TEMPERATURE_UNITS.index(self._model.unit)
        self._model.set_unit(TEMPERATURE_UNITS[(now + 1) % len(TEMPERATURE_UNITS)])

    def _toggle_pin(self) -> None:
        if self._model.pinned:
            self._model.unpin()
        else:
            self._model.pin()

    def _span_entered(self) -> None:
        if self.span.isModified():
            text = self.span.text()
            try:
                problem = self._model.set_value("trial", "span_s", parse_duration(text))
            except ValueError:
                problem = Problem("span", "takes a time such as 2 h, 90 min or 1:30:00", repr(text))
            self._answer(self.span, problem)

    def _ambient_entered(self) -> None:
        if self.ambient.isModified():
            text = self.ambient.text()
            clean = text.replace(",", ".").replace("−", "-")
            for mark in ("°C", "°F", "K", "°"):
                clean = clean.replace(mark, "")
            try:
                problem = self._model.set_value("trial", "ambient_celsius", to_celsius(self._model.unit, float(clean)))
            except ValueError:
                problem = Problem("ambient", f"takes a temperature in {self._model.unit}", repr(text))
            self._answer(self.ambient, problem)

    def _answer(self, line: QLineEdit, problem: Problem | None) -> None:
        line.setModified(False)
        set_role(line, "wrong", "true" if problem else "false")
        if problem:
            self._model.noticed.emit("error", str(problem))
        else:
            self._model.end_merging()
            self.show_model()
