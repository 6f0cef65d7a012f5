"""A probe over its whole working range, as curves: what its room on the desk shows."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from calor.compiled import Column
from calor.errors import CalorError
from calor.sense import budget, describe, filters, registry, resolution, sweep, table
from calor.sense.budget import Budget
from calor.sense.registry import AnyProbe
from calor.sense.residuals import Residual, residuals_of
from calor.sense.resolution import celsius_per_count
from calor.sense.table import Number, Table
from calor.units import TemperatureUnit, difference_to, format_temperature

POINTS, BARS = 400, 9


class Scope(NamedTuple):
    """Over what, and how finely, a probe is looked at."""

    setpoint_celsius: float
    low_celsius: float
    high_celsius: float
    within_celsius: float
    number: Number
    period_s: float


class Survey(NamedTuple):
    """Curves of a probe. What a probe has not is empty, NaN or None, and a note says why.

    celsius, counts, per_count_celsius    the transfer curve and its resolution, of one length
    bars_celsius, bars                    temperatures, and (cause, contribution at each of them), largest first
    sizes, lookup                         (entries, worst error °C) of tables, and the smallest that is close enough
    filter_s, filter_share                what has come through of a step, at readings after it
    """

    scope: Scope
    answer: tuple[str, str]
    finer: str
    celsius: Column
    counts: Column
    per_count_celsius: Column
    bars_celsius: Column
    bars: list[tuple[str, Column]]
    at_setpoint: Budget | None
    sizes: list[tuple[int, float]]
    lookup: Table | None
    lookup_note: str
    residuals: list[Residual]
    correction_celsius: Column
    correction_kind: str
    filter_s: Column
    filter_share: Column
    filter_note: str


def shown_range(settings: AnyProbe, scope: Scope) -> tuple[float, float]:
    """Temperatures the transfer curve is drawn over: the working range with as much again on both sides."""
    wide = max(scope.high_celsius - scope.low_celsius, 25.0)
    low, high = registry.celsius_range(settings)
    return max(scope.low_celsius - wide, low), min(scope.high_celsius + wide, high)


def survey(settings: AnyProbe, scope: Scope, unit: TemperatureUnit = "°C") -> Survey:
    """Everything about a probe over a range."""
    plain = registry.numbers(settings.model_copy(update={"offset_celsius": 0.0}))
    celsius = np.linspace(*shown_range(settings, scope), POINTS)
    empty = np.full(POINTS, np.nan)
    counts = empty if settings.kind == "ideal" else sweep.exact_counts_over(plain, celsius)
    counts = np.where(sweep.inside(plain, celsius), counts, np.nan)
    bars_celsius = _round_places(scope.low_celsius, scope.high_celsius)
    bars = budget.contributions_over(settings, bars_celsius)
    at_setpoint = budget.budget(settings, scope.setpoint_celsius)
    if at_setpoint is not None:
        order = [part.cause for part in at_setpoint.contributions]
        bars.sort(key=lambda bar: order.index(bar[0]) if bar[0] in order else len(order))
    sizes, lookup, lookup_note = _tables(settings, scope)
    residuals, corrections, kind = residuals_of(settings, celsius)
    span_s = max(6.0 * filters.delay_s(settings.filter, scope.period_s), 12.0 * scope.period_s)
    filter_s, filter_share = filters.step_response(settings.filter, scope.period_s, span_s)
    return Survey(
        scope, describe.answer(settings, unit, scope.setpoint_celsius), _finer(settings, scope, unit),
        celsius, counts, _per_count(counts, celsius), bars_celsius, bars, at_setpoint,
        sizes, lookup, lookup_note, residuals, corrections, kind,
        filter_s, filter_share, filters.consequence(settings.filter, scope.period_s),
    )  # fmt: skip


def _round_places(low: float, high: float) -> Column:
    """Round temperatures in a range, about as many as there are bars."""
    raw = (high - low) / (BARS - 1)
    power = 10.0 ** math.floor(math.log10(raw))
    step = next(factor * power for factor in (1.0, 2.0, 2.5, 5.0, 10.0) if factor * power >= raw * 0.999)
    places = np.arange(math.ceil(low / step - 1e-9), math.floor(high / step + 1e-9) + 1) * step
    return np.asarray(places if len(places) >= 3 else np.linspace(low, high, 3), dtype=np.float64)


def _per_count(counts: Column, celsius: Column) -> Column:
    """°C per count along the curve: the slope of its inverse."""
    slope = np.gradient(counts, celsius)
    return np.where(np.abs(slope) > 0.0, 1.0 / np.maximum(np.abs(slope), 1e-12), np.nan)


def _tables(settings: AnyProbe, scope: Scope) -> tuple[list[tuple[int, float]], Table | None, str]:
    if not registry.has_converter(settings):
        return [], None, "This probe gives °C by itself: no table is needed."
    try:
        sizes = table.sizes(settings, scope.low_celsius, scope.high_celsius, scope.number)
    except CalorError as error:
        return [], None, _own_words(error)
    try:
        return sizes, table.smallest(
            settings, scope.within_celsius, scope.low_celsius, scope.high_celsius, scope.number
        ), ""  # fmt: skip
    except CalorError as error:
        return sizes, None, _own_words(error)


def _own_words(error: CalorError) -> str:
    """A table's error as a sentence."""
    return f"{error.said[0].upper()}{error.said[1:]}."


def _finer(settings: AnyProbe, scope: Scope, unit: TemperatureUnit) -> str:
    """What would buy a finer count at the setpoint, in one line."""
    now = celsius_per_count(settings, scope.setpoint_celsius)
    changes = resolution.changes(settings, scope.setpoint_celsius)
    better = [change for change in changes if now is not None and change.celsius_per_count < 0.97 * now][:3]
    if not better:
        return ""
    texts = [f"{change.words}: {describe.fine(unit, change.celsius_per_count)}" for change in better]
    return f"Finer counts at {format_temperature(unit, scope.setpoint_celsius)} by " + " · ".join(texts)


def read_out(found: Survey, celsius: float, unit: TemperatureUnit) -> str:
    """Both axes of the transfer curve at a temperature, as hovering shows them."""
    counts = float(np.interp(celsius, found.celsius, found.counts))
    fine = float(np.interp(celsius, found.celsius, found.per_count_celsius))
    if not math.isfinite(counts):
        return f"{format_temperature(unit, celsius)} · outside the converter"
    return f"{format_temperature(unit, celsius)} · code {counts:.0f} · {difference_to(unit, fine):.3g} {unit} per count"
