"""Liquid: a heater element in a liquid that loses through its walls, evaporates from its surface, and may melt.

C_e·dT_e/dt = P·u − G·(T_e − T)
(C_l + C_melting)·dT/dt = G·(T_e − T) − (G_loss + G_extra)·(T − T_ambient) − evaporation

Evaporation from an open surface: (25 + 19·v)·A·(x_s − x) kg/h at an air speed v in m/s, with the humidity ratios of
saturated and of the room's air, and 2450 kJ for each kg (common practice of building engineering, from memory).
Vapour pressure: Magnus, see the dew point. What melts takes its latent heat over a stretch of temperature.
Source: lumped heat balance, any heat transfer textbook. Water 4186 J/(kg·K): handbook value at 15 °C.
"""

from __future__ import annotations

import math
from typing import Literal, NamedTuple

import numpy as np

from calor.compiled import compiled
from calor.load.state import LoadState, Surroundings, mixed
from calor.moist_air import saturation_pascal
from calor.settings import Settings, choice, duration, number, temperature
from calor.units import TemperatureUnit, format_duration, format_temperature

LATENT_J_PER_KG = 2.45e6
AIR_PASCAL = 101_325.0


class Liquid(Settings):
    """A heater element in a liquid."""

    kind: Literal["liquid"] = choice(
        "liquid", "Load", "A heater element in a liquid, with evaporation.", words={"liquid": "Liquid"}
    )
    ambient_celsius: float = temperature(20.0, "Ambient", "Temperature around it, where a trial gives no other.")
    heater_watt: float = number(
        300.0, "Heater power", "Heat at full output; below 0: heat taken away.", "watt", -1e6, 1e6
    )
    element_j_per_k: float = number(
        150.0, "Element capacity", "Heat stored in the element per kelvin.", "j_per_k", 0.01, 1e9
    )
    element_to_liquid_w_per_k: float = number(
        10.0, "Element to liquid", "Heat the element gives to the liquid per kelvin between them.", "w_per_k", 1e-4, 1e6
    )
    mass_kg: float = number(6.0, "Mass", "Of the liquid.", "kilogram", 0.001, 1e6)
    j_per_kg_k: float = number(4186.0, "Specific heat", "Of the liquid; water 4186.", "j_per_kg_k", 1.0, 1e5)
    vessel_j_per_k: float = number(0.0, "Vessel capacity", "What warms along with the liquid.", "j_per_k", 0.0, 1e9)
    loss_w_per_k: float = number(
        1.5, "Heat loss", "Through walls and lid for each kelvin above ambient.", "w_per_k", 0.0, 1e6
    )
    surface_m2: float = number(0.0, "Open surface", "From which it evaporates; 0: covered.", "square_metre", 0.0, 1e4)
    air_speed_m_per_s: float = number(
        0.1, "Air speed", "Speed of the air over the open surface.", "metre_per_s", 0.0, 20.0
    )
    melts_at_celsius: float | None = temperature(
        None, "Melting point", "Middle of where it melts; never, where left out."
    )
    latent_j_per_kg: float = number(0.0, "Heat of melting", "Taken while it melts.", "j_per_kg", 0.0, 1e7)
    melts_over_celsius: float = number(
        4.0, "Melting range", "From the first to the last of it.", "difference", 0.5, 100.0
    )
    second_watt: float = number(
        0.0, "2nd output power", "Heat at full second output; below 0 it cools.", "watt", -1e6, 1e6
    )
    dead_time_s: float = duration(0.0, "Dead time", "Heat arrives this long after it is switched.", 0.0, 1e5)


class LiquidNumbers(NamedTuple):
    """The load as the kernel sees it."""

    heater_watt: float
    element_j_per_k: float
    element_to_liquid_w_per_k: float
    liquid_j_per_k: float
    loss_w_per_k: float
    evaporation_watt: float
    melts_from_celsius: float
    melts_to_celsius: float
    melting_j_per_k: float
    second_watt: float


def numbers(settings: Liquid) -> LiquidNumbers:
    """The settings as plain numbers; evaporation is what a difference of 1 in humidity ratio would take."""
    flow_kg_per_s = (25.0 + 19.0 * settings.air_speed_m_per_s) * settings.surface_m2 / 3600.0
    middle, half = settings.melts_at_celsius, 0.5 * settings.melts_over_celsius
    melts = middle is not None and settings.latent_j_per_kg > 0.0
    return LiquidNumbers(
        settings.heater_watt,
        settings.element_j_per_k,
        settings.element_to_liquid_w_per_k,
        settings.mass_kg * settings.j_per_kg_k + settings.vessel_j_per_k,
        settings.loss_w_per_k,
        flow_kg_per_s * LATENT_J_PER_KG,
        float(middle or 0.0) - half,
        float(middle or 0.0) + half,
        settings.mass_kg * settings.latent_j_per_kg / settings.melts_over_celsius if melts else 0.0,
        settings.second_watt,
    )


@compiled
def humidity_ratio(celsius: float, humidity: float) -> float:
    """kg of vapour for each kg of dry air."""
    pascal = humidity * saturation_pascal(celsius)
    pascal = min(pascal, 0.9 * 101_325.0)
    return 0.622 * pascal / (101_325.0 - pascal)


@compiled
def evaporation_watt(load: LiquidNumbers, celsius: float, around: Surroundings) -> float:
    """What evaporation takes."""
    if load.evaporation_watt <= 0.0 or celsius < -50.0:
        return 0.0
    ratio = humidity_ratio(celsius, 1.0) - humidity_ratio(around.ambient_celsius, around.humidity)
    return load.evaporation_watt * max(ratio, 0.0)


@compiled
def slopes(load: LiquidNumbers, state: LoadState, level: float, second: float, around: Surroundings) -> LoadState:
    """How fast liquid and element warm, °C/s."""
    given = load.element_to_liquid_w_per_k * (state.source_celsius - state.celsius)
    lost = (load.loss_w_per_k + around.extra_w_per_k) * (state.celsius - around.ambient_celsius)
    lost += evaporation_watt(load, state.celsius, around)
    capacity = load.liquid_j_per_k + state.added_j_per_k
    if load.melting_j_per_k > 0.0 and load.melts_from_celsius <= state.celsius < load.melts_to_celsius:
        capacity += load.melting_j_per_k
    return LoadState(
        (given + load.second_watt * second - lost) / capacity,
        (load.heater_watt * level - given) / load.element_j_per_k,
        0.0,
        0.0,
    )


@compiled
def with_added(load: LiquidNumbers, state: LoadState, j_per_k: float, celsius: float) -> LoadState:
    """Its state after something was put in."""
    at = mixed(state.celsius, load.liquid_j_per_k + state.added_j_per_k, j_per_k, celsius)
    return LoadState(at, state.source_celsius, state.store_celsius, state.added_j_per_k + j_per_k)


def fastest_rate_per_s(settings: Liquid, extra_w_per_k: float) -> float:
    """Upper bound of how fast its fastest part settles, 1/s."""
    plain = numbers(settings)
    # evaporation grows by at most some 7 % for each kelvin: counted at boiling
    wet = 0.1 * plain.evaporation_watt
    at_liquid = plain.element_to_liquid_w_per_k + plain.loss_w_per_k + extra_w_per_k + wet
    return 2.0 * max(plain.element_to_liquid_w_per_k / plain.element_j_per_k, at_liquid / plain.liquid_j_per_k)


def heat_capacity_j_per_k(settings: Liquid) -> float:
    """Heat that warms liquid, vessel and element by one kelvin, without what melting takes."""
    return settings.mass_kg * settings.j_per_kg_k + settings.vessel_j_per_k + settings.element_j_per_k


def time_constant_s(settings: Liquid) -> float:
    """Time to 63 % of the way, covered and without melting; infinite where no heat is lost."""
    return heat_capacity_j_per_k(settings) / settings.loss_w_per_k if settings.loss_w_per_k > 0.0 else math.inf


def settled_celsius(settings: Liquid, level: float, ambient_celsius: float) -> float:
    """Where the liquid settles at output `level`, in air of half humidity; infinite where nothing is lost."""
    plain = numbers(settings)
    heat = settings.heater_watt * level
    around = Surroundings(ambient_celsius, 0.0, 0.5)
    if plain.loss_w_per_k <= 0.0 and plain.evaporation_watt <= 0.0:
        return np.inf * heat if heat else ambient_celsius
    low, high = -270.0, 3000.0 if plain.evaporation_watt <= 0.0 else 99.0
    for _ in range(80):
        middle = 0.5 * (low + high)
        lost = plain.loss_w_per_k * (middle - ambient_celsius) + evaporation_watt(plain, middle, around)
        low, high = (middle, high) if lost < heat else (low, middle)
    return 0.5 * (low + high)


def electric_watt(settings: Liquid) -> float | None:
    """Electrical power at full output."""
    return abs(settings.heater_watt)


def summary(settings: Liquid, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    """The two lines on its card."""
    del unit, setpoint_celsius
    kind = "covered" if not settings.surface_m2 else f"{settings.surface_m2:.3g} m² open"
    return f"Liquid, {settings.mass_kg:g} kg, {settings.heater_watt:g} W", f"{settings.loss_w_per_k:g} W/K · {kind}"


def consequences(settings: Liquid, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    plain = numbers(settings)
    full = settled_celsius(settings, 1.0, settings.ambient_celsius)
    lines = {"heater_watt": f"At full output it settles at {format_temperature(unit, full)}."}
    rise = setpoint_celsius - settings.ambient_celsius
    if settings.heater_watt > 0.0 and rise > 0.0:
        warm_s = (plain.liquid_j_per_k + plain.element_j_per_k) * rise / settings.heater_watt
        lines["mass_kg"] = f"To the setpoint in {format_duration(warm_s)} at the very least."
    wet = evaporation_watt(plain, setpoint_celsius, Surroundings(settings.ambient_celsius, 0.0, 0.5))
    if wet:
        lines["surface_m2"] = f"Evaporation takes {wet:.3g} W at the setpoint, at half humidity; a lid saves it."
    lines["loss_w_per_k"] = f"Holding takes {plain.loss_w_per_k * rise + wet:.3g} W."
    over = settings.heater_watt / settings.element_to_liquid_w_per_k
    lines["element_to_liquid_w_per_k"] = f"The element runs {over:.3g} K hotter than the liquid at full output."
    if plain.melting_j_per_k:
        heat_s = settings.mass_kg * settings.latent_j_per_kg / max(abs(settings.heater_watt), 1e-9)
        lines["latent_j_per_kg"] = f"Melting takes {format_duration(heat_s)} at full output."
    return lines
