"""Rows as they come, as a run that grows: what is drawn and measured of a board while it is on the line."""

from __future__ import annotations

import math

import numpy as np

from calor.compiled import Column
from calor.loop.trace import RunEvent, Trace

FIRST_ROOM = 4096
KEYS = {
    "time_s": ("time_s", "time", "t"), "measured_celsius": ("measured_celsius", "temp_celsius", "temperature", "temp"),
    "setpoint_celsius": ("setpoint_celsius", "setpoint"), "demand": ("demand", "output", "duty"), "counts": ("counts",),
    "flags": ("flags",),
}  # fmt: skip
"""Under which keys a board may send what a run has."""


class LiveRows:
    """Columns that grow; a row that the board sends after it began afresh goes on where the last one was."""

    def __init__(self) -> None:
        self._room = {name: np.full(FIRST_ROOM, np.nan) for name in KEYS}
        self._nothing = np.full(FIRST_ROOM, np.nan)
        self._has_demand = False
        self.count = 0
        self._offset_s = 0.0
        self.marks: list[RunEvent] = []

    def add(self, values: dict[str, float], arrived_s: float) -> None:
        """One row more."""
        if self.count == len(self._room["time_s"]):
            self._room = {
                name: np.concatenate((column, np.full(self.count, np.nan))) for name, column in self._room.items()
            }
            self._nothing = np.full(2 * self.count, np.nan)
        for name, keys in KEYS.items():
            value = next((values[key] for key in keys if key in values), math.nan)
            self._room[name][self.count] = value
        flags = self._room["flags"]
        flags[self.count] = flags[self.count] if math.isfinite(flags[self.count]) else 0.0
        self._has_demand = self._has_demand or math.isfinite(self._room["demand"][self.count])
        own = self._room["time_s"]
        if math.isnan(own[self.count]):
            own[self.count] = arrived_s
        elif self.count and own[self.count] + self._offset_s <= own[self.count - 1]:
            # it began afresh, or a row came late: time only goes on
            self._offset_s = own[self.count - 1] + 1e-3 - own[self.count]
        own[self.count] += self._offset_s
        self.count += 1

    def column(self, name: str) -> Column:
        """A column so far."""
        return self._room[name][: self.count]

    @property
    def now_s(self) -> float:
        """The time of the last row."""
        return float(self._room["time_s"][self.count - 1]) if self.count else 0.0

    def mark(self, text: str) -> None:
        """Write down that something happened now."""
        self.marks.append(RunEvent(self.now_s, "mark", text))

    def trace(self, name: str) -> Trace | None:
        """The rows so far as a run; None where there are fewer than two."""
        if self.count < 2:
            return None
        # a million rows are looked at four times a second: views, and no copies but of the time
        empty, demand = self._nothing[: self.count], self.column("demand")
        first_s = float(self._room["time_s"][0])
        time_s = self.column("time_s") - first_s if first_s else self.column("time_s")
        return Trace(
            time_s, empty, empty, self.column("counts"), self.column("measured_celsius"),
            self.column("setpoint_celsius"), demand, demand, self.column("flags"), span_s=float(time_s[-1]),
            events=tuple(mark._replace(at_s=mark.at_s - first_s) for mark in self.marks), name=name,
            recorded_output=demand if self._has_demand else None,
        )  # fmt: skip
