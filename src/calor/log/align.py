"""Two records laid over each other: by their starts, by the time of day, or where both cross a temperature."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from calor.compiled import Column
from calor.errors import LogError
from calor.log.read import Record

HOWS = ("start", "time of day", "crossing")
DAY_S = 86_400.0


class Aligned(NamedTuple):
    """Add `shift_s` to the times of the other record to lay it over the first."""

    how: str
    shift_s: float


def align(record: Record, other: Record, how: str, crossing_celsius: float | None = None) -> Aligned:
    """How far the other record is moved to lie over the first.

    A crossing is the first way up through the temperature; where none is given, the middle of what both span. Raises
    LogError where a record has no clock, or never crosses it.
    """
    if how == "time of day":
        if record.begins is None or other.begins is None:
            name = record.name if record.begins is None else other.name
            raise LogError(name, "knows no time of day", "", "align by start or by a crossing")
        shift_s = (other.begins - record.begins) % DAY_S
        # the other one may begin before the first does
        return Aligned(how, shift_s - DAY_S if shift_s > 0.5 * DAY_S else shift_s)
    if how == "crossing":
        ranges = [run.trace.measured_range for run in (record, other)]
        celsius = crossing_celsius
        if celsius is None:
            celsius = 0.5 * (max(low for low, _ in ranges) + min(high for _, high in ranges))
        at_s = [_crosses(run.trace.time_s, run.trace.measured_celsius, celsius) for run in (record, other)]
        for run, time_s in zip((record, other), at_s, strict=True):
            if time_s is None:
                raise LogError(run.name, f"never rises through {celsius:.4g} °C", "", "align by another temperature")
        return Aligned(how, float(at_s[0] or 0.0) - float(at_s[1] or 0.0))
    return Aligned("start", 0.0)


def _crosses(time_s: Column, celsius: Column, level: float) -> float | None:
    known = np.isfinite(celsius)
    times, values = time_s[known], celsius[known]
    ups = np.flatnonzero((values[1:] >= level) & (values[:-1] < level))
    if not len(ups):
        return None
    row = int(ups[0])
    share = (level - values[row]) / (values[row + 1] - values[row])
    return float(times[row] + share * (times[row + 1] - times[row]))
