"""One lump of heat capacity: C·dT/dt = P·u + P_always − (G + G_fan·u + G_extra)·(T − T_ambient).

Solved exactly over any interval in which the output does not change. Source: lumped heat balance, any heat
transfer textbook.
"""

from __future__ import annotations

import math
from typing import Literal, NamedTuple

import numpy as np

from calor.compiled import compiled
from calor.settings import Settings, choice, duration, number, temperature
from calor.units import TemperatureUnit, format_difference, format_duration, format_temperature


class Lump(Settings):
    """One body at one temperature."""

    kind: Literal["lump"] = choice("lump", "Load", "One body at one temperature.")
    ambient_celsius: float = temperature(
        20.0, "Ambient", "Temperature around it, where a trial gives no other.", -273.15
    )
    heater_watt: float = number(100.0, "Heater", "Heat at full output; below 0: heat taken away.", "watt", -1e6, 1e6)
    heat_capacity_j_per_k: float = number(
        1000.0, "Heat capacity", "Heat that warms it by one kelvin.", "j_per_k", 0.01, 1e9
    )
    loss_w_per_k: float = number(1.0, "Loss", "Heat lost for each kelvin above ambient.", "w_per_k", 0.0, 1e6)
    dead_time_s: float = duration(0.0, "Dead time", "Heat arrives this long after it is switched.", 0.0, 1e5)
    always_watt: float = number(
        0.0, "Heat always there", "Heat of the equipment itself, switched or not.", "watt", -1e6, 1e6
    )
    fan_w_per_k: float = number(
        0.0,
        "Loss by the fan",
        "How much the loss rises at full output, where the output is a fan.",
        "w_per_k",
        0.0,
        1e6,
    )
    fan_watt: float = number(0.0, "Fan's own power", "Electrical power of the fan at full output.", "watt", 0.0, 1e6)


class LumpNumbers(NamedTuple):
    """The load as the kernel sees it."""

    heater_watt: float
    heat_capacity_j_per_k: float
    loss_w_per_k: float
    always_watt: float
    fan_w_per_k: float


def numbers(settings: Lump) -> LumpNumbers:
    """The settings as plain numbers."""
    return LumpNumbers(
        settings.heater_watt,
        settings.heat_capacity_j_per_k,
        settings.loss_w_per_k,
        settings.always_watt,
        settings.fan_w_per_k,
    )


@compiled(inline=True, inner=True)
def slope(load: LumpNumbers, celsius: float, level: float, ambient_celsius: float, extra_w_per_k: float) -> float:
    """How fast it warms, °C/s."""
    loss = load.loss_w_per_k + extra_w_per_k + load.fan_w_per_k * level
    heat = load.heater_watt * level + load.always_watt
    return (heat - loss * (celsius - ambient_celsius)) / load.heat_capacity_j_per_k


@compiled(inline=True, inner=True)
def step(
    load: LumpNumbers, celsius: float, level: float, ambient_celsius: float, extra_w_per_k: float, dt_s: float
) -> float:
    """Its temperature after `dt_s` at output `level`."""
    loss = load.loss_w_per_k + extra_w_per_k + load.fan_w_per_k * level
    slope_now = slope(load, celsius, level, ambient_celsius, extra_w_per_k)
    angle = loss * dt_s / load.heat_capacity_j_per_k
    if angle < 1e-12:
        return celsius + slope_now * dt_s
    return celsius - slope_now * dt_s * math.expm1(-angle) / angle


def fastest_rate_per_s(settings: Lump, extra_w_per_k: float) -> float:
    """Upper bound of how fast it settles, 1/s."""
    return (settings.loss_w_per_k + extra_w_per_k + settings.fan_w_per_k) / settings.heat_capacity_j_per_k


def settled_celsius(settings: Lump, level: float, ambient_celsius: float) -> float:
    """Where it settles at output `level`; infinite where nothing is lost."""
    loss = settings.loss_w_per_k + settings.fan_w_per_k * level
    heat = settings.heater_watt * level + settings.always_watt
    if loss <= 0.0:
        return np.inf * heat if heat else ambient_celsius
    return ambient_celsius + heat / loss


def electric_watt(settings: Lump) -> float | None:
    """Electrical power at full output."""
    return abs(settings.heater_watt) + settings.fan_watt


def summary(settings: Lump, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    """The two lines on its card."""
    del unit, setpoint_celsius
    if settings.fan_w_per_k and not settings.heater_watt:
        headline = f"One lump, {settings.always_watt:g} W and a fan"
    else:
        headline = f"One lump, {settings.heater_watt:g} W"
    parts = [f"dead {settings.dead_time_s:g} s"] if settings.dead_time_s else []
    if settings.loss_w_per_k:
        parts.append(f"τ {format_duration(settings.heat_capacity_j_per_k / settings.loss_w_per_k)}")
    parts.append(f"{settings.loss_w_per_k:g} W/K")
    return headline, " · ".join(parts)


def consequences(settings: Lump, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    del setpoint_celsius
    full = settled_celsius(settings, 1.0, settings.ambient_celsius)
    off = settled_celsius(settings, 0.0, settings.ambient_celsius)
    lines = {"heater_watt": f"At full output it settles at {format_temperature(unit, full)}."}
    if settings.always_watt:
        lines["always_watt"] = f"With the output off it settles at {format_temperature(unit, off)}."
    if settings.loss_w_per_k and settings.heater_watt:
        kelvin = abs(settings.heater_watt) / settings.loss_w_per_k
        lines["loss_w_per_k"] = f"Full output holds {format_difference(unit, kelvin, 0)} against ambient."
    return lines
