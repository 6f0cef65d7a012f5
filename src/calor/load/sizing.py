"""Sizing a heater: watts for a warm-up time, time for given watts, holding power, what insulation and power buy, cost.

One lump of heat capacity C with a loss G: T(t) = Ta + P/G + (T0 − Ta − P/G)·e^(−t·G/C). Source: lumped heat balance,
any heat transfer textbook. Heat capacities: water 4186 J/(kg·K) (handbook value at 15 °C), the others from memory.
"""

from __future__ import annotations

import math
from typing import NamedTuple

from calor.errors import CalorError

J_PER_KG_K: dict[str, float] = {
    "water": 4186.0, "aluminium": 897.0, "copper": 385.0, "steel": 490.0, "glass": 840.0, "air": 1005.0, "wood": 1700.0,
    "oil": 1900.0, "paraffin": 2500.0, "concrete": 880.0,
}  # fmt: skip
"""Specific heat near room temperature; paraffin without the heat that melts it."""
W_PER_M_K: dict[str, float] = {"foam": 0.035, "mineral wool": 0.04, "cork": 0.045, "plywood": 0.13, "glass": 1.0}
"""Thermal conductivity, from memory."""


class Warming(NamedTuple):
    """What is warmed, from where to where, and what it loses on the way."""

    heat_capacity_j_per_k: float
    start_celsius: float
    target_celsius: float
    ambient_celsius: float
    loss_w_per_k: float

    @property
    def begun_celsius(self) -> float:
        """How far above ambient it begins."""
        return self.start_celsius - self.ambient_celsius

    @property
    def rise_celsius(self) -> float:
        """How far above ambient it is to go."""
        return self.target_celsius - self.ambient_celsius


class Sizing(NamedTuple):
    """Power and time of a warm-up, and what holding takes. An infinite time means that it is never reached."""

    watt: float
    time_s: float
    holding_watt: float
    energy_wh: float
    final_celsius: float


def heat_capacity_j_per_k(material: str, mass_kg: float) -> float:
    """Heat capacity of so much of a material. Raises CalorError where the material is not known."""
    if material not in J_PER_KG_K:
        raise CalorError("material", f"must be one of {', '.join(J_PER_KG_K)}", f"{material!r}")
    return J_PER_KG_K[material] * mass_kg


def wall_w_per_k(material: str, area_m2: float, thickness_m: float) -> float:
    """Loss through a wall, its surfaces apart: conductivity·area/thickness. Raises CalorError."""
    if material not in W_PER_M_K:
        raise CalorError("wall", f"must be one of {', '.join(W_PER_M_K)}", f"{material!r}")
    if not (area_m2 > 0.0 and thickness_m > 0.0):
        raise CalorError("area and thickness", "must be above 0", f"{area_m2:g} m² and {thickness_m:g} m")
    return W_PER_M_K[material] * area_m2 / thickness_m


def check(warming: Warming) -> None:
    """Raises CalorError where nothing can be worked out from it."""
    if not warming.heat_capacity_j_per_k > 0.0:
        raise CalorError(
            "heat capacity",
            "must be above 0 J/K",
            f"{warming.heat_capacity_j_per_k:g}",
            "give a mass and its material, or a heat capacity",
        )
    if not warming.loss_w_per_k >= 0.0:
        raise CalorError("loss", "must be 0 W/K or more", f"{warming.loss_w_per_k:g}")
    if not warming.target_celsius > warming.start_celsius:
        raise CalorError(
            "target",
            f"must be above the {warming.start_celsius:g} °C it starts from",
            f"{warming.target_celsius:g} °C",
            "cooling is sized from the load's own figures",
        )


def holding_watt(warming: Warming) -> float:
    """Power that holds the target."""
    return warming.loss_w_per_k * warming.rise_celsius


def for_watt(warming: Warming, watt: float) -> Sizing:
    """How long so many watts take. Raises CalorError."""
    check(warming)
    if not watt > 0.0:
        raise CalorError("heater", "must be above 0", f"{watt:g}")
    loss, capacity = warming.loss_w_per_k, warming.heat_capacity_j_per_k
    rise, begun = warming.rise_celsius, warming.begun_celsius
    if loss == 0.0:
        time_s, final = capacity * (rise - begun) / watt, math.inf
    else:
        full = watt / loss
        final = warming.ambient_celsius + full
        time_s = capacity / loss * math.log((full - begun) / (full - rise)) if full > rise else math.inf
    return Sizing(watt, time_s, holding_watt(warming), watt * time_s / 3600.0, final)


def for_time(warming: Warming, time_s: float) -> Sizing:
    """How many watts a warm-up in so long takes. Raises CalorError."""
    check(warming)
    if not time_s > 0.0:
        raise CalorError("warm-up time", "must be above 0 s", f"{time_s:g}")
    loss, capacity = warming.loss_w_per_k, warming.heat_capacity_j_per_k
    rise, begun = warming.rise_celsius, warming.begun_celsius
    if loss == 0.0:
        watt = capacity * (rise - begun) / time_s
    else:
        left = math.exp(-time_s * loss / capacity)
        watt = loss * (rise - begun * left) / -math.expm1(-time_s * loss / capacity)
    answer = for_watt(warming, watt)
    return answer._replace(time_s=time_s, energy_wh=watt * time_s / 3600.0)


def holding_cost(warming: Warming, price_per_kwh: float, hours: float = 24.0) -> float:
    """What holding the target costs over some hours, in the price's own currency."""
    return holding_watt(warming) / 1000.0 * hours * price_per_kwh
