"""The answer to a step of the output in a record: its start, dead time, slope, and the first-order model it gives.

Two-point formulas: τ = 1.5·(t63 − t28), L = t63 − τ (C. L. Smith, Digital Computer Process Control, 1972).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from calor.compiled import Column
from calor.log.clean import rounding_of
from calor.loop.noise_of import noise_of
from calor.loop.trace import Trace

SHARE_28, SHARE_63 = 1.0 - float(np.exp(-1.0 / 3.0)), 1.0 - float(np.exp(-1.0))
LATE_SHARE = 0.1
LEFT_SHARE = 0.02
SETTLED_SHARE = 0.02
"""A record has settled where its last tenth moves by less than this share of the whole way."""


@dataclass(frozen=True)
class Step:
    """A step and its answer. Times are from the start of the record (`at_s`) or from the step (the others), s.

    `output_change` is None where there is no column of the output. `to_celsius` and what follows from it are None where
    the record ends before the temperature has settled.
    """

    at_s: float
    output_change: float | None
    from_celsius: float
    to_celsius: float | None
    dead_time_s: float | None
    greatest_slope_celsius_per_s: float
    greatest_slope_at_s: float
    t28_s: float | None
    t63_s: float | None
    rise_celsius: float | None
    time_constant_s: float | None
    model_dead_time_s: float | None


def step_of(trace: Trace) -> Step | None:
    """The one step of the output in a record; None where there is none, or it is one of several.

    Without a column of the output: the way from the first readings to the last, where it is a way.
    """
    known = np.isfinite(trace.measured_celsius)
    time_s, celsius = trace.time_s[known], trace.measured_celsius[known]
    if len(celsius) < 10:
        return None
    output = trace.recorded_output
    at_s, change = float(time_s[0]), None
    if output is not None:
        changes = np.flatnonzero(np.diff(output) != 0.0)
        if len(changes) > 1:
            return None
        if len(changes) == 1:
            row = int(changes[0]) + 1
            at_s, change = float(trace.time_s[row]), float(output[row] - output[row - 1])
        elif output[0] != 0.0 and np.isfinite(output[0]):
            change = float(output[0])
        else:
            return None
    noise = max(noise_of(celsius), 0.3 * rounding_of(celsius))
    before = celsius[time_s <= at_s]
    is_before = len(before) > 2 and change is not None and at_s > time_s[0]
    begin = float(np.mean(before[-10:] if is_before else celsius[:3]))
    after, values = time_s[time_s >= at_s] - at_s, _smoothed(celsius[time_s >= at_s])
    way = float(values[-1]) - begin
    if len(values) < 10 or abs(way) < 10.0 * noise or abs(way) < 1e-6:
        return None
    tail = values[after >= (1.0 - LATE_SHARE) * after[-1]]
    half = len(tail) // 2
    settled = abs(float(np.mean(tail[half:]) - np.mean(tail[: half + 1]))) < SETTLED_SHARE * abs(way)
    end = float(np.mean(tail)) if settled else None
    slopes = np.gradient(values, after)
    steepest = int(np.argmax(np.abs(slopes) * np.sign(way * slopes).clip(0.0)))
    left = _reached(after, (values - begin) / way, max(LEFT_SHARE, 4.0 * noise / abs(way)))
    t28 = t63 = tau = dead = None
    if end is not None and end != begin:
        share = (values - begin) / (end - begin)
        t28, t63 = _reached(after, share, SHARE_28), _reached(after, share, SHARE_63)
        if t28 is not None and t63 is not None:
            tau = 1.5 * (t63 - t28)
            dead = t63 - tau
    rise = None if end is None else (end - begin) / (change or 1.0)
    return Step(
        at_s, change, begin, end, left, float(slopes[steepest]), float(after[steepest]), t28, t63,
        rise if change else None, tau, dead,
    )  # fmt: skip


def _smoothed(values: Column) -> Column:
    """Means of five readings in the middle; the ends as they are."""
    if len(values) < 25:
        return values
    smooth = values.copy()
    smooth[2:-2] = np.convolve(values, np.full(5, 0.2), "valid")
    return smooth


def _reached(time_s: Column, share: Column, wanted: float) -> float | None:
    """When a share is first reached, between rows by a line."""
    rows = np.flatnonzero(share >= wanted)
    if not len(rows):
        return None
    row = int(rows[0])
    if row == 0:
        return float(time_s[0])
    low, high = float(share[row - 1]), float(share[row])
    part = (wanted - low) / (high - low) if high > low else 1.0
    return float(time_s[row - 1] + part * (time_s[row] - time_s[row - 1]))
