"""The bar over the room: design, trial, span, ambient, unit, pin, C."""

from __future__ import annotations

from PyQt6.QtCore import QSignalBlocker, Qt
from PyQt6.QtWidgets import QComboBox, QFrame, QHBoxLayout, QLineEdit, QPushButton, QSizePolicy, QWidget

from calor.desk.state.desk import Desk
from calor.desk.widgets.fields import label, on_button, set_role
from calor.errors import Problem
from calor.units import celsius_to, format_span, parse_duration, to_celsius


class TopBar(QFrame):
    """Names what is run, and lets the commonest of it be changed."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self.setObjectName("topbar")
        self.setFixedHeight(46)
        self._desk = desk
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 0, 16, 0)
        row.setSpacing(6)
        self.name = QPushButton()
        self.name.setProperty("role", "name")
        self.name.setToolTip("New, open, save, and the demo designs.")
        self.trial = QComboBox()
        self.trial.setAccessibleName("Trial")
        self.trial.setMinimumContentsLength(8)
        self.trial.setMaximumWidth(236)
        self.trial.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.trial.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.edit_trial = QPushButton("Edit")
        self.edit_trial.setToolTip("Change this trial: its start and its events.")
        self.edit_trial.clicked.connect(lambda: desk.view.choose_bench("trial"))
        self.span, self.ambient = QLineEdit(), QLineEdit()
        for line, name, width in ((self.span, "Span", 90), (self.ambient, "Ambient", 70)):
            line.setAccessibleName(name)
            line.setFixedWidth(width)
            line.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.span.editingFinished.connect(self._span_entered)
        self.ambient.editingFinished.connect(self._ambient_entered)
        self.unit = QPushButton()
        self.unit.setToolTip("°C, °F or K everywhere (Ctrl+U).")
        self.unit.clicked.connect(desk.view.next_unit)
        self.pin = QPushButton("Pin this run")
        self.pin.setToolTip("Keep this run underneath in grey, to compare with (Ctrl+P).")
        self.pin.clicked.connect(desk.runs.toggle_pin)
        self.keep = QPushButton("Write to journal")
        self.keep.setToolTip("Keep this run with its design, figures and verdict (Ctrl+J).")
        self.keep.clicked.connect(lambda: desk.view.ask("Write to journal"))
        self.save = QPushButton("Save")
        self.save.setProperty("role", "main")
        row.addWidget(self.name)
        row.addSpacing(6)
        self._of_design: list[QWidget] = [self.name, self.pin, self.keep, self.save]
        for text, widgets in (
            ("Trial", (self.trial, self.edit_trial)), ("Span", (self.span,)), ("Ambient", (self.ambient,)),
        ):  # fmt: skip
            words = label(text, "quiet")
            row.addWidget(words)
            for widget in widgets:
                row.addWidget(widget)
            self._of_design += [words, *widgets]
            row.addSpacing(4)
        row.setStretchFactor(self.trial, 100)
        row.addStretch(1)
        for widget in (self.unit, self.pin, self.keep, self.save):
            row.addWidget(widget)
        self.trial.activated.connect(desk.document.choose_trial)
        document, runs = desk.document, desk.runs
        for signal in (
            document.changed, document.saved, document.edited_changed, document.trial_chosen, desk.view.unit_changed,
            runs.pinned_changed, runs.changed,
        ):  # fmt: skip
            signal.connect(self.show_model)
        self.show_model()

    def show_design(self, shown: bool) -> None:
        """Say what is run, or nothing of a design that is not in sight."""
        for widget in self._of_design:
            widget.setVisible(shown)

    def tab_order(self) -> list[QWidget]:
        """The widgets in the order of the Tab key."""
        return [
            self.name,
            self.trial,
            self.edit_trial,
            self.span,
            self.ambient,
            self.unit,
            self.pin,
            self.keep,
            self.save,
        ]

    def show_model(self) -> None:
        """Show what is open."""
        desk = self._desk
        document, whole = desk.document, desk.document.design.name
        name = whole if len(whole) < 26 else whole[:24] + "…"
        self.name.setText(f"{on_button(name)}{' •' if document.edited else ''}  ▾")
        self.name.setAccessibleName(f"Design {whole}{', edited' if document.edited else ''}: menu")
        self.save.setEnabled(desk.document.edited or desk.document.path is None)
        names = [trial.name for trial in desk.document.design.trial]
        with QSignalBlocker(self.trial):
            if [self.trial.itemText(k) for k in range(self.trial.count())] != names:
                self.trial.clear()
                self.trial.addItems(names)
            self.trial.setCurrentIndex(min(desk.document.trial_number, len(names) - 1))
        if not (self.span.hasFocus() and self.span.isModified()):
            self.span.setText(format_span(desk.document.trial.span_s))
        ambient = celsius_to(desk.view.unit, desk.document.design.ambient_celsius(desk.document.trial))
        if not (self.ambient.hasFocus() and self.ambient.isModified()):
            self.ambient.setText(f"{ambient:.4g} {desk.view.unit}")
        self.unit.setText(desk.view.unit)
        self.unit.setAccessibleName(f"Unit {desk.view.unit}: next")
        self.pin.setText("Unpin" if desk.runs.pinned else "Pin this run")
        self.pin.setEnabled(desk.runs.current is not None)
        self.keep.setEnabled(desk.runs.current is not None)

    def _span_entered(self) -> None:
        if self.span.isModified():
            text = self.span.text()
            try:
                problem = self._desk.document.set_value("trial", "span_s", parse_duration(text))
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
                celsius = to_celsius(self._desk.view.unit, float(clean))
                problem = self._desk.document.set_value("trial", "ambient_celsius", celsius)
            except ValueError:
                problem = Problem("ambient", f"takes a temperature in {self._desk.view.unit}", repr(text))
            self._answer(self.ambient, problem)

    def _answer(self, line: QLineEdit, problem: Problem | None) -> None:
        line.setModified(False)
        set_role(line, "wrong", "true" if problem else "false")
        if problem:
            self._desk.say("error", str(problem))
        else:
            self._desk.document.end_merging()
            self.show_model()
