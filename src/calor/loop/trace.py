"""What a run leaves behind, simulated or recorded: columns over time, switching instants, events."""

from __future__ import annotations

from copy import copy
from dataclasses import dataclass, field
from enum import IntFlag
from functools import cached_property
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from calor.compiled import Column
from calor.units import TemperatureUnit, celsius_to, difference_to

COLUMNS = (
    "time_s", "true_celsius", "probe_celsius", "counts", "measured_celsius", "setpoint_celsius", "demand", "delivered",
    "flags",
)  # fmt: skip


class Flag(IntFlag):
    """What was the matter at a row; flags add up."""

    PROBE_FAULT = 1
    CUT_OUT = 2
    MAINS_LOST = 4
    GAP = 8
    # which fault of the probe, beside PROBE_FAULT: in the order of sense.checks
    PROBE_OPEN = 16
    PROBE_SHORT = 32
    PROBE_RANGE = 64
    PROBE_RATE = 128
    PROBE_REVERSED = 256
    PROBE_STUCK = 512
    # the others
    BY_HAND = 1024
    STALLED = 2048
    TRIPPED = 4096
    TUNING = 8192


class RunEvent(NamedTuple):
    """Something that happened: when, which kind, and in words.

    `until_s` is NaN where it is an instant; `celsius` is the temperature its words name, NaN where they name none.
    """

    at_s: float
    kind: str
    text: str
    until_s: float = float("nan")
    celsius: float = float("nan")
    is_difference: bool = False

    def text_in(self, unit: TemperatureUnit) -> str:
        """The words with the temperature in them, if any, in `unit`."""
        if np.isnan(self.celsius):
            return self.text
        convert = difference_to if self.is_difference else celsius_to
        return self.text.replace(f"{self.celsius:g} °C", f"{convert(unit, self.celsius):.4g} {unit}")


class Output(NamedTuple):
    """One output of a law with several: what was asked of it, and what was switched when.

    `demand` and `delivered` are columns like those of the run; `switch_s` and `switch_level` the instants of its
    changes. `switches`: it goes on and off itself; `switches_supply`: a relay takes its supply away where nothing is
    asked.
    """

    name: str
    demand: Column
    delivered: Column
    switch_s: Column
    switch_level: Column
    switches: bool
    switches_supply: bool = False

    def switchings(self) -> int:
        """How often it, or the relay of its supply, changed between off and on, each way counted once."""
        return _switchings(self)


class Tuning(NamedTuple):
    """One self-tuning: when it began and ended (s), what came of it (`law.autotune.REASONS`), and what it found.

    Gains in standard form, per °C and s; NaN where it found none.
    """

    began_s: float
    ended_s: float
    result: int
    gain_per_celsius: float
    integral_time_s: float
    derivative_time_s: float


class Disturbance(NamedTuple):
    """An event the law has to recover from: when it begins, and from when recovery is counted."""

    begins_s: float
    recovers_from_s: float
    text: str


def changes_of(switch_level: Column) -> int:
    """How often an output that starts off changes between off and on."""
    on = np.concatenate(([False], switch_level > 0.0))
    return int(np.count_nonzero(on[1:] != on[:-1]))


def _switchings(one: Output | Trace) -> int:
    """How often an output, or the relay of its supply, changed between off and on."""
    if one.switches:
        return changes_of(one.switch_level)
    return changes_of(one.demand) if one.switches_supply else 0


def given_over(
    switch_s: Column, switch_level: Column, time_s: Column, delivered: Column, span_s: float
) -> tuple[Column, Column]:
    """Instants, and an output summed over time until each (s): by its switching, else by what each row was given."""
    if len(switch_s) or not np.isfinite(delivered).any():
        instants = np.concatenate(([0.0], switch_s, [max(span_s, 1e-9)]))
        levels = np.concatenate(([0.0], switch_level))
    else:
        instants, levels = time_s, delivered[:-1]
        if np.isnan(levels.sum()):  # a long record without a gap is not copied
            levels = np.nan_to_num(levels)
    return instants, np.concatenate(([0.0], np.cumsum(np.diff(instants) * levels)))


@dataclass(frozen=True, eq=False)
class Trace:
    """A run. Columns are float64 of one length; what a run does not have is NaN.

    time_s            start of the row; row k of a simulated run is at k·period_s
    true_celsius      temperature where the probe sits
    probe_celsius     temperature of the probe itself
    counts            code of the converter
    measured_celsius  temperature as the firmware has it; NaN where the probe reads a fault
    setpoint_celsius  what the law aims at
    demand            what the law asks for, fraction of full output; below 0: of the cooling output
    delivered         what was given until the next row, mean fraction of full output; below 0: cooling
    flags             sum of Flag

    `alarms` are the raised ones of each row, the nth alarm of the design counting 2ⁿ; none where it is empty.

    `switch_s` and `switch_level` are the exact instants at which the output changed, and to what. Where a law has
    several outputs, they are the first one's, and `outputs` has all of them. `power_watt` is the electrical power of
    each row. `tunings` are the self-tunings that were asked for and came to an end.
    """

    time_s: Column
    true_celsius: Column
    probe_celsius: Column
    counts: Column
    measured_celsius: Column
    setpoint_celsius: Column
    demand: Column
    delivered: Column
    flags: Column
    span_s: float
    switch_s: Column = field(default_factory=lambda: np.empty(0))
    switch_level: Column = field(default_factory=lambda: np.empty(0))
    switches: bool = True
    switches_supply: bool = False
    cools: bool = False
    power_watt: Column | None = None
    outputs: tuple[Output, ...] = ()
    disturbances: tuple[Disturbance, ...] = ()
    events: tuple[RunEvent, ...] = ()
    name: str = ""
    recorded_output: Column | None = None
    alarms: Column = field(default_factory=lambda: np.empty(0))
    tunings: tuple[Tuning, ...] = ()

    @property
    def steps(self) -> int:
        """Number of rows."""
        return len(self.time_s)

    def durations_s(self) -> Column:
        """How long each row lasts, s; the last one until the end of the span."""
        if not self.steps:
            return np.empty(0)
        return np.diff(self.time_s, append=max(self.span_s, self.time_s[-1]))

    def switchings(self) -> int:
        """How often the output changed between off and on, each way counted once; of several the busiest one."""
        if self.outputs:
            return max(item.switchings() for item in self.outputs)
        if len(self.switch_s) or not self.switches:
            return _switchings(self)
        known = self.delivered[np.isfinite(self.delivered)]
        on = known > 0.5
        return int(np.count_nonzero(on[1:] != on[:-1]))

    def on_intervals(self) -> tuple[Column, Column]:
        """Starts and ends (s) of the intervals in which the output was on."""
        on = self.switch_level > 0.0
        starts = self.switch_s[on & ~np.concatenate(([False], on[:-1]))] if len(on) else np.empty(0)
        ends = self.switch_s[~on & np.concatenate(([False], on[:-1]))] if len(on) else np.empty(0)
        if len(ends) < len(starts):
            ends = np.append(ends, self.span_s)
        return starts, ends

    @cached_property
    def whole_flags(self) -> npt.NDArray[np.int64]:
        """The flags as whole numbers; a single 0 where no row has any."""
        return self.flags.astype(np.int64) if self.flags.max(initial=0.0) > 0.0 else np.zeros(1, np.int64)

    @cached_property
    def alarm_changes(self) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]]:
        """Rows at which other alarms are raised than at the row before, at first than none; and which they are."""
        alarms = self.alarms
        rows = np.flatnonzero(alarms[1:] != alarms[:-1]) + 1
        if len(alarms) and alarms[0]:
            rows = np.concatenate(([0], rows))
        return rows, alarms[rows].astype(np.int64)

    def with_events(self, events: tuple[RunEvent, ...]) -> Trace:
        """The same run with other events. What was worked out of its columns is kept."""
        after = copy(self)
        object.__setattr__(after, "events", events)
        return after

    @cached_property
    def measured_range(self) -> tuple[float, float]:
        """Lowest and highest reading; NaN twice where there is none."""
        low = float(self.measured_celsius.min()) if self.steps else np.nan
        if not np.isnan(low):
            return low, float(self.measured_celsius.max())
        known = self.measured_celsius[np.isfinite(self.measured_celsius)]
        return (float(known.min()), float(known.max())) if len(known) else (np.nan, np.nan)

    @cached_property
    def line(self) -> tuple[Column, Column]:
        """Times and readings to draw as a line: broken by a NaN before each row that follows a gap."""
        rows = np.flatnonzero(self.whole_flags & Flag.GAP)
        if not len(rows):
            return self.time_s, self.measured_celsius
        return np.insert(self.time_s, rows, self.time_s[rows]), np.insert(self.measured_celsius, rows, np.nan)

    @cached_property
    def given(self) -> tuple[Column, Column]:
        """Instants, and the output given until each, summed over time (s): exact where the switching is known."""
        return given_over(self.switch_s, self.switch_level, self.time_s, self.delivered, self.span_s)

    def table(self) -> dict[str, Column]:
        """The columns by name, in their order; the recorded output where there is one."""
        columns = {name: getattr(self, name) for name in COLUMNS}
        for number, output in enumerate(self.outputs, 1):
            columns[f"demand_{number}"], columns[f"delivered_{number}"] = output.demand, output.delivered
        if self.recorded_output is not None:
            columns["recorded_output"] = self.recorded_output
        return columns
