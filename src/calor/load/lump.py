"""One lump of heat capacity: C·dT/dt = P·u + P_always − (G + G_fan·u^n + G_extra)·(T − T_ambient) − ε·σ·A·(T⁴ −
T_ambient⁴).

Without radiation solved exactly over any interval in which the output does not change; with it by Runge-Kutta of order
4, in steps that suit the hottest it can get. The loss by a fan rises with its flow, the flow with its speed, its power
with the cube of the speed (fan laws). Source: lumped heat balance and the Stefan–Boltzmann law, any heat transfer
textbook; fan laws as in any fan engineering handbook; exponent 0.8 for turbulent flow (Dittus & Boelter 1930).
"""

from __future__ import annotations

import math
from typing import Literal, NamedTuple

import numpy as np

from calor.compiled import compiled
from calor.load.state import LoadState, Surroundings, mixed
from calor.settings import Settings, choice, duration, number, temperature
from calor.units import TemperatureUnit, format_difference, format_duration, format_temperature

STEFAN_BOLTZMANN = 5.670374419e-8
"""W/(m²·K⁴), CODATA 2018."""


class Lump(Settings):
    """One body at one temperature."""

    kind: Literal["lump"] = choice("lump", "Load", "One body at one temperature.", words={"lump": "Lump"})
    ambient_celsius: float = temperature(
        20.0, "Ambient", "Temperature around it, where a trial gives no other.", -273.15
    )
    heater_watt: float = number(
        100.0, "Heater power", "Heat at full output; below 0: heat taken away.", "watt", -1e6, 1e6
    )
    heat_capacity_j_per_k: float = number(
        1000.0, "Heat capacity", "Heat that warms it by one kelvin.", "j_per_k", 0.01, 1e9
    )
    loss_w_per_k: float = number(1.0, "Heat loss", "Heat lost for each kelvin above ambient.", "w_per_k", 0.0, 1e6)
    dead_time_s: float = duration(0.0, "Dead time", "Heat arrives this long after it is switched.", 0.0, 1e5)
    always_watt: float = number(
        0.0, "Constant heat input", "Heat of the equipment itself, switched or not.", "watt", -1e6, 1e6
    )
    fan_w_per_k: float = number(
        0.0,
        "Extra loss by fan",
        "How much the loss rises at full output, where the output is a fan.",
        "w_per_k",
        0.0,
        1e6,
    )
    fan_watt: float = number(0.0, "Fan power", "Electrical power of the fan at full output.", "watt", 0.0, 1e6)
    fan_exponent: float = number(
        1.0, "Fan exponent", "The loss by the fan rises with its flow to this power; 0.8 in turbulent flow.",
        "number", 0.3, 1.0,
    )  # fmt: skip
    radiating_m2: float = number(
        0.0,
        "Radiating surface",
        "Surface that radiates, times its emissivity; matters when hot.",
        "square_metre",
        0.0,
        1e4,
    )
    second_watt: float = number(
        0.0, "2nd output power", "Heat at full second output; below 0 it cools.", "watt", -1e6, 1e6
    )
    second_fan_w_per_k: float = number(
        0.0, "Loss by second fan", "How much the loss rises at full second output.", "w_per_k", 0.0, 1e6
    )
    second_fan_watt: float = number(0.0, "Second fan power", "Electrical power of the second fan.", "watt", 0.0, 1e6)


class LumpNumbers(NamedTuple):
    """The load as the kernel sees it."""

    heater_watt: float
    heat_capacity_j_per_k: float
    loss_w_per_k: float
    always_watt: float
    fan_w_per_k: float
    fan_exponent: float
    radiating_w_per_k4: float
    second_watt: float
    second_fan_w_per_k: float


def numbers(settings: Lump) -> LumpNumbers:
    """The settings as plain numbers."""
    return LumpNumbers(
        settings.heater_watt,
        settings.heat_capacity_j_per_k,
        settings.loss_w_per_k,
        settings.always_watt,
        settings.fan_w_per_k,
        settings.fan_exponent,
        STEFAN_BOLTZMANN * settings.radiating_m2,
        settings.second_watt,
        settings.second_fan_w_per_k,
    )


@compiled
def square(x: float) -> float:
    """x times itself: a power is worked out by the maths library, which costs more and rounds once more."""
    return x * x


@compiled
def loss_w_per_k(load: LumpNumbers, level: float, second: float, extra_w_per_k: float) -> float:
    """Loss for each kelvin, radiation apart."""
    flow = level if load.fan_exponent == 1.0 else max(level, 0.0) ** load.fan_exponent
    return load.loss_w_per_k + extra_w_per_k + load.fan_w_per_k * flow + load.second_fan_w_per_k * second


@compiled
def slope(load: LumpNumbers, state: LoadState, level: float, second: float, around: Surroundings) -> float:
    """How fast it warms, °C/s."""
    celsius = state.celsius
    above = celsius - around.ambient_celsius
    heat = load.heater_watt * level + load.second_watt * second + load.always_watt + around.heat_watt
    heat -= loss_w_per_k(load, level, second, around.extra_w_per_k) * above
    if load.radiating_w_per_k4 > 0.0:
        own, other = square(celsius + 273.15), square(around.ambient_celsius + 273.15)
        heat -= load.radiating_w_per_k4 * (own * own - other * other)
    return heat / (load.heat_capacity_j_per_k + state.added_j_per_k)


@compiled
def warmer(state: LoadState, by_celsius: float) -> LoadState:
    """The state with the body warmer by so much."""
    return LoadState(state.celsius + by_celsius, state.source_celsius, state.store_celsius, state.added_j_per_k)


@compiled
def step(load: LumpNumbers, state: LoadState, level: float, second: float, around: Surroundings, dt_s: float) -> float:
    """Its temperature after `dt_s` at outputs `level` and `second`."""
    celsius = state.celsius
    slope_now = slope(load, state, level, second, around)
    if load.radiating_w_per_k4 > 0.0:
        half = slope(load, warmer(state, 0.5 * dt_s * slope_now), level, second, around)
        better = slope(load, warmer(state, 0.5 * dt_s * half), level, second, around)
        end = slope(load, warmer(state, dt_s * better), level, second, around)
        return celsius + dt_s / 6.0 * (slope_now + 2.0 * (half + better) + end)
    loss = loss_w_per_k(load, level, second, around.extra_w_per_k)
    angle = loss * dt_s / (load.heat_capacity_j_per_k + state.added_j_per_k)
    if angle < 1e-12:
        return celsius + slope_now * dt_s
    return celsius - slope_now * dt_s * math.expm1(-angle) / angle


@compiled
def after(
    load: LumpNumbers, state: LoadState, level: float, second: float, around: Surroundings, dt_s: float
) -> LoadState:
    """Its state after `dt_s`."""
    celsius = step(load, state, level, second, around, dt_s)
    return LoadState(celsius, state.source_celsius, state.store_celsius, state.added_j_per_k)


@compiled
def warming(load: LumpNumbers, state: LoadState, level: float, second: float, around: Surroundings) -> float:
    """How fast the place where the probe sits warms, °C/s."""
    return slope(load, state, level, second, around)


@compiled
def with_added(load: LumpNumbers, state: LoadState, j_per_k: float, celsius: float) -> LoadState:
    """Its state after something was put in."""
    at = mixed(state.celsius, load.heat_capacity_j_per_k + state.added_j_per_k, j_per_k, celsius)
    return LoadState(at, state.source_celsius, state.store_celsius, state.added_j_per_k + j_per_k)


def is_exact(settings: Lump) -> bool:
    """Whether it is solved exactly over any interval in which nothing changes."""
    return settings.radiating_m2 == 0.0


def fastest_rate_per_s(settings: Lump, extra_w_per_k: float) -> float:
    """Upper bound of how fast it settles, 1/s; with radiation where both outputs bring it, or at 1000 °C if hotter."""
    return rate_when_hot_per_s(settings, extra_w_per_k, 1000.0, 0.0)


def rate_when_hot_per_s(
    settings: Lump, extra_w_per_k: float, hottest_celsius: float, heat_from_outside_watt: float
) -> float:
    """The same where it starts, or is put, as hot as that, or something brings heat to it."""
    loss = settings.loss_w_per_k + extra_w_per_k + settings.fan_w_per_k + settings.second_fan_w_per_k
    if settings.radiating_m2:
        heat = abs(settings.heater_watt) + abs(settings.second_watt) + abs(settings.always_watt)
        heat += heat_from_outside_watt
        balance = _radiating_balance(settings, settings.loss_w_per_k, heat, settings.ambient_celsius)
        hottest_k = max(settings.ambient_celsius, hottest_celsius, balance) + 273.15
        loss += 4.0 * STEFAN_BOLTZMANN * settings.radiating_m2 * hottest_k**3
    return loss / settings.heat_capacity_j_per_k


def heat_capacity_j_per_k(settings: Lump) -> float:
    """Heat that warms all of it by one kelvin."""
    return settings.heat_capacity_j_per_k


def time_constant_s(settings: Lump) -> float:
    """Time to 63 % of the way; infinite where no heat is lost."""
    return settings.heat_capacity_j_per_k / settings.loss_w_per_k if settings.loss_w_per_k > 0.0 else math.inf


def settled_celsius(settings: Lump, level: float, ambient_celsius: float) -> float:
    """Where it settles at output `level`; infinite where nothing is lost."""
    loss = settings.loss_w_per_k + settings.fan_w_per_k * max(level, 0.0) ** settings.fan_exponent
    heat = settings.heater_watt * level + settings.always_watt
    if settings.radiating_m2:
        return _radiating_balance(settings, loss, heat, ambient_celsius)
    if loss <= 0.0:
        return float(np.inf * heat) if heat else ambient_celsius
    return float(ambient_celsius + heat / loss)


def _radiating_balance(settings: Lump, loss_w_per_k: float, heat_watt: float, ambient_celsius: float) -> float:
    """Where a radiating lump settles, by halving the range."""
    radiating, ambient_k = STEFAN_BOLTZMANN * settings.radiating_m2, ambient_celsius + 273.15
    low, high = -273.15, 1e5
    for _ in range(100):
        middle = 0.5 * (low + high)
        lost = loss_w_per_k * (middle - ambient_celsius) + radiating * ((middle + 273.15) ** 4 - ambient_k**4)
        low, high = (middle, high) if lost < heat_watt else (low, middle)
    return 0.5 * (low + high)


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
    full = settled_celsius(settings, 1.0, settings.ambient_celsius)
    off = settled_celsius(settings, 0.0, settings.ambient_celsius)
    lines = {"heater_watt": f"At full output it settles at {format_temperature(unit, full)}."}
    if settings.always_watt:
        lines["always_watt"] = f"With the output off it settles at {format_temperature(unit, off)}."
    if settings.loss_w_per_k and settings.heater_watt:
        kelvin = abs(settings.heater_watt) / settings.loss_w_per_k
        lines["loss_w_per_k"] = f"Full output holds {format_difference(unit, kelvin, 0)} against ambient."
    if settings.radiating_m2:
        radiated = (
            STEFAN_BOLTZMANN
            * settings.radiating_m2
            * ((setpoint_celsius + 273.15) ** 4 - (settings.ambient_celsius + 273.15) ** 4)
        )
        lines["radiating_m2"] = f"It radiates {radiated:.3g} W at the setpoint."
    if settings.fan_watt:
        lines["fan_watt"] = f"At half speed an eighth of it, {settings.fan_watt / 8.0:.3g} W."
    return lines
