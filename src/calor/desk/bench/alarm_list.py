"""The alarms on the law's bench: each with its settings, one more, one less."""

from __future__ import annotations

from functools import partial
from typing import Any

from pydantic.fields import FieldInfo
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from calor.desk.bench.entries import clear, entry
from calor.desk.state.desk import Desk
from calor.desk.widgets.fields import Field, label
from calor.law.alarm import KINDS, Alarm
from calor.settings import difference, duration, temperature, word_of

NEW_CELSIUS = {"in_band": 0.5, "out_of_band": 2.0, "deviation_high": 2.0, "deviation_low": 2.0, "loop_break": 1.0,
               "rate_of_rise": 5.0}  # fmt: skip
NEW_DELAY_S = {"loop_break": 300.0, "rate_of_rise": 60.0}


def fields_of(kind: str) -> dict[str, FieldInfo]:
    """The settings an alarm of a kind has, the temperature as what it is: absolute, or a difference."""
    fields = dict(Alarm.model_fields)
    del fields["kind"]
    if kind == "probe_fault":
        del fields["celsius"], fields["hysteresis_celsius"], fields["standby"]
        return fields
    fields["celsius"] = (
        temperature(50.0, "Alarm temperature", "The alarm is raised beyond this.")
        if kind in ("high", "low")
        else difference(1.0, "Distance", "How far from the setpoint the alarm is raised.")
    )
    fields["celsius"].annotation = float
    if kind == "rate_of_rise":
        del fields["hysteresis_celsius"], fields["standby"]
        fields["celsius"].title = "Rise"
        fields["delay_s"] = duration(
            60.0, "Time window", "The time in which it may not rise by that much.", 0.001, 86_400.0
        )
        fields["delay_s"].annotation = float
    if kind == "loop_break":
        del fields["hysteresis_celsius"], fields["standby"]
        fields["celsius"].title = "Least movement"
    return fields


class AlarmList(QWidget):
    """The alarms of the design."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self._shown: tuple[str, ...] | None = None
        self.fields: list[dict[str, Field]] = []
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 8, 0, 0)
        column.setSpacing(6)
        column.addWidget(label("Alarms", "heading"))
        self._entries = QVBoxLayout()
        self._entries.setSpacing(8)
        column.addLayout(self._entries)
        row = QHBoxLayout()
        self.new_kind = QComboBox()
        self.new_kind.setAccessibleName("Kind of alarm to add")
        for kind in KINDS:
            self.new_kind.addItem(word_of(Alarm.model_fields["kind"], kind), kind)
        self.add = QPushButton("Add alarm")
        self.add.clicked.connect(self._add)
        row.addWidget(self.new_kind, 1)
        row.addWidget(self.add)
        column.addLayout(row)
        self.show_model()

    def _put(self, alarms: list[Any], key: str = "", field: Field | None = None) -> None:
        problem = self._desk.document.set_values("guard", {"alarms": tuple(alarms)}, key)
        if problem is not None and field is not None:
            field.reject(f"{problem.rule}.")

    def _dumped(self) -> list[dict[str, Any]]:
        return [alarm.model_dump() for alarm in self._desk.document.design.guard.alarms]

    def _add(self) -> None:
        kind, setpoint = str(self.new_kind.currentData()), self._desk.document.design.setpoint.celsius
        celsius = {"high": setpoint + 2.0, "low": setpoint - 2.0}.get(kind, NEW_CELSIUS.get(kind, 0.0))
        standby = kind in ("low", "deviation_low", "out_of_band")
        new = {"kind": kind, "celsius": celsius, "delay_s": NEW_DELAY_S.get(kind, 10.0), "standby": standby}
        self._desk.document.end_merging()
        self._put([*self._dumped(), new])

    def _remove(self, number: int) -> None:
        self._desk.document.end_merging()
        self._put([alarm for k, alarm in enumerate(self._dumped()) if k != number])

    def _edit(self, number: int, key: str, value: Any, field: Field) -> None:
        alarms = self._dumped()
        alarms[number][key] = value
        self._put(alarms, f"alarm.{number}.{key}", field)

    def show_model(self) -> None:
        """Show the alarms as the design has them."""
        alarms = self._desk.document.design.guard.alarms
        kinds = tuple(alarm.kind for alarm in alarms)
        if kinds != self._shown:
            self._shown = kinds
            self._build()
        for alarm, fields in zip(alarms, self.fields, strict=True):
            for key, field in fields.items():
                field.show_value(getattr(alarm, key), self._desk.view.unit)

    def _build(self) -> None:
        clear(self._entries)
        self.fields = []
        for number, alarm in enumerate(self._desk.document.design.guard.alarms):
            frame, fields = entry(
                word_of(Alarm.model_fields["kind"], alarm.kind), fields_of(alarm.kind), partial(self._remove, number),
                partial(self._edit, number), self._desk.document.end_merging,
            )  # fmt: skip
            self.fields.append(fields)
            self._entries.addWidget(frame)
        if not self.fields:
            empty = label(
                "None yet. An alarm shows in the events lane and in the C; one that trips switches the output off.",
                "quiet",
            )
            empty.setWordWrap(True)
            self._entries.addWidget(empty)
