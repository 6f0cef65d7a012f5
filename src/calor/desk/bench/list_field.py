"""Lists of settings on a bench: stages, segments of a program, gain sets. One more, one less, each with its fields."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any, NamedTuple

from PyQt6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from calor.design.model import Design
from calor.desk.bench.entries import clear, entry
from calor.desk.state.desk import Desk
from calor.desk.widgets.fields import Field, label
from calor.law.gains import MOST_GAIN_SETS, GainSet
from calor.law.outputs import MOST_OUTPUTS
from calor.law.program import MOST_SEGMENTS, Segment
from calor.law.stages import Stage
from calor.settings import Settings


class ListOf(NamedTuple):
    """A list in a block: its key, heading, what one entry is called and is, how many there may be, and a new one."""

    key: str
    heading: str
    noun: str
    model: type[Settings]
    fewest: int
    most: int
    new: Callable[[Design], dict[str, Any]]
    empty: str = ""


def _new_stage(design: Design) -> dict[str, Any]:
    law: Any = design.law
    last = law.stages[-1].on_offset_celsius
    return {"on_offset_celsius": last + (-1.5 if law.action == "heat" else 1.5)}


def _new_segment(design: Design) -> dict[str, Any]:
    setpoint: Any = design.setpoint
    return {"to_celsius": setpoint.segments[-1].to_celsius, "rate_celsius_per_min": 1.0, "soak_s": 600.0}


def _new_gain_set(design: Design) -> dict[str, Any]:
    law: Any = design.law
    at = law.gain_sets[-1].at_celsius + 10.0 if law.gain_sets else design.setpoint.celsius
    keys = ("gain_per_celsius", "integral_time_s", "derivative_time_s")
    source = law.gain_sets[-1] if law.gain_sets else law
    return {"at_celsius": at, **{key: getattr(source, key) for key in keys}}


LISTS: dict[tuple[str, str], ListOf] = {
    ("law", "stages"): ListOf("stages", "Stages", "Stage", Stage, 1, MOST_OUTPUTS, _new_stage),
    ("setpoint", "program"): ListOf("segments", "Segments", "Segment", Segment, 1, MOST_SEGMENTS, _new_segment),
    ("law", "pid"): ListOf(
        "gain_sets", "Gain sets", "Set", GainSet, 0, MOST_GAIN_SETS, _new_gain_set,
        "None: the gains above hold everywhere. Gains tuned at one temperature misbehave far from it.",
    ),
}  # fmt: skip


class ListField(QWidget):
    """One list, each of its entries with its fields."""

    def __init__(self, desk: Desk, block: str, what: ListOf) -> None:
        super().__init__()
        self._desk, self._block, self.what = desk, block, what
        self._shown = -1
        self.fields: list[dict[str, Field]] = []
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 8, 0, 0)
        column.setSpacing(6)
        column.addWidget(label(what.heading, "heading"))
        self._entries = QVBoxLayout()
        self._entries.setSpacing(8)
        column.addLayout(self._entries)
        self.add = QPushButton(f"Add a {what.noun.lower()}")
        self.add.clicked.connect(self._add)
        column.addWidget(self.add)
        self.show_model()

    def _values(self) -> tuple[Any, ...]:
        found: tuple[Any, ...] = getattr(self._desk.document.settings_of(self._block), self.what.key, ())
        return found

    def _put(self, values: list[Any], key: str = "", field: Field | None = None) -> None:
        problem = self._desk.document.set_values(self._block, {self.what.key: tuple(values)}, key)
        if problem is not None and field is not None:
            field.reject(f"{problem.rule}.")
        elif problem is not None:
            self._desk.say("error", str(problem))

    def _dumped(self) -> list[dict[str, Any]]:
        return [value.model_dump() for value in self._values()]

    def _add(self) -> None:
        self._desk.document.end_merging()
        self._put([*self._dumped(), self.what.new(self._desk.document.design)])

    def _remove(self, number: int) -> None:
        self._desk.document.end_merging()
        self._put([value for k, value in enumerate(self._dumped()) if k != number])

    def _edit(self, number: int, key: str, value: Any, field: Field) -> None:
        values = self._dumped()
        values[number][key] = value
        # a ramp is given by its rate or by its time
        if value is not None and key in ("rate_celsius_per_min", "ramp_s"):
            values[number]["ramp_s" if key == "rate_celsius_per_min" else "rate_celsius_per_min"] = None
        self._put(values, f"{self._block}.{self.what.key}.{number}.{key}", field)

    def show_model(self) -> None:
        """Show the entries as the design has them."""
        values = self._values()
        if len(values) != self._shown:
            self._shown = len(values)
            self._build()
        self.add.setEnabled(len(values) < self.what.most)
        for value, fields in zip(values, self.fields, strict=True):
            for key, field in fields.items():
                field.show_value(getattr(value, key), self._desk.view.unit)

    def _build(self) -> None:
        clear(self._entries)
        self.fields = []
        count = len(self._values())
        for number in range(count):
            remove = partial(self._remove, number) if count > self.what.fewest else None
            frame, fields = entry(
                f"{self.what.noun} {number + 1}", self.what.model.model_fields, remove, partial(self._edit, number),
                self._desk.document.end_merging,
            )  # fmt: skip
            self.fields.append(fields)
            self._entries.addWidget(frame)
        if not count and self.what.empty:
            empty = label(self.what.empty, "quiet")
            empty.setWordWrap(True)
            self._entries.addWidget(empty)
