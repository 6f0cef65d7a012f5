"""Lookup tables: °C at entries uniform in counts, interpolated in a straight line between them.

A smooth curve y is missed between two entries h counts apart by at most h²/8·|y″| (any textbook of numerical
analysis); here the error is not estimated but measured at the codes themselves, against the formula in doubles.
"""

from __future__ import annotations

from typing import Literal, NamedTuple

import numpy as np

from calor.compiled import Column
from calor.errors import CalorError
from calor.sense import registry, sweep
from calor.sense.registry import AnyProbe

Number = Literal["integer", "float"]
MOST_ENTRIES = 4096
MOST_CODES = 65_536
"""Of a converter with more codes so many are looked at, evenly spread, beside the middle of each interval."""
BYTES = {"integer": 2, "float": 4}


class Table(NamedTuple):
    """A lookup table from `first_counts` to `last_counts`. `stored` are the entries as they lie in flash.

    An integer entry is a multiple of celsius_per_step in 16 bits; a float entry is °C.
    """

    first_counts: int
    last_counts: int
    number: Number
    celsius_per_step: float
    stored: Column
    worst_celsius: float
    worst_at_celsius: float

    @property
    def entries(self) -> int:
        """Number of entries."""
        return len(self.stored)

    @property
    def flash_bytes(self) -> int:
        """Bytes the entries take."""
        return self.entries * BYTES[self.number]


class _Scope(NamedTuple):
    first: int
    last: int
    codes: Column
    truth: Column
    celsius_per_step: float


def _scope(settings: AnyProbe, low_celsius: float, high_celsius: float) -> _Scope:
    """The codes a table between two temperatures has to cover. Raises CalorError where there are none."""
    if not registry.has_converter(settings):
        raise CalorError(
            "table", f"a {settings.kind} probe gives °C by itself and needs no table", "", "use one with a converter"
        )
    if not low_celsius < high_celsius:
        raise CalorError(
            "range", "the lower end must be below the upper", f"{low_celsius:g} and {high_celsius:g}", "swap them"
        )
    plain = registry.numbers(settings.model_copy(update={"offset_celsius": 0.0}))
    ends = np.sort(sweep.exact_counts_over(plain, np.array([low_celsius, high_celsius])))
    first, last = int(np.floor(ends[0])), int(np.ceil(ends[1]))
    reached = sweep.celsius_over(plain, np.array([float(first), float(last)]))
    read = sweep.inside(plain, np.array([low_celsius, high_celsius])).all()
    if (
        not read
        or first < 0
        or last > plain.firmware.adc.codes - 1
        or not np.isfinite(reached).all()
        or last - first < 2
    ):
        raise CalorError(
            f"range {low_celsius:g} to {high_celsius:g} °C",
            f"the probe cannot be read over all of it (its codes end at {first} and {last} of "
            f"{plain.firmware.adc.codes:.0f})",
            "",
            "ask for a narrower range or change its circuit",
        )
    count = min(last - first + 1, MOST_CODES)
    codes = np.unique(np.round(np.linspace(first, last, count)))
    truth = sweep.celsius_over(plain, codes)
    largest = float(np.abs(truth).max())
    # the finest step that 16 bits with a sign can hold
    step = 0.01 if largest <= 327.0 else 0.1
    return _Scope(first, last, codes, truth, step)


def looked_up(stored: Column, first: int, last: int, codes: Column, number: Number, celsius_per_step: float) -> Column:
    """°C that the firmware finds for codes: integers rounded as its integer arithmetic does."""
    span, parts = last - first, len(stored) - 1
    position = (codes - first) * parts
    index = np.minimum(position // span, parts - 1).astype(np.intp)
    rest = position - index * span
    low, high = stored[index], stored[index + 1]
    if number == "float":
        return np.asarray(low + (high - low) * (rest / span))
    return np.asarray((low + np.floor((2.0 * (high - low) * rest + span) / (2.0 * span))) * celsius_per_step)


def _made(settings: AnyProbe, scope: _Scope, entries: int, number: Number) -> Table:
    plain = registry.numbers(settings.model_copy(update={"offset_celsius": 0.0}))
    places = scope.first + np.arange(entries, dtype=np.float64) * ((scope.last - scope.first) / (entries - 1))
    values = sweep.celsius_over(plain, places)
    stored = (
        np.round(values / scope.celsius_per_step) if number == "integer" else values.astype(np.float32).astype(float)
    )
    table_celsius = looked_up(stored, scope.first, scope.last, scope.codes, number, scope.celsius_per_step)
    away = np.abs(table_celsius - scope.truth)
    worst = int(np.argmax(away))
    return Table(
        scope.first, scope.last, number, scope.celsius_per_step if number == "integer" else 1.0, stored,
        float(away[worst]), float(scope.truth[worst]),
    )  # fmt: skip


def make(
    settings: AnyProbe, low_celsius: float, high_celsius: float, entries: int, number: Number = "integer"
) -> Table:
    """The table of so many entries between two temperatures. Raises CalorError where the probe cannot be read there."""
    scope = _scope(settings, low_celsius, high_celsius)
    return _made(settings, scope, min(max(entries, 2), scope.last - scope.first + 1), number)


def smallest(
    settings: AnyProbe, within_celsius: float, low_celsius: float, high_celsius: float, number: Number = "integer"
) -> Table:
    """The table with the fewest entries that is within `within_celsius` at every code between two temperatures.

    Raises CalorError where no table is.
    """
    if not within_celsius > 0.0:
        raise CalorError("table", "must be above 0 °C, 0.1 for example", f"{within_celsius:g}")
    scope = _scope(settings, low_celsius, high_celsius)
    best = None
    for entries in range(2, min(MOST_ENTRIES, scope.last - scope.first + 1) + 1):
        table = _made(settings, scope, entries, number)
        if table.worst_celsius <= within_celsius:
            return table
        if best is None or table.worst_celsius < best.worst_celsius:
            best = table
        elif number == "integer" and entries > 2 * best.entries + 64:
            break  # only the rounding of the entries is left
    said = f"{best.worst_celsius:.3g} °C with {best.entries} entries" if best is not None else "none"
    hint = "use float entries, or allow a larger error" if number == "integer" else "allow a larger error"
    raise CalorError(f"table within {within_celsius:g} °C", f"no table is that close (the best is {said})", "", hint)


def sizes(
    settings: AnyProbe, low_celsius: float, high_celsius: float, number: Number = "integer"
) -> list[tuple[int, float]]:
    """(entries, worst error in °C) of tables from 2 entries on, for a chart. Raises CalorError as `make` does."""
    scope = _scope(settings, low_celsius, high_celsius)
    wanted = sorted({2, 3, 4, 5, 6, 7, 8, 10, 12, 14, 17, 20, 24, 28, 33, 40, 48, 56, 65, 80, 96, 112, 129})
    return [
        (entries, _made(settings, scope, entries, number).worst_celsius)
        for entries in wanted
        if entries <= scope.last - scope.first + 1
    ]
