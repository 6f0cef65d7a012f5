"""Cycles in a record: how long, how far, how long on and off; each with mean, spread and count."""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from calor.compiled import Column
from calor.log.clean import rounding_of
from calor.loop.noise_of import noise_of
from calor.loop.trace import Flag, Trace

SWING_SHARE = 0.3
"""A turn counts where it stands out by this share of the swing of the second half."""


class Spread(NamedTuple):
    """Mean, standard deviation and number of a figure over cycles."""

    mean: float
    spread: float
    cycles: int


@dataclass(frozen=True)
class Cycles:
    """Figures over the cycles of a record; on and off times are None without a switched output."""

    period_s: Spread
    swing_celsius: Spread
    highest_celsius: Spread
    lowest_celsius: Spread
    on_s: Spread | None
    off_s: Spread | None


def cycles_of(trace: Trace) -> Cycles | None:
    """The cycles of a record, from trough to trough; None where there are fewer than two. A gap ends one unfinished."""
    from scipy.signal import find_peaks

    known = np.isfinite(trace.measured_celsius)
    time_s, celsius = trace.time_s[known], trace.measured_celsius[known]
    if len(celsius) < 20:
        return None
    noise = max(noise_of(celsius), 0.3 * rounding_of(celsius))
    late = celsius[len(celsius) // 2 :]
    line = np.polyval(np.polyfit(np.arange(len(late)), late, 1), np.arange(len(late)))
    prominence = max(SWING_SHARE * float(np.ptp(np.percentile(late - line, (5.0, 95.0)))), 6.0 * noise, 1e-9)
    peaks = find_peaks(celsius, prominence=prominence)[0]
    troughs = find_peaks(-celsius, prominence=prominence)[0]
    breaks = trace.time_s[(trace.flags.astype(np.int64) & Flag.GAP) > 0]
    periods: list[float] = []
    swings: list[float] = []
    highs: list[float] = []
    lows: list[float] = []
    for first, last in itertools.pairwise(troughs):
        if np.any((breaks > time_s[first]) & (breaks <= time_s[last])) or not np.any((peaks > first) & (peaks < last)):
            continue
        part = celsius[first : last + 1]
        periods.append(float(time_s[last] - time_s[first]))
        highs.append(float(part.max()))
        lows.append(float(celsius[first]))
        swings.append(float(part.max() - 0.5 * (celsius[first] + celsius[last])))
    if len(periods) < 2:
        return None
    begin_s, end_s = float(time_s[troughs[0]]), float(time_s[troughs[-1]])
    on, off = _times_on(trace, begin_s, end_s, breaks)
    return Cycles(_spread(periods), _spread(swings), _spread(highs), _spread(lows), _or_none(on), _or_none(off))


def _spread(figures: list[float]) -> Spread:
    values = np.array(figures)
    return Spread(float(values.mean()), float(values.std(ddof=1)) if len(values) > 1 else 0.0, len(values))


def _or_none(figures: list[float]) -> Spread | None:
    return _spread(figures) if figures else None


def _times_on(trace: Trace, begin_s: float, end_s: float, breaks: Column) -> tuple[list[float], list[float]]:
    """How long the output was on and off each time, both ends seen; changes are put half-way between rows."""
    output = trace.recorded_output
    if output is None or not set(np.unique(output[np.isfinite(output)]).tolist()) <= {0.0, 1.0}:
        return [], []
    changes = np.flatnonzero(np.diff(output) != 0.0) + 1
    at_s = 0.5 * (trace.time_s[changes] + trace.time_s[changes - 1])
    times: tuple[list[float], list[float]] = ([], [])
    for k in range(len(changes) - 1):
        broken = np.any((breaks > at_s[k]) & (breaks <= at_s[k + 1]))
        if not broken and at_s[k] >= begin_s and at_s[k + 1] <= end_s:
            times[0 if output[changes[k]] > 0.5 else 1].append(float(at_s[k + 1] - at_s[k]))
    return times
