"""All loads in one place: the settings of a design's [load], and the steps the kernel calls."""

from __future__ import annotations

from functools import lru_cache
from types import ModuleType
from typing import Annotated, Any, NamedTuple

import numpy as np
from pydantic import Field

from calor.compiled import Column, compiled
from calor.load import chamber, first_order, integrating, liquid, lump, second_order, thermoelectric
from calor.load.chamber import Chamber, ChamberNumbers
from calor.load.first_order import FirstOrder, FirstOrderNumbers
from calor.load.integrating import Integrating, IntegratingNumbers
from calor.load.liquid import Liquid, LiquidNumbers
from calor.load.lump import Lump, LumpNumbers
from calor.load.second_order import SecondOrder, SecondOrderNumbers
from calor.load.state import LoadState, Surroundings, mean_slope, moved
from calor.load.thermoelectric import Thermoelectric, ThermoelectricNumbers

AnyLoad = Lump | FirstOrder | SecondOrder | Integrating | Chamber | Liquid | Thermoelectric
Load = Annotated[AnyLoad, Field(discriminator="kind")]

KINDS: dict[str, tuple[type[AnyLoad], ModuleType]] = {
    "lump": (Lump, lump),
    "first_order": (FirstOrder, first_order),
    "second_order": (SecondOrder, second_order),
    "integrating": (Integrating, integrating),
    "chamber": (Chamber, chamber),
    "liquid": (Liquid, liquid),
    "thermoelectric": (Thermoelectric, thermoelectric),
}
LUMP, FIRST_ORDER, SECOND_ORDER, INTEGRATING, CHAMBER, LIQUID, THERMOELECTRIC = range(len(KINDS))
BLACK_BOXES = ("first_order", "second_order", "integrating")
"""Loads that know no watts, no heat capacity and no loss."""


class LoadNumbers(NamedTuple):
    """Any load as the kernel sees it. `step_s` is the longest step it is accurate over.

    `second_ratio` is what a black box makes of a second output, in proportion to the first.
    """

    kind: int
    dead_time_s: float
    step_s: float
    second_ratio: float
    lump: LumpNumbers
    first_order: FirstOrderNumbers
    second_order: SecondOrderNumbers
    integrating: IntegratingNumbers
    chamber: ChamberNumbers
    liquid: LiquidNumbers
    thermoelectric: ThermoelectricNumbers


@lru_cache(maxsize=64)
def numbers(settings: AnyLoad, largest_extra_w_per_k: float = 0.0) -> LoadNumbers:
    """The settings of any load as plain numbers; the step holds up to `largest_extra_w_per_k` of extra loss."""
    module = KINDS[settings.kind][1]
    rate = module.fastest_rate_per_s(settings, largest_extra_w_per_k)
    step_s = chamber.STEP_PER_TIME_CONSTANT / rate if rate > 0.0 else 1e9
    return LoadNumbers(
        list(KINDS).index(settings.kind),
        settings.dead_time_s,
        step_s,
        _second_ratio(settings),
        lump.numbers(settings if isinstance(settings, Lump) else Lump()),
        first_order.numbers(settings if isinstance(settings, FirstOrder) else FirstOrder()),
        second_order.numbers(settings if isinstance(settings, SecondOrder) else SecondOrder()),
        integrating.numbers(settings if isinstance(settings, Integrating) else Integrating()),
        chamber.numbers(settings if isinstance(settings, Chamber) else Chamber()),
        liquid.numbers(settings if isinstance(settings, Liquid) else Liquid()),
        thermoelectric.numbers(settings if isinstance(settings, Thermoelectric) else Thermoelectric()),
    )


def _second_ratio(settings: AnyLoad) -> float:
    if isinstance(settings, FirstOrder | SecondOrder):
        return settings.second_rise_celsius / settings.rise_celsius if settings.rise_celsius else 0.0
    if isinstance(settings, Integrating):
        rate = settings.rate_celsius_per_s
        return settings.second_rate_celsius_per_s / rate if rate else 0.0
    return 0.0


def start(celsius: float) -> LoadState:
    """Everything at one temperature."""
    return LoadState(float(celsius), float(celsius), float(celsius), 0.0)


@compiled
def _slopes(load: LoadNumbers, state: LoadState, level: float, second: float, around: Surroundings) -> LoadState:
    """How fast the parts of a network warm, °C/s."""
    if load.kind == CHAMBER:
        return chamber.slopes(load.chamber, state, level, second, around)
    if load.kind == LIQUID:
        return liquid.slopes(load.liquid, state, level, second, around)
    return thermoelectric.slopes(load.thermoelectric, state, level, second, around)


@compiled
def step(
    load: LoadNumbers, state: LoadState, level: float, second: float, around: Surroundings, dt_s: float
) -> LoadState:
    """Any load after `dt_s`, at most `step_s`, at outputs `level` and `second`; networks by Runge-Kutta of order 4."""
    ambient = around.ambient_celsius
    both = level + load.second_ratio * second
    if load.kind == LUMP:
        celsius = lump.step(load.lump, state, level, second, around, dt_s)
        return LoadState(celsius, state.source_celsius, state.store_celsius, state.added_j_per_k)
    if load.kind == FIRST_ORDER:
        celsius = first_order.step(load.first_order, state.celsius, both, ambient, dt_s)
        return LoadState(celsius, state.source_celsius, state.store_celsius, state.added_j_per_k)
    if load.kind == SECOND_ORDER:
        inner, celsius = second_order.step(load.second_order, state.source_celsius, state.celsius, both, ambient, dt_s)
        return LoadState(celsius, inner, state.store_celsius, state.added_j_per_k)
    if load.kind == INTEGRATING:
        celsius = state.celsius + integrating.slope(load.integrating, both) * dt_s
        return LoadState(celsius, state.source_celsius, state.store_celsius, state.added_j_per_k)
    k1 = _slopes(load, state, level, second, around)
    k2 = _slopes(load, moved(state, k1, 0.5 * dt_s), level, second, around)
    k3 = _slopes(load, moved(state, k2, 0.5 * dt_s), level, second, around)
    k4 = _slopes(load, moved(state, k3, dt_s), level, second, around)
    return moved(state, mean_slope(k1, k2, k3, k4), dt_s)


@compiled
def slope(load: LoadNumbers, state: LoadState, level: float, second: float, around: Surroundings) -> float:
    """How fast the place where the probe sits warms, °C/s."""
    both = level + load.second_ratio * second
    if load.kind == LUMP:
        return lump.slope(load.lump, state, level, second, around)
    if load.kind == FIRST_ORDER:
        return first_order.slope(load.first_order, state.celsius, both, around.ambient_celsius)
    if load.kind == SECOND_ORDER:
        return second_order.slope(load.second_order, state.source_celsius, state.celsius)
    if load.kind == INTEGRATING:
        return integrating.slope(load.integrating, both)
    return _slopes(load, state, level, second, around).celsius


@compiled
def _mixed(celsius: float, j_per_k: float, added_j_per_k: float, added_celsius: float) -> float:
    return (celsius * j_per_k + added_celsius * added_j_per_k) / (j_per_k + added_j_per_k)


@compiled
def with_added(load: LoadNumbers, state: LoadState, j_per_k: float, celsius: float) -> LoadState:
    """The state after something of a heat capacity and temperature was put in: with the contents, or the body
    itself."""
    at, store = state.celsius, state.store_celsius
    if load.kind == CHAMBER:
        store = _mixed(store, load.chamber.contents_j_per_k + state.added_j_per_k, j_per_k, celsius)
    elif load.kind == LIQUID:
        at = _mixed(at, load.liquid.liquid_j_per_k + state.added_j_per_k, j_per_k, celsius)
    else:
        at = _mixed(at, load.lump.heat_capacity_j_per_k + state.added_j_per_k, j_per_k, celsius)
    return LoadState(at, state.source_celsius, store, state.added_j_per_k + j_per_k)


def settled_celsius(settings: AnyLoad, level: float, ambient_celsius: float) -> float:
    """Where any load settles at output `level`."""
    return float(KINDS[settings.kind][1].settled_celsius(settings, level, ambient_celsius))


def electric_watt(settings: AnyLoad) -> float | None:
    """Electrical power of any load at full output; None where its model knows no watts."""
    watt: float | None = KINDS[settings.kind][1].electric_watt(settings)
    return watt


def power_watt(settings: AnyLoad, first: Any, second: Any, is_mean: bool) -> Column | None:
    """Electrical power over the rows of a run, W, from the outputs given; None where the model knows no watts.

    `is_mean`: the outputs are means of full and nothing, as a slow switch gives. Else they are steady, and a fan's
    power follows the cube of its speed, a current's the square.
    """
    full = electric_watt(settings)
    if full is None:
        return None
    first, second = np.abs(first), np.abs(second)
    if isinstance(settings, Thermoelectric):
        share = first + second
        return np.asarray(full * (share if is_mean or settings.chopped else share**2))
    watt = full * first
    fan = getattr(settings, "fan_watt", 0.0)
    if fan and not is_mean:
        watt = (full - fan) * first + fan * first**3
    own = abs(settings.second_watt) if isinstance(settings, Lump | Chamber | Liquid) else 0.0
    own += getattr(settings, "second_fan_watt", 0.0)
    return np.asarray(watt + own * second if np.ndim(second) else watt)


def time_constant_s(settings: AnyLoad) -> float | None:
    """Time to 63 % of the way of any load, its slowest; infinite without loss, None where its model has none."""
    own = getattr(KINDS[settings.kind][1], "time_constant_s", None)
    return None if own is None else float(own(settings))


def heat_capacity_j_per_k(settings: AnyLoad) -> float | None:
    """Heat that warms all of a load by one kelvin; None where its model knows no watts."""
    own = getattr(KINDS[settings.kind][1], "heat_capacity_j_per_k", None)
    return None if own is None else float(own(settings))


def takes_contents(settings: AnyLoad) -> bool:
    """Whether something can be put into a load."""
    return bool(getattr(KINDS[settings.kind][1], "TAKES_CONTENTS", False))


def loses_heat(settings: AnyLoad) -> bool:
    """Whether a load has a loss in W/K, to which an open door adds."""
    return settings.kind not in BLACK_BOXES


def acts_second(settings: AnyLoad) -> bool:
    """Whether a second output does anything to this load."""
    keys = ("second_watt", "second_fan_w_per_k", "second_rise_celsius", "second_rate_celsius_per_s")
    return isinstance(settings, Thermoelectric) or any(getattr(settings, key, 0.0) for key in keys)
