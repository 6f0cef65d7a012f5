"""Second order with dead time: two lags in a row, τ1·dx/dt = K·u(t − L) + T_ambient − x, τ2·dT/dt = x − T.

Solved exactly over any interval in which the output does not change. Source: the standard process model, any control
textbook; thermal loads have real time constants and do not ring by themselves.
"""

from __future__ import annotations

import math
from typing import Literal, NamedTuple

from calor.compiled import compiled
from calor.load import first_order
from calor.load.state import LoadState, Surroundings
from calor.settings import Settings, choice, difference, duration, temperature
from calor.units import TemperatureUnit, format_difference, format_duration

ALIKE = 1e-6
"""Time constants closer than this share count as equal: the solution for two of them loses its digits there."""


class SecondOrder(Settings):
    """Two lags in a row, as a heater that warms a body that warms the probe."""

    kind: Literal["second_order"] = choice(
        "second_order", "Load", "Rise, two time constants and dead time.", words={"second_order": "Second order"}
    )
    ambient_celsius: float = temperature(20.0, "Ambient", "Temperature around it, where a trial gives no other.")
    rise_celsius: float = difference(
        100.0, "Rise", "How far above ambient full output brings it; below 0 it cools.", -3000.0, 3000.0
    )
    time_constant_s: float = duration(600.0, "Time constant", "The longer of the two lags.", 0.01, 1e7)
    second_time_constant_s: float = duration(60.0, "2nd time constant", "The shorter of the two lags.", 0.01, 1e7)
    dead_time_s: float = duration(0.0, "Dead time", "Nothing moves for this long after a change.", 0.0, 1e5)
    second_rise_celsius: float = difference(
        0.0, "Second output rise", "How far full second output brings it; below 0 it cools.", -3000.0, 3000.0
    )


class SecondOrderNumbers(NamedTuple):
    """The load as the kernel sees it."""

    rise_celsius: float
    time_constant_s: float
    second_time_constant_s: float
    second_rise_celsius: float


def numbers(settings: SecondOrder) -> SecondOrderNumbers:
    """The settings as plain numbers."""
    return SecondOrderNumbers(
        settings.rise_celsius, settings.time_constant_s, settings.second_time_constant_s, settings.second_rise_celsius
    )


@compiled
def slope(load: SecondOrderNumbers, inner_celsius: float, celsius: float) -> float:
    """How fast it warms where the probe sits, °C/s."""
    return (inner_celsius - celsius) / load.second_time_constant_s


@compiled
def step(
    load: SecondOrderNumbers, inner_celsius: float, celsius: float, final: float, dt_s: float
) -> tuple[float, float]:
    """(inner, where the probe sits) in °C after `dt_s` on the way to `final`."""
    first, second = load.time_constant_s, load.second_time_constant_s
    inner_left = (inner_celsius - final) * math.exp(-dt_s / first)
    decay = math.exp(-dt_s / second)
    if abs(first - second) < ALIKE * first:
        driven = (inner_celsius - final) * dt_s / second * decay
    else:
        driven = (inner_celsius - final) * first / (first - second) * (math.exp(-dt_s / first) - decay)
    return final + inner_left, final + (celsius - final) * decay + driven


@compiled
def after(
    load: SecondOrderNumbers, state: LoadState, level: float, second: float, around: Surroundings, dt_s: float
) -> LoadState:
    """Its state after `dt_s`."""
    final = around.ambient_celsius + load.rise_celsius * level + load.second_rise_celsius * second
    inner, celsius = step(load, state.source_celsius, state.celsius, final, dt_s)
    return LoadState(celsius, inner, state.store_celsius, state.added_j_per_k)


@compiled
def warming(load: SecondOrderNumbers, state: LoadState, level: float, second: float, around: Surroundings) -> float:
    """How fast the place where the probe sits warms, °C/s."""
    return slope(load, state.source_celsius, state.celsius)


IS_BLACK_BOX = True
"""It knows no watts, no heat capacity and no loss."""


def is_exact(settings: SecondOrder) -> bool:
    """Whether it is solved exactly over any interval in which nothing changes."""
    del settings
    return True


def fastest_rate_per_s(settings: SecondOrder, extra_w_per_k: float) -> float:
    """Upper bound of how fast it settles, 1/s."""
    del extra_w_per_k
    return 1.0 / min(settings.time_constant_s, settings.second_time_constant_s)


def time_constant_s(settings: SecondOrder) -> float:
    """Time to 63 % of the way, by the longer of its lags."""
    return settings.time_constant_s


def settled_celsius(settings: SecondOrder, level: float, ambient_celsius: float) -> float:
    """Where it settles at output `level`."""
    return ambient_celsius + settings.rise_celsius * level


def electric_watt(settings: SecondOrder) -> float | None:
    """A black box knows no watts."""
    del settings
    return None


def summary(settings: SecondOrder, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    """The two lines on its card."""
    del setpoint_celsius
    times = f"τ {format_duration(settings.time_constant_s)} and {format_duration(settings.second_time_constant_s)}"
    return "Second order", f"rise {format_difference(unit, settings.rise_celsius, 0)} · {times}"


def consequences(settings: SecondOrder, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    one = first_order.FirstOrder(
        ambient_celsius=settings.ambient_celsius, rise_celsius=settings.rise_celsius,
        time_constant_s=settings.time_constant_s, dead_time_s=settings.dead_time_s,
    )  # fmt: skip
    lines = first_order.consequences(one, unit, setpoint_celsius)
    late = format_duration(settings.second_time_constant_s)
    lines["second_time_constant_s"] = f"It coasts for about {late} after the output is cut."
    return lines
