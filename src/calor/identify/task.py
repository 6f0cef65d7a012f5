"""A fit as numbers: which are free, the answer of the model to each record, what is left, and how it changes with each.

Some numbers are of the load and shared by all records; the ambient belongs to one record; the temperatures at the
start of a stretch to one stretch. So the Jacobian of all ambients, or of all starts of a kind, takes one simulation.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, Literal, NamedTuple

import numpy as np
import numpy.typing as npt

from calor.compiled import Column, Table
from calor.identify.observed import Observed, Stretch
from calor.load import registry as loads
from calor.load.registry import AnyLoad
from calor.load.state import LoadState
from calor.loop.response import Reading, respond

Ambient = Literal["column", "known", "start", "fit"]
Mask = npt.NDArray[np.bool_]
STEP = 1e-5
SHORTEST_STEP = 0.02
"""A load is integrated in steps no shorter than this share of the time between rows."""
LAGS_LEFT_OUT = 3.0


class Free(NamedTuple):
    """A number of the load that is free: its key, bounds, and whether its logarithm is what is varied."""

    key: str
    low: float
    high: float
    logarithmic: bool


class Probe(NamedTuple):
    """How the record's probe reads: its lag, that of a filter, and a delay that a filter adds, s."""

    lag_s: float = 0.0
    filter_s: float = 0.0
    delay_s: float = 0.0


AT_ONCE = Probe()
"""A probe that follows at once."""


@dataclass(frozen=True)
class Surroundings:
    """Where the ambient of one record comes from, and its value (°C) where it is known."""

    source: Ambient
    celsius: float = math.nan


@dataclass
class Task:
    """A load with some of its numbers free, to be fitted to records.

    `weights` is what a recorded output gives to the load's two inputs, above 0 and below. `share_before` puts a change
    that a row shows so far towards the row before. `only_rows` of each record are compared; None: all.
    """

    settings: AnyLoad
    free: tuple[Free, ...]
    records: tuple[Observed, ...]
    around: tuple[Surroundings, ...]
    probe: Probe = AT_ONCE
    weights: tuple[tuple[float, float], tuple[float, float]] = ((1.0, 0.0), (0.0, 0.0))
    share_before: float = 0.0
    humidity: float = 0.6
    dead_time_s: float = 0.0
    only_rows: tuple[Mask, ...] | None = None
    look: Callable[[], None] = lambda: None
    inner: tuple[str, ...] = field(default=())

    def __post_init__(self) -> None:
        self._edges = [self._inputs(record) for record in self.records]
        self._numbers = loads.numbers(self.settings)
        self._shortest_step_s = SHORTEST_STEP * min(record.pace_s for record in self.records)
        self.inner = self._inner_parts()
        self._lay_out()
        self.set_dead_time(self.dead_time_s)

    # ---- what is free

    def _inner_parts(self) -> tuple[str, ...]:
        """The temperatures beside the one that is read which change what follows: of an element, of contents."""
        record, stretch = self.records[0], self.records[0].stretches[0]
        rows = slice(stretch.first, min(stretch.last, stretch.first + 200))
        base = loads.start(50.0, self.settings)
        answers = [
            self._respond(0, rows, start, self._numbers, np.full(record.rows, 20.0))
            for start in (base, base._replace(source_celsius=60.0), base._replace(store_celsius=60.0))
        ]
        # a load that remembers its heat has it in the store
        names = ("source_celsius",) if loads.remembers_heat(self.settings) else ("source_celsius", "store_celsius")
        return tuple(n for n, a in zip(names, answers[1:], strict=False) if np.max(np.abs(a - answers[0])) > 1e-6)

    def _lay_out(self) -> None:
        """Where each number stands: keys, ambients, then for each stretch its start."""
        self.n_keys = len(self.free)
        self.ambient_at = [-1] * len(self.records)
        at = self.n_keys
        for number, surroundings in enumerate(self.around):
            if surroundings.source == "fit":
                self.ambient_at[number], at = at, at + 1
        self.starts: list[tuple[int, Stretch, int, tuple[int, ...]]] = []
        for number, record in enumerate(self.records):
            for stretch in record.stretches:
                inner = () if stretch.is_cold else tuple(range(at + 1, at + 1 + len(self.inner)))
                self.starts.append((number, stretch, at, inner))
                at += 1 + len(inner)
        self.size = at

    def set_dead_time(self, dead_time_s: float) -> None:
        """Leave out what an unknown output before a stretch still decides: the dead time, some lags of the probe."""
        self.dead_time_s = dead_time_s
        self.masks: list[Mask] = []
        for number, record in enumerate(self.records):
            mask = np.zeros(record.rows, bool)
            for stretch in record.stretches:
                rows = slice(stretch.first, stretch.last)
                begin_s = float(record.time_s[stretch.first])
                wait_s = 0.0
                if not stretch.is_cold:
                    wait_s = LAGS_LEFT_OUT * (self.probe.lag_s + self.probe.filter_s)
                    wait_s += 0.0 if stretch.knows_before else dead_time_s + self.probe.delay_s
                wait_s = min(wait_s, 0.5 * (float(record.time_s[stretch.last - 1]) - begin_s))
                mask[rows] = record.time_s[rows] >= begin_s + wait_s
            mask &= np.isfinite(record.celsius)
            if self.only_rows is not None:
                mask &= self.only_rows[number]
            self.masks.append(mask)
        counts = [int(mask.sum()) for mask in self.masks]
        self.row_of = np.concatenate(([0], np.cumsum(counts)))
        self.rows = int(self.row_of[-1])

    # ---- the answer of the model

    def _inputs(self, record: Observed) -> tuple[Column, Column, Column]:
        share = 0.5 if record.is_thinned else self.share_before
        edge_s, level = record.edges(share)
        above, below = np.maximum(level, 0.0), np.maximum(-level, 0.0)
        (first, second), (first_below, second_below) = self.weights
        return edge_s + self.probe.delay_s, first * above + first_below * below, second * above + second_below * below

    def _respond(self, number: int, rows: slice, start: LoadState, load: Any, ambient: Column) -> Column:
        record = self.records[number]
        time_s = record.time_s[rows]
        out = np.empty(len(time_s))
        respond(
            load, start, Reading(self.probe.lag_s, self.probe.filter_s), self.humidity, time_s, ambient[rows],
            *self._edges[number], out,
        )  # fmt: skip
        return out

    def load_of(self, values: Column) -> AnyLoad:
        """The load with its free keys set; not checked again."""
        given = {item.key: float(value) for item, value in zip(self.free, self.natural(values), strict=False)}
        return self.settings.model_copy(update=given)  # type: ignore[attr-defined, no-any-return]

    def natural(self, values: Column) -> Column:
        """The free keys in their own units."""
        keys = values[: self.n_keys]
        return np.array([math.exp(v) if item.logarithmic else v for item, v in zip(self.free, keys, strict=True)])

    def ambient_of(self, values: Column, number: int) -> float:
        """The ambient of a record, °C; the mean where it is a column."""
        surroundings, record = self.around[number], self.records[number]
        if surroundings.source == "fit":
            return float(values[self.ambient_at[number]])
        if surroundings.source == "start":
            return float(values[next(at for n, _, at, _ in self.starts if n == number)])
        if surroundings.source == "column" and record.ambient_celsius is not None:
            return float(np.nanmean(record.ambient_celsius))
        return surroundings.celsius

    def answers(self, values: Column) -> list[Column]:
        """The readings of the model at all rows of each record, °C; NaN between stretches."""
        self.look()
        settings = self.load_of(values)
        load = loads.varied(self._numbers, settings, self._shortest_step_s)
        answers = [np.full(record.rows, np.nan) for record in self.records]
        for number, stretch, at, inner in self.starts:
            record = self.records[number]
            if self.around[number].source == "column" and record.ambient_celsius is not None:
                ambient = record.ambient_celsius
            else:
                ambient = np.full(record.rows, self.ambient_of(values, number))
            celsius = float(values[at])
            start = loads.start(celsius, settings)
            start = start._replace(**{name: float(values[k]) for name, k in zip(self.inner, inner, strict=False)})
            rows = slice(stretch.first, stretch.last)
            answers[number][rows] = self._respond(number, rows, start, load, ambient)
        return answers

    def residual(self, values: Column) -> Column:
        """What the model leaves of the readings that are compared, °C."""
        answers = self.answers(values)
        parts = [a[m] - r.celsius[m] for a, m, r in zip(answers, self.masks, self.records, strict=True)]
        left = np.concatenate(parts)
        return np.where(np.isfinite(left), np.clip(left, -1e6, 1e6), 1e6)

    def jacobian(self, values: Column, base: Column | None = None) -> Table:
        """How the residual changes with each free number, rows × numbers; forward differences."""
        base = self.residual(values) if base is None else base
        table = np.zeros((self.rows, self.size))

        def changed(places: list[int]) -> Column:
            moved = values.copy()
            steps = {k: self._step(k, values[k]) for k in places}
            for k, step in steps.items():
                moved[k] += step
            return self.residual(moved) - base

        for k in range(self.n_keys):
            table[:, k] = changed([k]) / self._step(k, values[k])
        blocks: list[list[tuple[int, slice]]] = [
            [(at, self._rows_of(n)) for n, at in enumerate(self.ambient_at) if at >= 0],
            # a start that is the ambient as well moves the whole record, so it is varied by itself
            [(at, self._rows_of(n)) for n, s, at, _ in self.starts if self._is_ambient(n, s)],
            [(at, self._rows_of(n, s)) for n, s, at, _ in self.starts if not self._is_ambient(n, s)],
        ]
        blocks += [
            [(inner[j], self._rows_of(n, s)) for n, s, _, inner in self.starts if inner] for j in range(len(self.inner))
        ]
        for block in blocks:
            if not block:
                continue
            difference = changed([at for at, _ in block])
            for at, rows in block:
                table[rows, at] = difference[rows] / self._step(at, values[at])
        return table

    def _rows_of(self, number: int, stretch: Stretch | None = None) -> slice:
        begin, end = int(self.row_of[number]), int(self.row_of[number + 1])
        if stretch is None:
            return slice(begin, end)
        before = int(self.masks[number][: stretch.first].sum())
        return slice(begin + before, begin + before + int(self.masks[number][stretch.first : stretch.last].sum()))

    def _is_ambient(self, number: int, stretch: Stretch) -> bool:
        return self.around[number].source == "start" and stretch is self.records[number].stretches[0]

    def _step(self, k: int, value: float) -> float:
        if k < self.n_keys and self.free[k].logarithmic:
            return STEP
        return STEP * max(abs(value), 1e-3 if k < self.n_keys else 1.0)

    def bounds(self) -> tuple[Column, Column]:
        """Lowest and highest of each number, as it is varied."""
        low, high = np.full(self.size, -np.inf), np.full(self.size, np.inf)
        for k, item in enumerate(self.free):
            low[k] = math.log(max(item.low, 1e-12)) if item.logarithmic else item.low
            high[k] = math.log(item.high) if item.logarithmic else item.high
        low[self.n_keys :], high[self.n_keys :] = -273.15, 3500.0
        return low, high

    def varied_from(self, natural: dict[str, float], ambient_celsius: float) -> Column:
        """Numbers to begin from: keys as given, starts as they were read."""
        values = np.zeros(self.size)
        low, high = self.bounds()
        for k, item in enumerate(self.free):
            value = natural[item.key]
            values[k] = math.log(max(value, 1e-12)) if item.logarithmic else value
        for at in self.ambient_at:
            if at >= 0:
                values[at] = ambient_celsius
        for number, stretch, at, inner in self.starts:
            known = self.records[number].celsius[stretch.first : stretch.last]
            known = known[np.isfinite(known)]
            values[at] = float(np.mean(known[:3]))
            values[list(inner)] = values[at]
        return np.clip(values, low + 1e-9, high - 1e-9)
