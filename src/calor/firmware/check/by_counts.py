"""From counts to °C as firmware does it that does not use the probe's formula in float: by a table, or by a
thermocouple's polynomials in fixed point. Said a second time here, so that a slip in the C shows."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np

from calor.design.model import Design
from calor.firmware.check.in_fixed import Fixed, literal
from calor.firmware.check.in_single import Single
from calor.firmware.sources.code_table import CodeTable, code_table
from calor.firmware.sources.form import Form
from calor.firmware.sources.scaling import probe_context

LEAST_RECIPROCAL = 8_000
"""Up to so many parts in all a table's sum is multiplied by a constant in place of a division."""


class Polynomials(NamedTuple):
    """A thermocouple in fixed point: (end, middle, half, coefficients) of the pieces of the inverse and of the cold
    junction, millivolt of 65536 counts, the amplifier's offset, the cold junction, and the range in millivolt."""

    inverse: tuple[Any, ...]
    junction: tuple[Any, ...]
    millivolt_per_65536: float
    offset_millivolt: float
    cold_celsius: float
    low_millivolt: float
    high_millivolt: float


class ByCounts(NamedTuple):
    """What stands in the place of the formula, the least and the greatest code that are no fault, and the form."""

    way: CodeTable | Polynomials
    lowest: float
    highest: float
    fixed: bool


def by_counts(design: Design, form: Form) -> ByCounts | None:
    """What a design's C of this form goes by in place of the formula in float; None where it has that."""
    table = code_table(design) if form.table else None
    context = probe_context(design.probe, "x", form, table)
    if not context["by_counts"]:
        return None
    probe = context["probe"]
    lowest = context["lowest_counts"] if math.isfinite(probe.fault_below_counts) else -math.inf
    highest = context["highest_counts"] if math.isfinite(probe.fault_above_counts) else math.inf
    if table is not None:
        return ByCounts(table, lowest, highest, form.fixed)
    side = probe.firmware.thermocouple
    inverse, junction = (
        tuple((one.high, one.middle, one.half, tuple(one.a)) for one in context[name])
        for name in ("inverse", "junction")
    )
    way = Polynomials(
        inverse, junction, context["millivolt_per_65536"], side.offset_millivolt, side.cold_junction_celsius,
        context["low_millivolt"], context["high_millivolt"],
    )  # fmt: skip
    return ByCounts(way, lowest, highest, form.fixed)


def celsius_of(how: ByCounts) -> Callable[[int], Any]:
    """The °C of counts; NaN outside what can be read."""
    way = how.way
    if isinstance(way, CodeTable):
        return lambda counts: _looked_up(way, counts, how.fixed)
    return lambda counts: _evaluated(way, counts)


def _looked_up(table: CodeTable, counts: int, fixed: bool) -> Any:
    if not table.first_counts <= counts <= table.last_counts:
        return np.nan
    spread = 1 << table.shift
    at, rest = (counts >> table.shift) - table.first_entry, counts & (spread - 1)
    low = table.entries[at]
    total = low * spread + (table.entries[at + 1] - low) * rest if spread > 1 else low
    parts = table.parts * spread
    if not fixed:
        return Single(total) / Single(parts)
    fits = table.shift <= (14 if table.parts == 100 else 9)
    if fits and parts <= LEAST_RECIPROCAL:
        return Fixed(total) * Fixed(literal(65_536.0 / parts))
    return Fixed(max(min(int(math.copysign(abs(total) * 65_536 // parts, total)), 2**31 - 1), -(2**31)))


def _polynomial(pieces: tuple[Any, ...], value: Fixed) -> Fixed:
    piece = next((one for one in pieces[:-1] if value <= one[0]), pieces[-1])
    _, middle, half, a = piece
    x, total = (value - middle) / half, Fixed(0)
    for coefficient in reversed(a):
        total = total * x + coefficient
    return total


def _evaluated(way: Polynomials, counts: int) -> Any:
    seen = Fixed(min(counts * literal(way.millivolt_per_65536) // 65_536, 2**31 - 1))
    millivolt = seen - way.offset_millivolt + _polynomial(way.junction, Fixed(literal(way.cold_celsius)))
    if not (millivolt >= way.low_millivolt and millivolt <= way.high_millivolt):
        return np.nan
    return _polynomial(way.inverse, millivolt)
