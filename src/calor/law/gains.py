"""The gains of a PID law at a setpoint: its own, or those of gain sets; and the times of cooling, where it has its own.

Between two sets the nearest one holds, up to and with the middle between them the lower, or all four numbers lie in
between in proportion to the setpoint; beyond the first and the last that one holds. The rate of back-calculation is
1/√(Ti·Td), or 1/Ti where there is no derivative action.
Source: gain scheduling and tracking time as in Åström & Hägglund, Advanced PID Control (2006), chapters 3 and 9.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import NamedTuple

from calor.compiled import compiled
from calor.settings import Settings, duration, number, temperature

MOST_GAIN_SETS = 6
Six = tuple[float, float, float, float, float, float]


class GainSet(Settings):
    """Gains tuned at one setpoint."""

    at_celsius: float = temperature(..., "Tuned at", "The setpoint they were tuned at.")
    gain_per_celsius: float = number(
        ..., "Gain", "Share of full output for each °C of error.", "gain_per_celsius", 0.0, 1000.0
    )
    integral_time_s: float = duration(0.0, "Integral time", "0 means no integral action.", 0.0, 1e6)
    derivative_time_s: float = duration(0.0, "Derivative time", "0 means no derivative action.", 0.0, 1e5)


class Gains(NamedTuple):
    """Gains as a law computes with them; a rate of 0 switches an action off."""

    gain_per_celsius: float
    integral_rate_per_s: float
    derivative_time_s: float
    back_calculation_rate_per_s: float


class GainNumbers(NamedTuple):
    """All gains of a law as the kernel sees them; `cool` are cooling's times where they are its own, its gain 0."""

    heat: Gains
    has_cool: bool
    cool: Gains
    sets: int
    interpolates: bool
    set_celsius: Six
    set_gain: Six
    set_rate: Six
    set_derivative_s: Six
    set_back_calculation_rate: Six


def gains_of(gain_per_celsius: float, integral_time_s: float, derivative_time_s: float, calculates_back: bool) -> Gains:
    """Gains of the standard form as the law computes with them."""
    rate_per_s = 1.0 / integral_time_s if integral_time_s > 0.0 else 0.0
    back_per_s = 0.0
    if calculates_back and integral_time_s > 0.0:
        tracking_s = math.sqrt(integral_time_s * derivative_time_s) if derivative_time_s > 0.0 else integral_time_s
        back_per_s = 1.0 / tracking_s
    return Gains(gain_per_celsius, rate_per_s, derivative_time_s, back_per_s)


def numbers(own: Gains, cool: Gains | None, sets: Sequence[GainSet], interpolates: bool, back: bool) -> GainNumbers:
    """All gains as plain numbers; `back` says that the integral is corrected by back-calculation."""
    every = [gains_of(one.gain_per_celsius, one.integral_time_s, one.derivative_time_s, back) for one in sets]
    return GainNumbers(
        own,
        cool is not None,
        Gains(0.0, 0.0, 0.0, 0.0) if cool is None else cool,
        len(sets),
        interpolates,
        _six([one.at_celsius for one in sets]),
        _six([one.gain_per_celsius for one in every]),
        _six([one.integral_rate_per_s for one in every]),
        _six([one.derivative_time_s for one in every]),
        _six([one.back_calculation_rate_per_s for one in every]),
    )


def _six(values: list[float]) -> Six:
    a, b, c, d, e, f = values + [0.0] * (MOST_GAIN_SETS - len(values))
    return a, b, c, d, e, f


@compiled
def gains_at(law: GainNumbers, setpoint_celsius: float, cools: bool) -> Gains:
    """The gains at a setpoint, with cooling's own times while it cools."""
    if cools and law.has_cool:
        gain = _heating_at(law, setpoint_celsius).gain_per_celsius
        times = law.cool
        return Gains(gain, times.integral_rate_per_s, times.derivative_time_s, times.back_calculation_rate_per_s)
    return _heating_at(law, setpoint_celsius)


@compiled
def _heating_at(law: GainNumbers, setpoint_celsius: float) -> Gains:
    """The gains at a setpoint, the law's own or those of its sets."""
    if law.sets == 0:
        return law.heat
    above = 0
    while above < law.sets and law.set_celsius[above] < setpoint_celsius:
        above += 1
    below = max(above - 1, 0)
    above = min(above, law.sets - 1)
    share = 0.0
    if above > below:
        share = (setpoint_celsius - law.set_celsius[below]) / (law.set_celsius[above] - law.set_celsius[below])
        if not law.interpolates:
            share = 1.0 if share > 0.5 else 0.0
    rest = 1.0 - share
    return Gains(
        rest * law.set_gain[below] + share * law.set_gain[above],
        rest * law.set_rate[below] + share * law.set_rate[above],
        rest * law.set_derivative_s[below] + share * law.set_derivative_s[above],
        rest * law.set_back_calculation_rate[below] + share * law.set_back_calculation_rate[above],
    )
