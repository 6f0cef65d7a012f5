"""What is wrong with the readings of a record: found, counted, and set aside unless that is taken back.

Spikes: Hampel, a reading further from the median of its neighbours than so many of their scaled median deviations
(F. R. Hampel, The influence curve and its role in robust estimation, 1974; the factor 1.4826 makes the median
deviation of normal noise its standard deviation). To it is added here that the reading lies beyond the neighbours on
both sides, so that a step is no spike. The other rules are common practice.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from calor.compiled import Column
from calor.loop.noise_of import SCALED, noise_of

SIDE = 5
HAMPEL_DEVIATIONS = 6.0
NOISES_OF_A_SPIKE = 8.0
LONGEST_SPIKE, STEPS_OF_A_SPIKE = 3, 4.0
MOST_ERROR_VALUES, FEWEST_OTHER_LEVELS = 4, 4
LEAST_ERROR_JUMP, ERROR_JUMPS = 8.0, 10.0
"""In °C, and in steps from reading to reading as they are seldom larger: what leads to a value that stands for none."""
LEVELS_OF_A_SPIKE = 3.0
"""In steps of the converter: noise of a part of a step is seen as one step, now and then as two."""
MOST_LEVELS, GAPS_LOOKED_AT = 0.6, 7
"""Readings whose levels are more than this share of them hardly repeat."""
FEWEST_STUCK, STUCK_RUNS = 30, 15
FEWEST_CLIPPED = 8
RATE_FACTOR = 30.0
Mask = npt.NDArray[np.bool_]


class Faults(NamedTuple):
    """Which readings are spikes, stuck, follow an impossible jump, stand at a clipped end, or are what a sensor or
    logger writes where it has none (those values in `error_celsius`); the rounding step in °C.

    `rounding_celsius` is 0 where none shows, `noise_celsius` the standard deviation from reading to reading.
    """

    spike: Mask
    stuck: Mask
    rate: Mask
    clipped: Mask
    error: Mask
    error_celsius: tuple[float, ...]
    rounding_celsius: float
    noise_celsius: float


def faults_of(time_s: Column, celsius: Column) -> Faults:
    """What is wrong with readings in °C at `time_s`; one that is NaN is known to be none."""
    none = np.zeros(len(celsius), bool)
    error, error_celsius = _errors(time_s, celsius)
    known = np.flatnonzero(np.isfinite(celsius) & ~error)
    if len(known) < 2 * SIDE + 1:
        return Faults(none, none.copy(), none.copy(), none.copy(), error, error_celsius, 0.0, 0.0)
    values = celsius[known]
    noise = noise_of(values)
    rounding = rounding_of(values)
    spike, stuck, rate, clipped = (none.copy() for _ in range(4))
    step = np.maximum(steps_of(values), rounding)
    spikes = _spikes(values, noise, step)
    spike[known] = spikes
    calm = values.copy()
    if spikes.any():
        calm[spikes] = np.interp(np.flatnonzero(spikes), np.flatnonzero(~spikes), values[~spikes])
    usual_step = float(np.median(step))
    clipped[known] = _clipped(calm, usual_step)
    stuck[known] = _stuck(calm, step, shows_noise=noise > 0.3 * usual_step) & ~clipped[known]
    # what a stuck probe comes back from is told already
    resting = np.concatenate(([False], (stuck | clipped)[known][:-1]))
    rate[known] = _jumps(time_s[known], calm, noise, usual_step) & ~resting
    return Faults(spike, stuck, rate, clipped, error, error_celsius, rounding, noise)


def _errors(time_s: Column, celsius: Column) -> tuple[Mask, tuple[float, ...]]:
    """Readings of one value, the lowest or highest of the record, that is far from all that comes before and after it;
    and those values, °C. In any number, so that they are no spikes: a lost sensor may be lost for most of a record."""
    error, values = np.zeros(len(celsius), bool), []
    for _ in range(MOST_ERROR_VALUES):
        known = np.flatnonzero(np.isfinite(celsius) & ~error)
        if len(known) < 2 * SIDE + 1:
            break
        ends = (float(celsius[known].min()), float(celsius[known].max()))
        found = next((value for value in ends if _is_error(time_s[known], celsius[known], value)), None)
        if found is None:
            break
        error |= celsius == found
        values.append(found)
    return error, tuple(values)


def _is_error(time_s: Column, values: Column, value: float) -> bool:
    """Whether an end of the scale is a value that stands for none: each time it is entered and left by a jump that
    nothing else in the record comes near. Once is enough at the very begin, as where the power came on."""
    at = values == value
    others = values[~at]
    if len(others) < SIDE or len(np.unique(others)) < FEWEST_OTHER_LEVELS or (at.sum() == 1 and not at[0]):
        return False
    steps = np.abs(np.diff(values))
    crosses = at[1:] != at[:-1]
    inside = steps[~crosses & ~at[1:]]
    if not crosses.any() or not len(inside):
        return False
    follows = np.diff(time_s)[crosses] <= 5.0 * np.median(np.diff(time_s))
    far = max(LEAST_ERROR_JUMP, ERROR_JUMPS * float(np.percentile(inside, 99)))
    return bool(follows.all() and steps[crosses].min() > far and np.min(np.abs(others - value)) > LEAST_ERROR_JUMP)


def rounding_of(values: Column) -> float:
    """The step all readings are rounded to, °C; 0 where there is none to see."""
    levels = np.unique(np.round(values, 9))
    if len(levels) < 3:
        return 0.0
    gaps = np.diff(levels)
    step = float(np.min(gaps[gaps > 1e-7], initial=np.inf))
    if not np.isfinite(step) or len(levels) > 20_000:
        return 0.0
    # multiples of it, as far as the digits that are written go
    away = (levels - levels[0]) / step
    return step if np.max(np.abs(away - np.round(away))) < 0.02 and np.median(gaps) < 20.0 * step else 0.0


def steps_of(values: Column) -> Column:
    """How far apart the levels are that readings come in, near each of them, °C; 0 where they hardly repeat.

    A converter's steps are equal in volts and differ in degrees along a thermistor's curve.
    """
    from scipy.ndimage import median_filter, percentile_filter

    levels, places = np.unique(values, return_inverse=True)
    if not 2 < len(levels) <= MOST_LEVELS * len(values):
        return np.zeros(len(values))
    # where readings rush through, levels are left out: what is small among neighbours is the step
    share = 30.0 if len(levels) > 3 * GAPS_LOOKED_AT else 0.0
    gaps = percentile_filter(np.diff(levels), share, size=GAPS_LOOKED_AT, mode="nearest")
    of_levels = np.minimum(np.append(gaps, gaps[-1]), np.append(gaps[0], gaps))
    # a spike's level is far from all others: its neighbours in time tell the step
    return np.asarray(median_filter(of_levels[places], 2 * SIDE + 1, mode="nearest"))


def _spikes(values: Column, noise: float, step: Column) -> Mask:
    from scipy.ndimage import median_filter

    width = 2 * SIDE + 1
    middle = median_filter(values, width, mode="nearest")
    away = np.abs(values - middle)
    deviation = SCALED * median_filter(away, width, mode="nearest")
    least = np.maximum(max(NOISES_OF_A_SPIKE * noise, 0.1), LEVELS_OF_A_SPIKE * step)
    candidates = away > np.maximum(HAMPEL_DEVIATIONS * deviation, least)
    spikes = np.zeros(len(values), bool)
    steps = np.abs(np.diff(values))
    # what stays out for longer is something that happened, and what its neighbours lead to is a turn
    for begin, end in zip(*_runs(candidates), strict=True):
        if end - begin > LONGEST_SPIKE or begin < SIDE or end > len(values) - SIDE:
            continue
        beside = np.concatenate((steps[max(begin - 1 - SIDE, 0) : begin - 1], steps[end : end + SIDE]))
        beyond = float(least[begin - 1])
        beyond = max(beyond, STEPS_OF_A_SPIKE * float(np.median(beside))) if len(beside) else beyond
        low, high = sorted((float(values[begin - 1]), float(values[end])))
        part = values[begin:end]
        spikes[begin:end] = bool((part > high + beyond).all() or (part < low - beyond).all())
    return spikes


def _runs(mask: Mask) -> tuple[npt.NDArray[np.intp], npt.NDArray[np.intp]]:
    """Begins and ends of the stretches in which a mask holds."""
    edges = np.flatnonzero(np.diff(mask.astype(np.int8), prepend=0, append=0))
    return edges[::2], edges[1::2]


def _equal_runs(values: Column) -> tuple[npt.NDArray[np.intp], npt.NDArray[np.intp]]:
    starts = np.flatnonzero(np.concatenate(([True], np.diff(values) != 0.0)))
    return starts, np.diff(np.append(starts, len(values)))


def _stuck(values: Column, step: Column, shows_noise: bool) -> Mask:
    """Readings that repeat one another and then jump by several steps: a temperature that rests within a step of its
    converter goes on by the next one. Where the others show noise, also those that repeat one another for far longer
    than is usual in this record.
    """
    stuck = np.zeros(len(values), bool)
    starts, lengths = _equal_runs(values)
    if len(starts) < 10:
        return stuck
    usual = float(np.percentile(lengths, 90))
    long = np.flatnonzero(lengths >= FEWEST_STUCK)
    changes = np.abs(np.diff(values))
    for start, length in zip(starts[long].tolist(), lengths[long].tolist(), strict=True):
        end = start + length
        # a load that begins to move goes on moving, a probe that comes back is there at once
        after = float(np.max(changes[end : end + SIDE], initial=0.0))
        jumps = end < len(values) and changes[end - 1] > max(LEVELS_OF_A_SPIKE * step[start], STEPS_OF_A_SPIKE * after)
        if jumps or (shows_noise and length >= STUCK_RUNS * usual):
            stuck[start + 1 : start + length] = True
    return stuck


def _jumps(time_s: Column, values: Column, noise: float, step: float) -> Mask:
    """Readings after a jump that no load makes: as fast as nothing else in the record, and well above its noise."""
    paces = np.diff(time_s)
    jumps = np.zeros(len(values), bool)
    rates = np.abs(np.diff(values)) / np.maximum(paces, 1e-9)
    usual = float(np.percentile(rates, 99)) if len(rates) else 0.0
    least = max(15.0 * noise, 5.0 * step, 1.0)
    even = paces <= 5.0 * np.median(paces)
    jumps[1:] = even & (np.abs(np.diff(values)) > least) & (rates > RATE_FACTOR * max(usual, 1e-12) / 3.0)
    return jumps


def _clipped(values: Column, step: float) -> Mask:
    """Readings that stand at the lowest or highest of the record, reached at full speed and left again."""
    clipped = np.zeros(len(values), bool)
    starts, lengths = _equal_runs(values)
    if len(starts) < 10:
        return clipped
    usual = float(np.percentile(lengths, 90))
    long = lengths >= max(FEWEST_CLIPPED, 4.0 * usual)
    fast = max(2.0 * step, 0.02 * float(np.ptp(values)) / 3.0)
    for end in (float(values.min()), float(values.max())):
        at_end = np.flatnonzero(long & (values[starts] == end) & (starts >= 3))
        for start, length in zip(starts[at_end].tolist(), lengths[at_end].tolist(), strict=True):
            came = abs(values[start] - values[start - 3]) / 3.0
            if came > fast and came > 0.0:
                clipped[start : start + length] = True
    return clipped
