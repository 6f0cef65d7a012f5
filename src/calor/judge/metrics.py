"""The figures of a run, simulated or recorded alike. docs/metrics.md gives each formula.

All are of the measured temperature; rows without a reading are left out. Source: the definitions are the
usual ones of control engineering (Åström & Hägglund, Advanced PID Control, 2006, section 4.2), made exact.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from calor.compiled import Column
from calor.loop.trace import Disturbance, Trace

STAYS_SHARE = 0.1
Mask = npt.NDArray[np.bool_]


@dataclass(frozen=True)
class Metrics:
    """The figures of one run. None means that it never happened or cannot be told."""

    overshoot_celsius: float | None
    peak_celsius: float | None
    lowest_celsius: float | None
    time_to_band_s: float | None
    rise_time_s: float | None
    settled_ripple_celsius: float | None
    mean_error_celsius: float | None
    in_band_fraction: float | None
    iae_celsius_s: float | None
    switchings_per_hour: float
    on_fraction: float | None
    energy_wh: float | None
    recovery_s: tuple[float | None, ...]


def _of(values: Any, rows: Mask) -> Any:
    """The rows asked for; the column itself where that is all of them, which is quicker than a copy."""
    return values if rows.all() else values[rows]


def _between(trace: Trace, from_s: float, until_s: float) -> slice:
    """The rows from one time until before another."""
    first, last = np.searchsorted(trace.time_s, [from_s, until_s])
    return slice(int(first), int(last))


def measure(trace: Trace, band_celsius: float) -> Metrics:
    """All figures of `trace`; `band_celsius` is the distance from the setpoint that counts as in band."""
    durations_s = trace.durations_s()
    known = np.isfinite(trace.measured_celsius)
    judged = known & np.isfinite(trace.setpoint_celsius)
    error = trace.measured_celsius - trace.setpoint_celsius
    in_band = judged & (np.abs(error) <= band_celsius + 1e-9)
    late = _between(trace, *settled_stretch_s(trace))
    settled = judged[late]
    given = np.isfinite(trace.delivered)
    own_s = _of(durations_s, given)
    given_s = float(own_s.sum())
    energy = None
    if trace.power_watt is not None and given_s > 0.0:
        energy = float((_of(trace.power_watt, given) * own_s).sum() / 3600.0)
    has_setpoint = bool(judged.any())
    return Metrics(
        overshoot_celsius=_overshoot(trace, judged, band_celsius) if has_setpoint else None,
        peak_celsius=trace.measured_range[1] if known.any() else None,
        lowest_celsius=trace.measured_range[0] if known.any() else None,
        time_to_band_s=_time_to_band(trace, judged, in_band) if has_setpoint else None,
        rise_time_s=_rise_time(trace, judged, band_celsius) if has_setpoint else None,
        settled_ripple_celsius=_ripple(trace, late, known[late]),
        mean_error_celsius=_mean(_of(error[late], settled), _of(durations_s[late], settled)),
        in_band_fraction=_mean(_of(in_band, judged).astype(float), _of(durations_s, judged)),
        iae_celsius_s=float((np.abs(_of(error, judged)) * _of(durations_s, judged)).sum()) if has_setpoint else None,
        switchings_per_hour=trace.switchings() / trace.span_s * 3600.0 if trace.span_s > 0.0 else 0.0,
        on_fraction=_mean(_of(_on(trace), given), own_s),
        energy_wh=energy,
        recovery_s=_recoveries(trace, judged, in_band),
    )


def _mean(values: Column, weights: Column) -> float | None:
    total = float(weights.sum())
    return float((values * weights).sum() / total) if total > 0.0 else None


def _on(trace: Trace) -> Column:
    """The share that is on at each row: of heating and cooling both, which do not make up for one another."""
    if len(trace.outputs) == 2 and trace.outputs[1].name == "cooling":
        return trace.outputs[0].delivered + trace.outputs[1].delivered
    return trace.delivered


def _ripple(trace: Trace, late: slice, rows: Mask) -> float | None:
    """Peak to peak; where the setpoint moves, of the distance from it."""
    if not rows.any():
        return None
    measured, setpoint = _of(trace.measured_celsius[late], rows), _of(trace.setpoint_celsius[late], rows)
    if np.isfinite(setpoint).all() and np.ptp(setpoint) > 0.0:
        return float(np.ptp(measured - setpoint))
    return float(np.ptp(measured))


def together(disturbances: Sequence[Disturbance]) -> list[tuple[float, float]]:
    """(begin, end) in s of disturbances, in order of time; those that overlap or touch are one. One that stays is an
    instant."""
    apart: list[tuple[float, float]] = []
    for event in sorted(disturbances, key=lambda event: event.begins_s):
        if apart and event.begins_s <= apart[-1][1]:
            apart[-1] = (apart[-1][0], max(apart[-1][1], event.recovers_from_s))
        else:
            apart.append((event.begins_s, event.recovers_from_s))
    return apart


def settled_stretch_s(trace: Trace) -> tuple[float, float]:
    """Begin and end (s) of what counts as settled: the second half of the longest stretch in which none lasts."""
    first_s = float(trace.time_s[0]) if trace.steps else 0.0
    apart = together(trace.disturbances)
    begins = [first_s, *(end_s for _, end_s in apart)]
    ends = [*(begin_s for begin_s, _ in apart), trace.span_s]
    stretches = [(begin, end) for begin, end in zip(begins, ends, strict=True) if end > begin]
    begin, end = max(stretches, key=lambda stretch: stretch[1] - stretch[0], default=(first_s, trace.span_s))
    return (begin + end) / 2.0, end


def _overshoot(trace: Trace, judged: Mask, band_celsius: float) -> float:
    """Furthest past the setpoint in the direction it was approached from, since it was first reached.

    A changed setpoint is a new approach. One that starts inside the band has the direction of the law's action.
    """
    setpoint, measured = _of(trace.setpoint_celsius, judged), _of(trace.measured_celsius, judged)
    turns = np.empty(0, np.int64)
    if setpoint.min() != setpoint.max():
        moves = np.sign(np.diff(setpoint))
        # a ramp is one approach, to where it ends
        turns = np.flatnonzero((moves != 0.0) & (moves != np.concatenate(([0.0], moves[:-1]))))
    starts = np.concatenate(([0], turns + 1, [len(setpoint)]))
    worst = 0.0
    for begin, end in itertools.pairwise(starts):
        goal = setpoint[end - 1]
        away = measured[begin] - goal
        side = (-1.0 if trace.cools else 1.0) if abs(away) <= band_celsius else -np.sign(away)
        beyond = side * (measured[begin:end] - goal)
        first = int(np.argmax(beyond >= 0.0))
        if beyond[first] >= 0.0:
            worst = max(worst, float(beyond[first:].max()))
    return worst


def _undisturbed_until(trace: Trace, after_s: float) -> float:
    later = [event.begins_s for event in trace.disturbances if event.begins_s > after_s]
    return min(later, default=np.inf)


def _time_to_band(trace: Trace, judged: Mask, in_band: Mask) -> float | None:
    """From the first row to when the band is entered for good, or until the first disturbance."""
    until_s = _undisturbed_until(trace, float(trace.time_s[0]))
    return _stays_from(trace, judged, in_band, float(trace.time_s[0]), until_s)


def _stays_from(trace: Trace, judged: Mask, in_band: Mask, from_s: float, until_s: float) -> float | None:
    """Time from `from_s` to the first row since which all rows before `until_s` are in band.

    None where they are in band for less than a tenth of the stretch: a curve that swings through the band and
    happens to end in it does not stay there.
    """
    part = _between(trace, from_s, until_s)
    rows = part.start + np.flatnonzero(judged[part])
    if not len(rows) or not in_band[rows[-1]]:
        return None
    kept = in_band[part] if len(rows) == part.stop - part.start else in_band[rows]
    back = int(np.argmin(kept[::-1]))  # how many of the last ones are in band, where one is not
    first = rows[len(rows) - back] if not kept[len(rows) - 1 - back] else rows[0]
    end_s = min(until_s, trace.span_s)
    if end_s - trace.time_s[first] < STAYS_SHARE * (end_s - from_s):
        return None
    return float(trace.time_s[first]) - from_s


def _rise_time(trace: Trace, judged: Mask, band_celsius: float) -> float | None:
    """From 10 % to 90 % of the way from the first reading to the first setpoint; None from inside the band."""
    rows = np.flatnonzero(judged[_between(trace, -np.inf, _undisturbed_until(trace, float(trace.time_s[0])))])
    if not len(rows):
        return None
    start, goal = trace.measured_celsius[rows[0]], trace.setpoint_celsius[rows[0]]
    if abs(goal - start) <= band_celsius:
        return None
    share = (trace.measured_celsius[rows] - start) / (goal - start)
    tenth, nine_tenths = int(np.argmax(share >= 0.1)), int(np.argmax(share >= 0.9))
    if not share[tenth] >= 0.1 or not share[nine_tenths] >= 0.9:
        return None
    return float(trace.time_s[rows[nine_tenths]] - trace.time_s[rows[tenth]])


def _recoveries(trace: Trace, judged: Mask, in_band: Mask) -> tuple[float | None, ...]:
    """For each disturbance: from its end (its begin, where it stays) until the band is entered and kept.

    Of disturbances that overlap or touch each is counted from the end of the last of them. Where it is still on its
    way as the next one begins, it has recovered when that is over, too.
    """
    times, apart = [], together(trace.disturbances)
    for event in trace.disturbances:
        number = next(k for k, (begin_s, end_s) in enumerate(apart) if begin_s <= event.begins_s <= end_s)
        ends = [*(begin_s for begin_s, _ in apart[number + 1 :]), np.inf]
        found = (_stays_from(trace, judged, in_band, apart[number][1], until_s) for until_s in ends)
        times.append(next((time_s for time_s in found if time_s is not None), None))
    return tuple(times)
