"""The bench of the trial: its span, start, ambient and events."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import Any

from pydantic import ValidationError
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from calor.design.events import EVENT_KINDS
from calor.design.recorded_ambient import read_record
from calor.design.trial import Trial
from calor.desk.bench.entries import clear, entry
from calor.desk.state.desk import Desk
from calor.desk.widgets.fields import Field, label
from calor.desk.widgets.numbers import field_for
from calor.errors import CalorError
from calor.settings import kind_word

KEYS = (
    "name", "span_s", "start_celsius", "ambient_celsius", "swing_celsius", "warmest_at_s", "humidity", "ambient_csv",
    "ambient_column", "humidity_column", "seed",
)  # fmt: skip
OF_A_RECORD = ("ambient_column", "humidity_column")
"""Settings that only a recorded ambient has a use for."""


class TrialBench(QWidget):
    """Settings and events of the chosen trial."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self.fields: dict[str, Field] = {}
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        for key in KEYS:
            field = field_for(key, Trial.model_fields[key])
            field.edited.connect(lambda value, key=key, field=field: self._edit(key, value, field))
            field.settled.connect(desk.document.end_merging)
            column.addWidget(field)
            self.fields[key] = field
        column.addSpacing(8)
        column.addWidget(label("Events", "heading"))
        self._events = QVBoxLayout()
        self._events.setSpacing(8)
        column.addLayout(self._events)
        row = QHBoxLayout()
        self.new_kind = QComboBox()
        self.new_kind.setMaxVisibleItems(len(EVENT_KINDS))
        self.new_kind.setAccessibleName("Kind of event to add")
        for kind in EVENT_KINDS:
            self.new_kind.addItem(kind_word(EVENT_KINDS[kind]), kind)
        self.add = QPushButton("Add event")
        self.add.clicked.connect(self._add)
        row.addWidget(self.new_kind, 1)
        row.addWidget(self.add)
        column.addLayout(row)
        column.addSpacing(8)
        ends = QHBoxLayout()
        self.copy = QPushButton("Copy this trial")
        self.copy.clicked.connect(desk.document.add_trial)
        self.remove = QPushButton("Remove trial")
        self.remove.clicked.connect(desk.document.remove_trial)
        ends.addWidget(self.copy)
        ends.addWidget(self.remove)
        ends.addStretch(1)
        column.addLayout(ends)
        self._shown: tuple[str, ...] | None = None
        self._event_fields: list[dict[str, Field]] = []
        self.show_model()

    def _edit(self, key: str, value: Any, field: Field) -> None:
        if key == "ambient_csv" and value:
            folder = self._desk.document.path.parent if self._desk.document.path is not None else Path.cwd()
            value = str((folder / Path(value).expanduser()).absolute())
            try:
                read_record(value, None, None)
            except CalorError as error:
                field.reject(f"{error}.")
                return
        problem = self._desk.document.set_value("trial", key, value)
        if problem is not None:
            field.reject(f"{problem.rule}.")

    def _put_events(self, events: list[Any], key: str, field: Field | None = None) -> None:
        problem = self._desk.document.set_values("trial", {"events": tuple(events)}, key)
        if problem is not None and field is not None:
            field.reject(f"{problem.rule}.")
        elif problem is not None:
            self._desk.say("error", f"{problem.rule}")

    def _add(self) -> None:
        kind = self.new_kind.currentData()
        trial = self._desk.document.trial
        values = dict(EVENT_KINDS[kind].at_first)
        if kind == "setpoint_step":
            values["celsius"] = self._desk.document.design.setpoint.celsius
        event = EVENT_KINDS[kind](at_s=round(trial.span_s / 2.0), **values)
        self._desk.document.end_merging()
        self._put_events([*trial.events, event], "")

    def _remove(self, number: int) -> None:
        self._desk.document.end_merging()
        self._put_events([event for k, event in enumerate(self._desk.document.trial.events) if k != number], "")

    def _edit_event(self, number: int, key: str, value: Any, field: Field) -> None:
        events = list(self._desk.document.trial.events)
        old = events[number]
        try:
            events[number] = type(old).model_validate({**old.model_dump(), key: value})
        except ValidationError as error:
            field.reject(f"{error.errors()[0]['msg']}.")
            return
        self._put_events(events, f"event.{number}.{key}", field)

    def show_model(self) -> None:
        """Show the chosen trial."""
        trial, unit = self._desk.document.trial, self._desk.view.unit
        for key, field in self.fields.items():
            field.show_value(getattr(trial, key), unit)
            field.setVisible(key not in OF_A_RECORD or trial.ambient_csv is not None)
        steps = trial.span_s / self._desk.document.design.law.period_s
        self.fields["span_s"].say(f"{steps:,.0f} control steps.".replace(",", " "))
        self.remove.setEnabled(len(self._desk.document.design.trial) > 1)
        kinds = tuple(event.kind for event in trial.events)
        if kinds != self._shown:
            self._shown = kinds
            self._build_events()
        for event, fields in zip(trial.events, self._event_fields, strict=True):
            for key, field in fields.items():
                field.show_value(getattr(event, key), unit)

    def _build_events(self) -> None:
        clear(self._events)
        self._event_fields = []
        for number, event in enumerate(self._desk.document.trial.events):
            own = {key: info for key, info in type(event).model_fields.items() if key != "kind"}
            frame, fields = entry(
                kind_word(type(event)), own, partial(self._remove, number), partial(self._edit_event, number),
                self._desk.document.end_merging,
            )  # fmt: skip
            self._event_fields.append(fields)
            self._events.addWidget(frame)
        if not self._event_fields:
            empty = label(
                "Nothing happens in this trial. Add a door, a step or a fault to see how it recovers.", "quiet"
            )
            empty.setWordWrap(True)
            self._events.addWidget(empty)
