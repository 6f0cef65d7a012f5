"""Liquid: a heater element in a liquid that loses through its walls, evaporates from its surface, and may melt.

C_e·dT_e/dt = P·u − G·(T_e − T)
dH/dt = G·(T_e − T) − (G_loss + G_extra)·(T − T_ambient) − evaporation,  H = C·T + latent heat·share melted

What is integrated is the enthalpy H, so that no heat is lost where it melts, whatever is put in and however long the
steps. Evaporation from an open surface: (25 + 19·v)·A·(x_s − x) kg/h at an air speed v in m/s, with the humidity ratios
of saturated and of the room's air, and 2450 kJ for each kg (common practice of building engineering, from memory); the
mass it takes is not counted. It boils where its vapour has the pressure of the air; heat beyond that leaves as steam,
with the heat of vaporisation and its mass, until it is dry. Pressure at an altitude: ISO 2533 (standard atmosphere);
water's boiling point: Antoine equation with 8.07131, 1730.63, 233.426 (mmHg, 1 to 100 °C; from memory, 100.0 °C at sea
level). What is put in counts as the liquid, and does not melt. Integrated by Runge-Kutta of order 4.
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
DRY_SHARE = 0.05
"""Share of the liquid below which it is dry: what is left then has no place in a lumped balance."""
NEVER_CELSIUS = 1e9
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
    boils_at_celsius: float = temperature(
        100.0, "Boiling point", "At sea level; water 100. Steam carries off what would heat it further.", 0.0
    )
    altitude_m: float = number(
        0.0, "Altitude", "Above sea level, m: higher up it boils earlier.", "number", -500.0, 9000.0
    )
    steam_j_per_kg: float = number(
        2.257e6, "Heat of vaporisation", "Taken by each kilogram that boils away; water 2257 kJ.", "j_per_kg", 1e4, 1e7
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
    j_per_kg_k: float
    dry_j_per_k: float
    boils_at_celsius: float
    steam_j_per_kg: float


def boiling_celsius(settings: Liquid) -> float:
    """Where it boils at its altitude: as much lower than at sea level as water's boiling point is."""
    pascal = AIR_PASCAL * (1.0 - 2.25577e-5 * settings.altitude_m) ** 5.25588
    water = 1730.63 / (8.07131 - math.log10(pascal / 133.322368)) - 233.426
    return settings.boils_at_celsius + water - WATER_BOILS_CELSIUS


WATER_BOILS_CELSIUS = 1730.63 / (8.07131 - math.log10(760.0)) - 233.426


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
        settings.j_per_kg_k,
        settings.vessel_j_per_k + DRY_SHARE * settings.mass_kg * settings.j_per_kg_k,
        boiling_celsius(settings),
        settings.steam_j_per_kg,
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
def capacity_j_per_k(load: LiquidNumbers, state: LoadState) -> float:
    """Heat that warms liquid and vessel by one kelvin, what was put in and what has boiled away counted."""
    return max(load.liquid_j_per_k + state.added_j_per_k, load.dry_j_per_k)


@compiled
def without_melting(load: LiquidNumbers, capacity: float, celsius: float) -> float:
    """Enthalpy over heat capacity, °C: the temperature that the same heat would give if nothing melted."""
    melted = min(max(celsius, load.melts_from_celsius), load.melts_to_celsius) - load.melts_from_celsius
    return celsius + load.melting_j_per_k * melted / capacity


@compiled
def with_melting(load: LiquidNumbers, capacity: float, enthalpy_celsius: float) -> float:
    """The temperature, °C, at an enthalpy over heat capacity."""
    if enthalpy_celsius <= load.melts_from_celsius or load.melting_j_per_k <= 0.0:
        return enthalpy_celsius
    over = load.melting_j_per_k * (load.melts_to_celsius - load.melts_from_celsius) / capacity
    if enthalpy_celsius >= load.melts_to_celsius + over:
        return enthalpy_celsius - over
    share = capacity / (capacity + load.melting_j_per_k)
    return load.melts_from_celsius + share * (enthalpy_celsius - load.melts_from_celsius)


@compiled
def flows(
    load: LiquidNumbers, celsius: float, source: float, level: float, second: float, around: Surroundings, dry: bool
) -> tuple[float, float]:
    """(heat into the liquid, heat into the element), W."""
    given = load.element_to_liquid_w_per_k * (source - celsius)
    lost = (load.loss_w_per_k + around.extra_w_per_k) * (celsius - around.ambient_celsius)
    if not dry:
        lost += evaporation_watt(load, celsius, around)
    return given + load.second_watt * second + around.heat_watt - lost, load.heater_watt * level - given


@compiled
def is_dry(load: LiquidNumbers, state: LoadState) -> bool:
    """Whether it has boiled away."""
    return load.liquid_j_per_k + state.added_j_per_k <= load.dry_j_per_k * (1.0 + 1e-9)


@compiled
def after(
    load: LiquidNumbers, state: LoadState, level: float, second: float, around: Surroundings, dt_s: float
) -> LoadState:
    """Its state after `dt_s`; `store_celsius` is its enthalpy over its heat capacity."""
    capacity, dry = capacity_j_per_k(load, state), is_dry(load, state)
    element, heat, source = load.element_j_per_k, state.store_celsius, state.source_celsius
    a1, b1 = flows(load, state.celsius, source, level, second, around, dry)
    at = with_melting(load, capacity, heat + 0.5 * dt_s * a1 / capacity)
    a2, b2 = flows(load, at, source + 0.5 * dt_s * b1 / element, level, second, around, dry)
    at = with_melting(load, capacity, heat + 0.5 * dt_s * a2 / capacity)
    a3, b3 = flows(load, at, source + 0.5 * dt_s * b2 / element, level, second, around, dry)
    at = with_melting(load, capacity, heat + dt_s * a3 / capacity)
    a4, b4 = flows(load, at, source + dt_s * b3 / element, level, second, around, dry)
    heat += dt_s / 6.0 * (a1 + 2.0 * (a2 + a3) + a4) / capacity
    source += dt_s / 6.0 * (b1 + 2.0 * (b2 + b3) + b4) / element
    celsius, added = with_melting(load, capacity, heat), state.added_j_per_k
    if celsius > load.boils_at_celsius and not dry:
        boiling = without_melting(load, capacity, load.boils_at_celsius)
        steam_kg = capacity * (heat - boiling) / load.steam_j_per_kg
        added = max(added - steam_kg * load.j_per_kg_k, load.dry_j_per_k - load.liquid_j_per_k)
        celsius = load.boils_at_celsius
        heat = without_melting(load, max(load.liquid_j_per_k + added, load.dry_j_per_k), celsius)
    return LoadState(celsius, source, heat, added)


@compiled
def warming(load: LiquidNumbers, state: LoadState, level: float, second: float, around: Surroundings) -> float:
    """How fast the liquid warms, °C/s."""
    capacity, dry = capacity_j_per_k(load, state), is_dry(load, state)
    into, _ = flows(load, state.celsius, state.source_celsius, level, second, around, dry)
    if into > 0.0 and state.celsius >= load.boils_at_celsius and not dry:
        return 0.0
    if load.melting_j_per_k > 0.0 and load.melts_from_celsius <= state.celsius < load.melts_to_celsius:
        capacity += load.melting_j_per_k
    return into / capacity


@compiled
def slopes(load: LiquidNumbers, state: LoadState, level: float, second: float, around: Surroundings) -> LoadState:
    """How fast liquid and element warm, °C/s: what its answer to small changes is worked out from."""
    given = load.element_to_liquid_w_per_k * (state.source_celsius - state.celsius)
    element = (load.heater_watt * level - given) / load.element_j_per_k
    return LoadState(warming(load, state, level, second, around), element, 0.0, 0.0)


@compiled
def with_added(load: LiquidNumbers, state: LoadState, j_per_k: float, celsius: float) -> LoadState:
    """Its state after something was put in."""
    heat = mixed(state.store_celsius, capacity_j_per_k(load, state), j_per_k, celsius)
    added = state.added_j_per_k + j_per_k
    at = with_melting(load, max(load.liquid_j_per_k + added, load.dry_j_per_k), heat)
    return LoadState(at, state.source_celsius, heat, added)


def at_rest(settings: Liquid, celsius: float) -> LoadState:
    """Everything at one temperature."""
    plain = numbers(settings)
    return LoadState(celsius, celsius, float(without_melting(plain, plain.liquid_j_per_k, celsius)), 0.0)


def fastest_rate_per_s(settings: Liquid, extra_w_per_k: float) -> float:
    """Upper bound of how fast its fastest part settles, 1/s."""
    plain = numbers(settings)
    # evaporation grows by at most some 7 % for each kelvin: counted at boiling
    wet = 0.1 * plain.evaporation_watt
    at_liquid = plain.element_to_liquid_w_per_k + plain.loss_w_per_k + extra_w_per_k + wet
    boils = settings.heater_watt > 0.0 or settings.second_watt > 0.0
    capacity = plain.dry_j_per_k if boils else plain.liquid_j_per_k
    return 2.0 * max(plain.element_to_liquid_w_per_k / plain.element_j_per_k, at_liquid / capacity)


def heat_capacity_j_per_k(settings: Liquid) -> float:
    """Heat that warms liquid, vessel and element by one kelvin, without what melting takes."""
    return settings.mass_kg * settings.j_per_kg_k + settings.vessel_j_per_k + settings.element_j_per_k


def time_constant_s(settings: Liquid) -> float:
    """Time to 63 % of the way, covered and without melting; infinite where no heat is lost."""
    return heat_capacity_j_per_k(settings) / settings.loss_w_per_k if settings.loss_w_per_k > 0.0 else math.inf


def settled_celsius(settings: Liquid, level: float, ambient_celsius: float) -> float:
    """Where the liquid settles at output `level`, in air of half humidity; it boils at most."""
    plain = numbers(settings)
    heat = settings.heater_watt * level
    around = Surroundings(ambient_celsius, 0.0, 0.5, 0.0)
    boils = plain.boils_at_celsius
    if plain.loss_w_per_k <= 0.0 and plain.evaporation_watt <= 0.0:
        return ambient_celsius if not heat else -np.inf if heat < 0.0 else boils
    low, high = -270.0, boils
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
    wet = evaporation_watt(plain, setpoint_celsius, Surroundings(settings.ambient_celsius, 0.0, 0.5, 0.0))
    if wet:
        lines["surface_m2"] = f"Evaporation takes {wet:.3g} W at the setpoint, at half humidity; a lid saves it."
    lines["loss_w_per_k"] = f"Holding takes {plain.loss_w_per_k * rise + wet:.3g} W."
    over = settings.heater_watt / settings.element_to_liquid_w_per_k
    lines["element_to_liquid_w_per_k"] = f"The element runs {over:.3g} K hotter than the liquid at full output."
    if plain.melting_j_per_k:
        heat_s = settings.mass_kg * settings.latent_j_per_kg / max(abs(settings.heater_watt), 1e-9)
        lines["latent_j_per_kg"] = f"Melting takes {format_duration(heat_s)} at full output."
    return lines
