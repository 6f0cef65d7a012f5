"""Settled cycles in a record: of a relay test, or of an on/off law; gain and period at the limit as they tell it.

The output goes to and fro between two levels, and the reading with it. Source: the describing function of a relay, as
of the test on the simulated load (Åström & Hägglund 1984); it counts the swing as a sine, and both halves as alike.
"""

from __future__ import annotations

import itertools
import math
from typing import NamedTuple

import numpy as np

from calor.compiled import Column, Counts
from calor.identify.observed import Observed

FEWEST, MOST = 2, 6
"""Whole cycles that are wanted, and the last ones that are looked at."""
APART_SHARE = 0.25
"""Cycles whose periods or swings differ by more than this share are not settled."""
LEVELS_APART = 0.02
HARDLY_BEYOND = 1.05
UNEVEN_DUTY = 0.15
"""A duty nearer to none or all than this leaves little of a sine."""


class Cycles(NamedTuple):
    """How many settled cycles, when they begin and end (s), period (s), swing (°C, peak to peak), between which
    outputs, for which share of a cycle the output is high, half the distance of the readings at which it switches (°C),
    and gain (per °C) at the limit by the describing function."""

    settled: int
    begin_s: float
    end_s: float
    period_s: float
    swing_celsius: float
    output_low: float
    output_high: float
    duty: float
    hysteresis_celsius: float
    ultimate_gain_per_celsius: float

    @property
    def note(self) -> str:
        """What to know of the gain that they tell; empty where nothing is."""
        if UNEVEN_DUTY <= self.duty <= 1.0 - UNEVEN_DUTY:
            return ""
        return f"the output is high for {self.duty * 100.0:.0f} % of a cycle: the gain told is a rough one"


def cycles_of(record: Observed) -> Cycles | None:
    """The settled cycles at the end of a record; None where there are none."""
    at_s, level = record.edges(0.5)
    at_s, level = np.asarray(at_s), np.asarray(level)
    at_s[0] = record.time_s[0]
    if len(level) < 2 * FEWEST + 2:
        return None
    ends = record.time_s[-1]
    tail = at_s >= at_s[max(len(at_s) - 2 * MOST - 3, 0)]
    low, high = float(level[tail].min()), float(level[tail].max())
    if high - low < LEVELS_APART:
        return None
    # a relay knows two levels; what stands between them is no relay
    share = (level - low) / (high - low)
    if bool(((share[tail] > 0.1) & (share[tail] < 0.9)).any()):
        return None
    is_high = share > 0.5
    turns: Counts = np.flatnonzero(np.diff(is_high.astype(int)) != 0).astype(np.int64) + 1
    rises = [int(k) for k in turns if is_high[k] and at_s[k] <= ends]
    rises = rises[-(MOST + 1) :]
    whole = [_one(record, at_s, turns, a, b) for a, b in itertools.pairwise(rises)]
    settled: list[tuple[float, float, float, float]] = []
    for one in reversed(whole):
        if one is None or (settled and not _alike(one, settled[0])):
            break
        settled.append(one)
    if len(settled) < FEWEST:
        return None
    period_s, swing, duty, apart = (float(np.mean([one[k] for one in settled])) for k in range(4))
    size, epsilon = 0.5 * swing, 0.5 * apart
    if size <= 0.0:
        return None
    # readings come in rows: a swing cannot be narrower than what it is switched by
    epsilon = min(epsilon, size / HARDLY_BEYOND)
    gain = 4.0 * 0.5 * (high - low) / (math.pi * math.sqrt(size * size - epsilon * epsilon))
    return Cycles(
        len(settled), float(at_s[rises[-1 - len(settled)]]), float(at_s[rises[-1]]), period_s, swing, low, high, duty,
        epsilon, gain,
    )  # fmt: skip


def _one(
    record: Observed, at_s: Column, turns: Counts, rise: int, next_rise: int
) -> tuple[float, float, float, float] | None:
    """(period, swing, share high, distance of the readings it switches at) of a cycle; None where rows are missing."""
    begin, end = float(at_s[rise]), float(at_s[next_rise])
    between = [int(k) for k in turns if rise < k < next_rise]
    inside = (record.time_s >= begin) & (record.time_s < end)
    celsius = record.celsius[inside]
    if len(between) != 1 or len(celsius) < 4 or not np.isfinite(celsius).all():
        return None
    if any(begin < gap_end and end > gap_begin for gap_begin, gap_end in record.gaps_s):
        return None
    fall = float(at_s[between[0]])
    known = np.isfinite(record.celsius)
    at_rise, at_fall = (float(np.interp(at, record.time_s[known], record.celsius[known])) for at in (begin, fall))
    return end - begin, float(np.ptp(celsius)), (fall - begin) / (end - begin), abs(at_fall - at_rise)


def _alike(one: tuple[float, float, float, float], other: tuple[float, float, float, float]) -> bool:
    return all(abs(one[k] - other[k]) <= APART_SHARE * max(one[k], other[k]) for k in (0, 1))
