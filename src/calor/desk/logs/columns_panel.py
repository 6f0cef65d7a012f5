"""The first rows of a record, with a menu over each column that says what it is; units and scale beside."""

from __future__ import annotations

from dataclasses import fields
from typing import Any

from PyQt6.QtCore import QSignalBlocker, Qt
from PyQt6.QtWidgets import QComboBox, QFrame, QGridLayout, QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from calor.desk.logs.shelf import Opened, Shelf
from calor.desk.widgets.fields import as_tip, emptied, label, set_role
from calor.log.recognise import NOTHING, STAMPS, TIME_UNITS, Corrections
from calor.units import TEMPERATURE_UNITS

SHOWN_ROWS, MOST_COLUMNS = 3, 7
ROLES = {
    "": "not used", "time": "time", "temperature": "control probe", "output": "output", "setpoint": "setpoint",
    "ambient": "ambient", "kept": "other temperature", "date": "date",
}  # fmt: skip
SETTABLE = ("time", "temperature", "output", "setpoint", "ambient")


class ColumnsPanel(QFrame):
    """Each column with its role, why, and its first values."""

    def __init__(self, shelf: Shelf) -> None:
        super().__init__()
        self.setObjectName("columns")
        self._shelf = shelf
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 4, 12, 6)
        column.setSpacing(3)
        self._table = QWidget()
        self._grid = QGridLayout(self._table)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setHorizontalSpacing(8)
        self._grid.setVerticalSpacing(1)
        column.addWidget(self._table)
        below = QHBoxLayout()
        below.setSpacing(6)
        self.unit, self.time_unit, self.scale = QComboBox(), QComboBox(), QLineEdit()
        self.unit.addItems(list(TEMPERATURE_UNITS))
        self.time_unit.addItems(list(TIME_UNITS))
        self.scale.setFixedWidth(64)
        self.scale.setAlignment(Qt.AlignmentFlag.AlignRight)
        for text, widget in (
            ("Temperatures in", self.unit),
            ("Time in", self.time_unit),
            ("Full output is", self.scale),
        ):
            below.addWidget(label(text, "quiet"))
            below.addWidget(widget)
            widget.setAccessibleName(text)
        self.as_recognised = QPushButton("As recognised")
        self.as_recognised.setProperty("role", "link")
        self.as_recognised.setToolTip("Forget what was set right for files with these columns.")
        below.addStretch(1)
        below.addWidget(self.as_recognised)
        column.addLayout(below)
        self.problem = label("", "problem")
        self.problem.hide()
        column.addWidget(self.problem)
        self.menus: list[QComboBox] = []
        self.unit.activated.connect(lambda _: self._set(unit=self.unit.currentText()))
        self.time_unit.activated.connect(lambda _: self._set(time_unit=self.time_unit.currentText()))
        self.scale.editingFinished.connect(self._scale_entered)
        self.as_recognised.clicked.connect(lambda: shelf.correct(Corrections()))
        shelf.changed.connect(self.show_model)

    def show_model(self) -> None:
        """Show the chosen record's columns."""
        emptied(self._grid)
        self.menus = []
        item = self._shelf.chosen
        if item is None:
            return
        import pandas as pd

        read, frame = item.record.recognised, item.table.frame
        for number, column in enumerate(read.columns[:MOST_COLUMNS]):
            menu = QComboBox()
            menu.setAccessibleName(f"What column {column.name} is")
            for role, words in ROLES.items():
                if role != "date" or column.role == "date":
                    menu.addItem(words, role)
            menu.setCurrentIndex(menu.findData(column.role))
            menu.setToolTip(as_tip(column.why))
            menu.activated.connect(lambda _, name=column.name, box=menu: self._role_chosen(name, box.currentData()))
            self._grid.addWidget(menu, 0, number)
            name = label(column.name if len(column.name) < 22 else column.name[:20] + "…", "heading")
            name.setToolTip(as_tip(column.name))
            self._grid.addWidget(name, 1, number)
            for row, value in enumerate(frame[column.name].head(SHOWN_ROWS)):
                text = "" if pd.isna(value) else f"{value}"
                self._grid.addWidget(label(text if len(text) < 25 else text[:23] + "…", "quiet"), 2 + row, number)
            self.menus.append(menu)
        if len(read.columns) > MOST_COLUMNS:
            self._grid.addWidget(label(f"and {len(read.columns) - MOST_COLUMNS} more", "quiet"), 1, MOST_COLUMNS)
        self._grid.setColumnStretch(min(len(read.columns), MOST_COLUMNS), 1)
        self._show_units(item)
        self.as_recognised.setVisible(bool(item.corrections.given))

    def _show_units(self, item: Opened) -> None:
        read = item.record.recognised
        temperature, time, output = (read.of(role) for role in ("temperature", "time", "output"))
        with QSignalBlocker(self.unit), QSignalBlocker(self.time_unit):
            if temperature is not None:
                self.unit.setCurrentText(temperature.unit)
            self.time_unit.setEnabled(time is not None and time.unit != STAMPS)
            if time is not None and time.unit in TIME_UNITS:
                self.time_unit.setCurrentText(time.unit)
        self.scale.setEnabled(output is not None)
        self.scale.setText("" if output is None else f"{1.0 / output.scale:.6g}")
        set_role(self.scale, "wrong", "false")
        self.problem.hide()

    def _role_chosen(self, name: str, role: Any) -> None:
        """A column takes a role: whoever had it has none; one without a role is no longer what it was."""
        item = self._shelf.chosen
        if item is None:
            return
        was = next(column.role for column in item.record.recognised.columns if column.name == name)
        changes: dict[str, Any] = {}
        if was in SETTABLE:
            changes[was] = NOTHING
        if role in SETTABLE:
            changes[role] = name
        self._set(**changes)

    def _scale_entered(self) -> None:
        item = self._shelf.chosen
        if item is None or not self.scale.isModified():
            return
        self.scale.setModified(False)
        text = self.scale.text().strip().replace(",", ".")
        try:
            full = float(text)
        except ValueError:
            full = 0.0
        if not 0.0 < full < 1e12:
            set_role(self.scale, "wrong", "true")
            self.problem.setText(f"Full output takes a number above 0, 255 for example (received {text!r}).")
            self.problem.show()
            return
        self._set(output_scale=full)

    def _set(self, **changes: Any) -> None:
        item = self._shelf.chosen
        if item is not None:
            given = {entry.name: getattr(item.corrections, entry.name) for entry in fields(Corrections)}
            self._shelf.correct(Corrections(**{**given, **changes}))

    def tab_order(self) -> list[QWidget]:
        """What the Tab key reaches."""
        return [*self.menus, self.unit, self.time_unit, self.scale, self.as_recognised]
