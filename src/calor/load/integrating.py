"""Integrating load with dead time: dT/dt = rate·u(t − L) − drift. It has no temperature of its own to settle at.

A well insulated tank behaves so over the length of a trial. Source: the standard process model, any control textbook.
"""

from __future__ import annotations

import math
from typing import Literal, NamedTuple

from calor.compiled import compiled
from calor.load.state import LoadState, Surroundings
from calor.settings import Settings, choice, duration, number, temperature
from calor.units import TemperatureUnit, difference_to


class Integrating(Settings):
    """A load that warms as long as it is heated, and holds what it has."""

    kind: Literal["integrating"] = choice(
        "integrating", "Load", "Warms as long as it is heated, and holds it.", words={"integrating": "Integrating"}
    )
    ambient_celsius: float = temperature(20.0, "Ambient", "Where a trial starts that gives no other temperature.")
    rate_celsius_per_s: float = number(
        0.05, "Rate", "How fast full output warms it; below 0 it cools.", "celsius_per_s", -100.0, 100.0
    )
    drift_celsius_per_s: float = number(
        0.0, "Drift", "How fast it cools by itself, whatever its temperature.", "celsius_per_s", -100.0, 100.0
    )
    dead_time_s: float = duration(0.0, "Dead time", "Nothing moves for this long after a change.", 0.0, 1e5)
    second_rate_celsius_per_s: float = number(
        0.0,
        "Second output rate",
        "How fast full second output warms it; below 0 it cools.",
        "celsius_per_s",
        -100.0,
        100.0,
    )


class IntegratingNumbers(NamedTuple):
    """The load as the kernel sees it."""

    rate_celsius_per_s: float
    drift_celsius_per_s: float
    second_rate_celsius_per_s: float


def numbers(settings: Integrating) -> IntegratingNumbers:
    """The settings as plain numbers."""
    return IntegratingNumbers(
        settings.rate_celsius_per_s, settings.drift_celsius_per_s, settings.second_rate_celsius_per_s
    )


@compiled
def slope(load: IntegratingNumbers, level: float, second: float) -> float:
    """How fast it warms, °C/s."""
    return load.rate_celsius_per_s * level + load.second_rate_celsius_per_s * second - load.drift_celsius_per_s


@compiled
def after(
    load: IntegratingNumbers, state: LoadState, level: float, second: float, around: Surroundings, dt_s: float
) -> LoadState:
    """Its state after `dt_s`."""
    celsius = state.celsius + slope(load, level, second) * dt_s
    return LoadState(celsius, state.source_celsius, state.store_celsius, state.added_j_per_k)


@compiled
def warming(load: IntegratingNumbers, state: LoadState, level: float, second: float, around: Surroundings) -> float:
    """How fast the place where the probe sits warms, °C/s."""
    return slope(load, level, second)


IS_BLACK_BOX = True
"""It knows no watts, no heat capacity and no loss."""


def fastest_rate_per_s(settings: Integrating, extra_w_per_k: float) -> float:
    """It never settles: any step is exact."""
    del settings, extra_w_per_k
    return 0.0


def settled_celsius(settings: Integrating, level: float, ambient_celsius: float) -> float:
    """Where it settles at output `level`: nowhere, but where nothing moves it."""
    moved = settings.rate_celsius_per_s * level - settings.drift_celsius_per_s
    return math.copysign(math.inf, moved) if moved else ambient_celsius


def electric_watt(settings: Integrating) -> float | None:
    """A black box knows no watts."""
    del settings
    return None


def summary(settings: Integrating, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    """The two lines on its card."""
    del setpoint_celsius
    rate = difference_to(unit, settings.rate_celsius_per_s * 60.0)
    drift = difference_to(unit, settings.drift_celsius_per_s * 60.0)
    return "Integrating", f"{rate:.3g} {unit}/min at full output, drift {drift:.3g}"


def consequences(settings: Integrating, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    del unit
    lines = {}
    rise = setpoint_celsius - settings.ambient_celsius
    net = settings.rate_celsius_per_s - settings.drift_celsius_per_s
    if rise and net and rise / net > 0.0:
        lines["rate_celsius_per_s"] = f"Full output reaches the setpoint in {rise / net / 60.0:.3g} min."
    if settings.rate_celsius_per_s:
        share = settings.drift_celsius_per_s / settings.rate_celsius_per_s
        lines["drift_celsius_per_s"] = f"Holding takes {share * 100.0:.3g} % of full output."
    return lines
