"""All loads in one place: the settings of a design's [load], and the steps the kernel calls."""

from __future__ import annotations

from types import ModuleType
from typing import Annotated, NamedTuple

from pydantic import Field

from calor.compiled import compiled
from calor.load import chamber, first_order, integrating, lump, second_order
from calor.load.chamber import Chamber, ChamberNumbers, ChamberState
from calor.load.first_order import FirstOrder, FirstOrderNumbers
from calor.load.integrating import Integrating, IntegratingNumbers
from calor.load.lump import Lump, LumpNumbers
from calor.load.second_order import SecondOrder, SecondOrderNumbers

AnyLoad = Lump | FirstOrder | SecondOrder | Integrating | Chamber
Load = Annotated[AnyLoad, Field(discriminator="kind")]

KINDS: dict[str, tuple[type[AnyLoad], ModuleType]] = {
    "lump": (Lump, lump),
    "first_order": (FirstOrder, first_order),
    "second_order": (SecondOrder, second_order),
    "integrating": (Integrating, integrating),
    "chamber": (Chamber, chamber),
}
LUMP, FIRST_ORDER, SECOND_ORDER, INTEGRATING, CHAMBER = range(len(KINDS))


class LoadNumbers(NamedTuple):
    """Any load as the kernel sees it. `step_s` is the longest step it is accurate over."""

    kind: int
    dead_time_s: float
    step_s: float
    lump: LumpNumbers
    first_order: FirstOrderNumbers
    second_order: SecondOrderNumbers
    integrating: IntegratingNumbers
    chamber: ChamberNumbers


class LoadState(NamedTuple):
    """Temperature where the probe sits, what is before it in a second order, and the chamber's parts."""

    celsius: float
    inner_celsius: float
    chamber: ChamberState


class Surroundings(NamedTuple):
    """What the load stands in: ambient temperature (°C) and a loss beside its own (W/K)."""

    ambient_celsius: float
    extra_w_per_k: float


def numbers(settings: AnyLoad, largest_extra_w_per_k: float = 0.0) -> LoadNumbers:
    """The settings of any load as plain numbers; the step holds up to `largest_extra_w_per_k` of extra loss."""
    module = KINDS[settings.kind][1]
    rate = module.fastest_rate_per_s(settings, largest_extra_w_per_k)
    step_s = chamber.STEP_PER_TIME_CONSTANT / rate if rate > 0.0 else 1e9
    return LoadNumbers(
        list(KINDS).index(settings.kind),
        settings.dead_time_s,
        step_s,
        lump.numbers(settings if isinstance(settings, Lump) else Lump()),
        first_order.numbers(settings if isinstance(settings, FirstOrder) else FirstOrder()),
        second_order.numbers(settings if isinstance(settings, SecondOrder) else SecondOrder()),
        integrating.numbers(settings if isinstance(settings, Integrating) else Integrating()),
        chamber.numbers(settings if isinstance(settings, Chamber) else Chamber()),
    )


def start(celsius: float) -> LoadState:
    """Everything at one temperature."""
    return LoadState(float(celsius), float(celsius), ChamberState(float(celsius), float(celsius), float(celsius)))


@compiled(inline=True, inner=True)
def step(load: LoadNumbers, state: LoadState, level: float, around: Surroundings, dt_s: float) -> LoadState:
    """Any load after `dt_s`, at most `step_s`, at output `level`."""
    ambient, extra = around.ambient_celsius, around.extra_w_per_k
    if load.kind == LUMP:
        celsius = lump.step(load.lump, state.celsius, level, ambient, extra, dt_s)
        return LoadState(celsius, state.inner_celsius, state.chamber)
    if load.kind == FIRST_ORDER:
        celsius = first_order.step(load.first_order, state.celsius, level, ambient, dt_s)
        return LoadState(celsius, state.inner_celsius, state.chamber)
    if load.kind == SECOND_ORDER:
        inner, celsius = second_order.step(load.second_order, state.inner_celsius, state.celsius, level, ambient, dt_s)
        return LoadState(celsius, inner, state.chamber)
    if load.kind == INTEGRATING:
        celsius = state.celsius + integrating.slope(load.integrating, level) * dt_s
        return LoadState(celsius, state.inner_celsius, state.chamber)
    parts = chamber.step(load.chamber, state.chamber, level, ambient, extra, dt_s)
    return LoadState(parts.air_celsius, state.inner_celsius, parts)


@compiled(inline=True, inner=True)
def slope(load: LoadNumbers, state: LoadState, level: float, around: Surroundings) -> float:
    """How fast the place where the probe sits warms, °C/s."""
    ambient, extra = around.ambient_celsius, around.extra_w_per_k
    if load.kind == LUMP:
        return lump.slope(load.lump, state.celsius, level, ambient, extra)
    if load.kind == FIRST_ORDER:
        return first_order.slope(load.first_order, state.celsius, level, ambient)
    if load.kind == SECOND_ORDER:
        return second_order.slope(load.second_order, state.inner_celsius, state.celsius)
    if load.kind == INTEGRATING:
        return integrating.slope(load.integrating, level)
    return chamber.slope(load.chamber, state.chamber, ambient, extra)


def settled_celsius(settings: AnyLoad, level: float, ambient_celsius: float) -> float:
    """Where any load settles at output `level`."""
    return float(KINDS[settings.kind][1].settled_celsius(settings, level, ambient_celsius))


def electric_watt(settings: AnyLoad) -> float | None:
    """Electrical power of any load at full output; None where its model knows no watts."""
    watt: float | None = KINDS[settings.kind][1].electric_watt(settings)
    return watt
