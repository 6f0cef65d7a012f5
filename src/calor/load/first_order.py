"""First order with dead time: τ·dT/dt = K·u(t − L) − (T − T_ambient).

Solved exactly over any interval in which the output does not change. Source: the standard process model,
any control textbook.
"""

from __future__ import annotations

import math
from typing import Literal, NamedTuple

import numpy as np

from calor.compiled import compiled
from calor.load.state import LoadState, Surroundings
from calor.settings import Settings, choice, difference, duration, temperature
from calor.units import TemperatureUnit, format_difference, format_duration, format_temperature


class FirstOrder(Settings):
    """What a step test tells: rise, time constant and dead time."""

    kind: Literal["first_order"] = choice(
        "first_order", "Load", "Rise, time constant and dead time of a step test.", words={"first_order": "First order"}
    )
    ambient_celsius: float = temperature(20.0, "Ambient", "Temperature around it, where a trial gives no other.")
    rise_celsius: float = difference(
        100.0, "Rise", "How far above ambient full output brings it; below 0 it cools.", -3000.0, 3000.0
    )
    time_constant_s: float = duration(600.0, "Time constant", "Time to 63 % of the rise, dead time apart.", 0.01, 1e7)
    dead_time_s: float = duration(0.0, "Dead time", "Nothing moves for this long after a change.", 0.0, 1e5)
    second_rise_celsius: float = difference(
        0.0, "Second output rise", "How far full second output brings it; below 0 it cools.", -3000.0, 3000.0
    )


class FirstOrderNumbers(NamedTuple):
    """The load as the kernel sees it."""

    rise_celsius: float
    time_constant_s: float
    second_rise_celsius: float


def numbers(settings: FirstOrder) -> FirstOrderNumbers:
    """The settings as plain numbers."""
    return FirstOrderNumbers(settings.rise_celsius, settings.time_constant_s, settings.second_rise_celsius)


@compiled
def final_celsius(load: FirstOrderNumbers, level: float, second: float, ambient_celsius: float) -> float:
    """Where its outputs bring it in the end."""
    return ambient_celsius + load.rise_celsius * level + load.second_rise_celsius * second


@compiled
def step(load: FirstOrderNumbers, celsius: float, final: float, dt_s: float) -> float:
    """Its temperature after `dt_s` on the way to `final`, both in °C."""
    return final + (celsius - final) * math.exp(-dt_s / load.time_constant_s)


@compiled
def after(
    load: FirstOrderNumbers, state: LoadState, level: float, second: float, around: Surroundings, dt_s: float
) -> LoadState:
    """Its state after `dt_s`."""
    final = final_celsius(load, level, second, around.ambient_celsius)
    celsius = step(load, state.celsius, final, dt_s)
    return LoadState(celsius, state.source_celsius, state.store_celsius, state.added_j_per_k)


@compiled
def warming(load: FirstOrderNumbers, state: LoadState, level: float, second: float, around: Surroundings) -> float:
    """How fast the place where the probe sits warms, °C/s."""
    return (final_celsius(load, level, second, around.ambient_celsius) - state.celsius) / load.time_constant_s


IS_BLACK_BOX = True
"""It knows no watts, no heat capacity and no loss."""


def is_exact(settings: FirstOrder) -> bool:
    """Whether it is solved exactly over any interval in which nothing changes."""
    del settings
    return True


def fastest_rate_per_s(settings: FirstOrder, extra_w_per_k: float) -> float:
    """Upper bound of how fast it settles, 1/s."""
    del extra_w_per_k
    return 1.0 / settings.time_constant_s


def time_constant_s(settings: FirstOrder) -> float:
    """Time to 63 % of the way."""
    return settings.time_constant_s


def settled_celsius(settings: FirstOrder, level: float, ambient_celsius: float) -> float:
    """Where it settles at output `level`."""
    return ambient_celsius + settings.rise_celsius * level


def electric_watt(settings: FirstOrder) -> float | None:
    """A first-order model knows no watts."""
    del settings
    return None


def summary(settings: FirstOrder, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    """The two lines on its card."""
    del setpoint_celsius
    rise = format_difference(unit, settings.rise_celsius, 0)
    tau = format_duration(settings.time_constant_s)
    return "First order", f"rise {rise} · τ {tau} · dead {settings.dead_time_s:g} s"


def consequences(settings: FirstOrder, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    full = settled_celsius(settings, 1.0, settings.ambient_celsius)
    lines = {"rise_celsius": f"Full output settles at {format_temperature(unit, full)}."}
    need = (setpoint_celsius - settings.ambient_celsius) / settings.rise_celsius if settings.rise_celsius else np.inf
    if 0.0 <= need <= 1.0:
        lines["rise_celsius"] += f" Holding the setpoint takes {need * 100.0:.0f} %."
    if settings.dead_time_s:
        ratio = settings.dead_time_s / settings.time_constant_s
        lines["dead_time_s"] = f"{ratio:.2g} of the time constant: {'easy' if ratio < 0.2 else 'hard'} to control."
    return lines
