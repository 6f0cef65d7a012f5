"""The figures of a recorded run, or of a stretch of it: those of a simulated one, and what a record has beside."""

from __future__ import annotations

from dataclasses import asdict, dataclass, replace
from typing import Any

import numpy as np

from calor.compiled import Column
from calor.judge.metrics import Mask, Metrics, measure, settled_stretch_s
from calor.log.cycles import Cycles, cycles_of
from calor.log.read import Record
from calor.log.step import Step, step_of
from calor.loop.trace import Flag, Trace

DAY_BEGINS_S, DAY_ENDS_S = 6 * 3600.0, 22 * 3600.0
"""Day is from 06:00 to 22:00 (common practice)."""
DAY_S = 86_400.0
LEAST_SHARE_OF_A_DAY = 0.5


@dataclass(frozen=True)
class Part:
    """Figures of the day, or of the night."""

    hours: float
    mean_celsius: float
    lowest_celsius: float
    highest_celsius: float
    mean_ambient_celsius: float | None
    on_fraction: float | None
    switchings_per_hour: float | None


@dataclass(frozen=True)
class Figures:
    """All figures of a record, or of a stretch of it."""

    from_s: float
    to_s: float
    rows: int
    metrics: Metrics
    mean_celsius: float
    drift_celsius_per_h: float | None
    mean_ambient_celsius: float | None
    step: Step | None
    cycles: Cycles | None
    day: Part | None
    night: Part | None

    def plain(self) -> dict[str, Any]:
        """As data, keys with their units."""
        return {
            "from_s": self.from_s, "to_s": self.to_s, "rows": self.rows, "mean_celsius": self.mean_celsius,
            "drift_celsius_per_h": self.drift_celsius_per_h, "mean_ambient_celsius": self.mean_ambient_celsius,
            "metrics": asdict(self.metrics), "step": None if self.step is None else asdict(self.step),
            "cycles": None if self.cycles is None else _cycles(self.cycles),
            "day": None if self.day is None else {"from": "06:00", "to": "22:00", **asdict(self.day)},
            "night": None if self.night is None else {"from": "22:00", "to": "06:00", **asdict(self.night)},
        }  # fmt: skip


def _cycles(cycles: Cycles) -> dict[str, Any]:
    return {
        name: None if value is None else dict(zip(("mean", "spread", "count"), value, strict=True))
        for name, value in ((name, getattr(cycles, name)) for name in Cycles.__dataclass_fields__)
    }


def figures_of(
    record: Record, band_celsius: float, from_s: float | None = None, to_s: float | None = None,
    setpoint_celsius: float | None = None,
) -> Figures:  # fmt: skip
    """The figures of `record` between two times, s; of all of it where they are left out.

    `setpoint_celsius` is taken where the record has no column of it. Raises ValueError where no row with a reading is
    between them.
    """
    trace = record.trace
    first_s, last_s = float(trace.time_s[0]), float(trace.time_s[-1])
    begin_s, end_s = first_s if from_s is None else from_s, last_s if to_s is None else to_s
    rows = (trace.time_s >= begin_s) & (trace.time_s <= end_s)
    if (rows & np.isfinite(trace.measured_celsius)).sum() < 2:
        between = f"from {begin_s:g} to {end_s:g} s, of {first_s:g} to {last_s:g} s"
        raise ValueError(f"holds fewer than two readings {between}")
    part = stretch(trace, rows, setpoint_celsius)
    known = np.isfinite(part.measured_celsius)
    ambient = None if record.ambient_celsius is None else record.ambient_celsius[rows]
    day, night = _day_and_night(record, part, ambient, begin_s)
    begin_row = int(np.flatnonzero(rows)[0])
    return Figures(
        float(trace.time_s[begin_row]), float(trace.time_s[np.flatnonzero(rows)[-1]]), int(rows.sum()),
        measure(part, band_celsius), float(part.measured_celsius[known].mean()), _drift(part),
        None if ambient is None or not np.isfinite(ambient).any() else float(np.nanmean(ambient)),
        step_of(part), cycles_of(part), day, night,
    )  # fmt: skip


def stretch(trace: Trace, rows: Mask, setpoint_celsius: float | None = None) -> Trace:
    """Some rows of a recorded run as a run of its own, its time from 0."""
    time_s = trace.time_s[rows]
    columns = {
        name: getattr(trace, name)[rows]
        for name in ("true_celsius", "probe_celsius", "counts", "measured_celsius", "setpoint_celsius", "demand",
                     "delivered", "flags")
    }  # fmt: skip
    if setpoint_celsius is not None and not np.isfinite(columns["setpoint_celsius"]).any():
        columns["setpoint_celsius"] = np.full(len(time_s), setpoint_celsius)
    output = None if trace.recorded_output is None else trace.recorded_output[rows]
    begin_s = float(time_s[0])
    events = tuple(
        event._replace(at_s=event.at_s - begin_s, until_s=event.until_s - begin_s)
        for event in trace.events
        if begin_s <= event.at_s <= float(time_s[-1])
    )
    return replace(
        trace, time_s=time_s - begin_s, span_s=float(time_s[-1]) - begin_s, events=events, recorded_output=output,
        **columns,
    )  # fmt: skip


def _drift(trace: Trace) -> float | None:
    """Slope of what counts as settled, °C/h, over whole cycles where there are any."""
    begin_s, end_s = settled_stretch_s(trace)
    rows = (trace.time_s >= begin_s) & (trace.time_s <= end_s) & np.isfinite(trace.measured_celsius)
    if rows.sum() < 10:
        return None
    time_s, celsius = trace.time_s[rows], trace.measured_celsius[rows]
    middle = 0.5 * (float(celsius.max()) + float(celsius.min()))
    ups = np.flatnonzero((celsius[1:] >= middle) & (celsius[:-1] < middle))
    if len(ups) >= 3:
        counts = np.diff(ups)
        means = [np.add.reduceat(column, ups)[:-1] / counts for column in (time_s, celsius)]
        time_s, celsius = means[0], means[1]
    return float(np.polyfit(time_s - time_s[0], celsius, 1)[0]) * 3600.0


def _day_and_night(
    record: Record, part: Trace, ambient: Column | None, begin_s: float
) -> tuple[Part | None, Part | None]:
    """Figures of both, where the record knows its clock and has some of either."""
    if record.begins is None or part.span_s < LEAST_SHARE_OF_A_DAY * DAY_S:
        return None, None
    clock = np.mod(record.begins + begin_s + part.time_s, DAY_S)
    is_day = (clock >= DAY_BEGINS_S) & (clock < DAY_ENDS_S)
    return _part(part, is_day, ambient), _part(part, ~is_day, ambient)


def _part(trace: Trace, rows: Mask, ambient: Column | None) -> Part | None:
    usable = rows & ((trace.flags.astype(np.int64) & Flag.GAP) == 0)
    known = usable & np.isfinite(trace.measured_celsius)
    if known.sum() < 10:
        return None
    lasts_s = np.minimum(trace.durations_s(), 5.0 * float(np.median(np.diff(trace.time_s))))
    hours = float(lasts_s[usable].sum()) / 3600.0
    celsius = trace.measured_celsius[known]
    on = switchings = None
    if trace.recorded_output is not None:
        given = usable & np.isfinite(trace.recorded_output)
        on = float((trace.recorded_output[given] * lasts_s[given]).sum() / max(lasts_s[given].sum(), 1e-9))
        was_on = trace.recorded_output > 0.5
        changes = np.concatenate(([False], was_on[1:] != was_on[:-1])) & usable
        switchings = float(changes.sum()) / max(hours, 1e-9)
    around = None
    if ambient is not None and np.isfinite(ambient[usable]).any():
        around = float(np.nanmean(ambient[usable]))
    return Part(hours, float(celsius.mean()), float(celsius.min()), float(celsius.max()), around, on, switchings)
