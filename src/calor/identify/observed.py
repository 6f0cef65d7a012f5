"""A record as a fit sees it: readings in stretches, the output as instants of change, the ambient, gaps."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from calor.compiled import Column
from calor.errors import LogError
from calor.loop.noise_of import noise_of
from calor.loop.trace import Flag, Trace

MOST_ROWS = 20_000
"""A longer record is thinned to this: means of as many rows as it takes."""
FEWEST_ROWS = 20
BEFORE_S = -1e18
EVEN_SHARE = 0.01
"""Rows whose times spread by less than this share are a program's own steps."""
Mask = npt.NDArray[np.bool_]


class Stretch(NamedTuple):
    """Rows from `first` until before `last` that follow one another without a gap or something left out.

    `is_cold`: the first one, from rest: before it the output was off, and everything had one temperature.
    `knows_before`: the output before its first row is in the record.
    """

    first: int
    last: int
    is_cold: bool
    knows_before: bool


@dataclass(frozen=True, eq=False)
class Observed:
    """What was measured and given. Rows without a reading are NaN.

    The output is `first_level` at the first row; each change to a `level` was seen at `change_s`, the row before it at
    `before_s`. `even` says that the rows come as evenly as a program prints them. `ambient_celsius` is None where
    it was not recorded. `thinned_from` is the number of rows before thinning.
    """

    name: str
    time_s: Column
    celsius: Column
    first_level: float
    change_s: Column
    before_s: Column
    level: Column
    ambient_celsius: Column | None
    stretches: tuple[Stretch, ...]
    even: bool
    thinned_from: int
    gaps_s: tuple[tuple[float, float], ...] = ()

    @property
    def is_thinned(self) -> bool:
        """Whether each row is the mean of several: then a change half-way between two is where it was."""
        return self.thinned_from > MOST_ROWS

    @property
    def rows(self) -> int:
        """Number of rows."""
        return len(self.time_s)

    @property
    def pace_s(self) -> float:
        """Usual time between rows."""
        return float(np.median(np.diff(self.time_s)))

    def edges(self, share_before: float) -> tuple[Column, Column]:
        """Instants of the output's changes and its levels; a change seen at a row is put so far towards the row before.

        The first one is before all times: what was given before the first row as far as it is known.
        """
        at_s = self.change_s - share_before * (self.change_s - self.before_s)
        begin_s, begin = [BEFORE_S], [self.first_level]
        if self.stretches and self.stretches[0].is_cold:
            begin_s, begin = [BEFORE_S, float(self.time_s[0])], [0.0, self.first_level]
        return np.concatenate((begin_s, at_s)), np.concatenate((begin, self.level))

    def thinned(self, rows: int) -> Observed:
        """About so many of its rows, evenly picked; the output's changes stay where they are."""
        each = self.rows // rows
        if each < 2:
            return self
        keep = np.zeros(self.rows, bool)
        for stretch in self.stretches:
            length = stretch.last - stretch.first
            keep[stretch.first : stretch.last : max(min(each, length // FEWEST_ROWS), 1)] = True
        place = np.concatenate(([0], np.cumsum(keep)))
        return replace(
            self, time_s=self.time_s[keep], celsius=self.celsius[keep],
            ambient_celsius=None if self.ambient_celsius is None else self.ambient_celsius[keep],
            stretches=tuple(
                s._replace(first=int(place[s.first]), last=int(place[s.last])) for s in self.stretches
            ),
        )  # fmt: skip


def observe(
    trace: Trace,
    ambient_celsius: Column | None = None,
    left_out: tuple[tuple[float, float], ...] = (),
    known_ambient_celsius: float | None = None,
) -> Observed:
    """A recorded run as a fit sees it, thinned where it is very long. `left_out` are stretches of time, s.

    Raises LogError where it lacks what a fit needs: an output that does something, a temperature that follows.
    """
    if trace.recorded_output is None:
        raise LogError(
            trace.name, "has no column of the output, and a temperature alone tells no load", "",
            "say which column it is (--output COLUMN), or record it",
        )  # fmt: skip
    # in one piece each, as compiled steps walk them
    time_s, celsius = np.ascontiguousarray(trace.time_s), np.ascontiguousarray(trace.measured_celsius)
    output = _held(trace.recorded_output)
    breaks = (trace.flags.astype(np.int64) & Flag.GAP) > 0
    taken = np.isfinite(celsius)
    for begin_s, end_s in left_out:
        taken &= ~((time_s >= begin_s) & (time_s <= end_s))
    if taken.sum() < FEWEST_ROWS:
        raise LogError(
            trace.name, "has too few readings for a fit", f"{int(taken.sum())}", f"at least {FEWEST_ROWS} are needed"
        )
    known = celsius[taken]
    noise = noise_of(known)
    if not _moves(known, noise):
        raise LogError(
            trace.name, "its temperature does not move", f"{np.ptp(known):.3g} °C from lowest to highest",
            "record a change of the output until the temperature has followed it",
        )  # fmt: skip
    paces = np.diff(time_s)
    even = float(np.std(paces[~breaks[1:]])) < EVEN_SHARE * float(np.median(paces))
    count = len(time_s)
    ambient = None if ambient_celsius is None else _filled(ambient_celsius)
    if count > MOST_ROWS:
        time_s, celsius, output, ambient, breaks, taken = _thinned(time_s, celsius, output, ambient, breaks, taken)
    celsius = np.where(taken, celsius, np.nan)
    stretches = _stretches(time_s, celsius, output, breaks, taken, left_out, noise, known_ambient_celsius)
    if not stretches:
        raise LogError(trace.name, "has no stretch of readings long enough for a fit", "", "leave less out")
    changes = np.flatnonzero(np.diff(output)) + 1
    observed = Observed(
        trace.name, time_s, celsius, float(output[0]), time_s[changes], time_s[changes - 1], output[changes], ambient,
        stretches, even, count,
        tuple((float(time_s[k - 1]), float(time_s[k])) for k in np.flatnonzero(breaks) if k > 0),
    )  # fmt: skip
    levels = observed.edges(0.0)[1]
    if float(np.ptp(levels)) == 0.0:
        rule = "its output is off throughout" if levels[0] == 0.0 else "its output never changes"
        raise LogError(
            trace.name, f"{rule}, and the record does not begin from rest", f"{levels[0]:g}",
            "record a change of the output: a step from cold, or a few cycles",
        )  # fmt: skip
    return observed


def _held(output: Column) -> Column:
    """The output with what is missing held from the row before; what comes before the first is taken as off."""
    rows = np.maximum.accumulate(np.where(np.isfinite(output), np.arange(len(output)), -1))
    return np.where(rows >= 0, output[np.maximum(rows, 0)], 0.0)


def _filled(values: Column) -> Column:
    known = np.flatnonzero(np.isfinite(values))
    return np.interp(np.arange(len(values)), known, values[known]) if len(known) else values


def _moves(values: Column, noise: float) -> bool:
    """Whether readings do more than their noise: whether means of ten spread wider than those of noise would."""
    if float(np.ptp(values)) <= 1e-6:
        return False
    means = values[: len(values) // 10 * 10].reshape(-1, 10).mean(axis=1)
    return float(np.std(means)) > 2.0 * noise / math.sqrt(10.0) or float(np.ptp(values)) > 20.0 * noise


def _thinned(
    time_s: Column, celsius: Column, output: Column, ambient: Column | None, breaks: Mask, taken: Mask
) -> tuple[Column, Column, Column, Column | None, Mask, Mask]:
    """Means of several rows each; what was given is a mean as well, so that no heat is lost."""
    each = -(-len(time_s) // MOST_ROWS)
    starts = np.arange(0, len(time_s) - each + 1, each)
    counts = np.add.reduceat(taken.astype(float), starts)
    sums = np.add.reduceat(np.where(taken, celsius, 0.0), starts)
    weights = np.add.reduceat(np.where(taken, time_s, 0.0), starts)
    enough = counts * 2 > each
    means = np.where(enough, sums / np.maximum(counts, 1.0), np.nan)
    middle = np.where(enough, weights / np.maximum(counts, 1.0), time_s[starts])
    whole = np.diff(np.append(starts, starts[-1] + each))
    given = np.add.reduceat(output[: starts[-1] + each], starts) / whole
    around = None if ambient is None else np.add.reduceat(ambient[: starts[-1] + each], starts) / whole
    return middle, means, given, around, np.logical_or.reduceat(breaks, starts), enough


def _stretches(
    time_s: Column,
    celsius: Column,
    output: Column,
    breaks: Mask,
    taken: Mask,
    left_out: tuple[tuple[float, float], ...],
    noise: float,
    known_ambient_celsius: float | None,
) -> tuple[Stretch, ...]:
    """The stretches: what is between gaps, and between what was left out, and long enough to tell something."""
    begins = {0, *np.flatnonzero(breaks).tolist()}
    after_marks = {int(np.searchsorted(time_s, end_s, side="right")) for _, end_s in left_out}
    places = sorted((begins | after_marks) - {len(time_s)})
    cold = _is_cold(celsius, output, noise, known_ambient_celsius) or (
        known_ambient_celsius is None and _is_switched_on(celsius, output, noise)
    )
    stretches = []
    for first, last in zip(places, [*places[1:], len(time_s)], strict=True):
        rows = np.flatnonzero(taken[first:last])
        if len(rows) < max(FEWEST_ROWS // 2, 5):
            continue
        first_row, last_row = first + int(rows[0]), first + int(rows[-1]) + 1
        is_cold = cold and first == 0
        knows = is_cold or (first in after_marks and first not in begins)
        stretches.append(Stretch(first_row, last_row, is_cold, knows))
    return tuple(stretches)


def _is_switched_on(celsius: Column, output: Column, noise: float) -> bool:
    """Whether a record with one output throughout leaves its first reading for good, as what is switched on does.

    Of what was warm already nobody could tell how far full output brings it; that it was not is said with the fit.
    """
    known = celsius[np.isfinite(celsius)]
    away = known - float(np.mean(known[:2]))
    one_way = float(np.max(away)) <= 4.0 * noise or float(np.min(away)) >= -4.0 * noise
    return float(np.ptp(output)) == 0.0 and output[0] != 0.0 and one_way


def _is_cold(celsius: Column, output: Column, noise: float, known_ambient_celsius: float | None) -> bool:
    """Whether a record begins from rest: its first readings are level, and it does not come back to them by itself.

    A trough between two cycles is level as well; but the record comes back to it again and again.
    """
    known = celsius[np.isfinite(celsius)]
    swing = float(np.ptp(known))
    begin = float(np.mean(known[:3]))
    if known_ambient_celsius is not None and abs(begin - known_ambient_celsius) > max(0.03 * swing, 6.0 * noise):
        return False
    count = min(6, len(known))
    fastest = float(np.max(np.abs(known[count:] - known[:-count]))) if len(known) > 2 * count else swing
    level = abs(float(np.mean(known[count - 2 : count])) - float(np.mean(known[:2]))) <= max(
        0.25 * fastest, 4.0 * noise
    )
    if not level:
        return False
    away = np.abs(known - begin)
    left = np.flatnonzero(away > 0.2 * swing)
    if not len(left):
        return False
    comes_back = float(np.min(away[left[0] :])) <= max(0.1 * swing, 3.0 * noise)
    if output[0] != 0.0:
        # what moves only after the output has changed was at rest with it, and not before it
        changed = np.flatnonzero(np.abs(output - output[0]) > 0.3 * abs(output[0]))
        moved = np.flatnonzero(np.abs(celsius - begin) > max(0.05 * swing, 4.0 * noise))
        return not comes_back and (not len(changed) or (len(moved) > 0 and moved[0] < changed[0]))
    # what is at rest stays there until the output changes
    changes = np.flatnonzero(output != 0.0)
    still = celsius[: int(changes[0])] if len(changes) else celsius
    still = still[np.isfinite(still)]
    return not len(still) or float(np.max(np.abs(still - begin))) <= max(0.1 * swing, 6.0 * noise)
