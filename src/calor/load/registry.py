"""All loads in one place: the settings of a design's [load], and the steps the kernel calls.

A load is a module and a word in LOADS: its settings, `numbers`, either `slopes` of a network of temperatures, which is
integrated here, or `after` and `warming` (and `at_rest` where its start is not one temperature in all places), and what
it can: `with_added`, `heat_capacity_j_per_k`, `time_constant_s`.
"""

from __future__ import annotations

import math
from functools import lru_cache
from types import ModuleType
from typing import TYPE_CHECKING, Annotated, Any, NamedTuple, Protocol, Union

import numpy as np
from pydantic import Field

from calor.compiled import Column, family
from calor.load import chamber, first_order, integrating, liquid, lump, second_order, thermoelectric
from calor.load.chamber import Chamber
from calor.load.liquid import Liquid
from calor.load.lump import Lump
from calor.load.state import LoadState, Surroundings, mean_slope, moved
from calor.load.thermoelectric import Thermoelectric
from calor.settings import kinds_of

LOADS: tuple[ModuleType, ...] = (lump, first_order, second_order, integrating, chamber, liquid, thermoelectric)
"""All loads, in the order in which they are offered."""
KINDS = kinds_of(LOADS)
_MODULES = {kind: module for kind, (_, module) in KINDS.items()}
_OWN = [kind for kind, module in _MODULES.items() if hasattr(module, "after")]
_NETWORKS = [kind for kind in KINDS if kind not in _OWN]
EXACT_STEP_S = 0.05
CHAMBER, THERMOELECTRIC = (list(KINDS).index(kind) for kind in ("chamber", "thermoelectric"))

if TYPE_CHECKING:

    class AnyLoad(Protocol):
        """What the settings of every load have."""

        @property
        def kind(self) -> str: ...
        @property
        def ambient_celsius(self) -> float: ...
        @property
        def dead_time_s(self) -> float: ...
        def __hash__(self) -> int: ...

    class LoadNumbers(NamedTuple):
        """Any load as the kernel sees it; beside these the numbers of each, by its name.

        `step_s` is the longest step it is accurate over.
        """

        kind: int
        dead_time_s: float
        step_s: float

        def __getattr__(self, name: str) -> Any: ...

else:
    AnyLoad = Union[tuple(settings for settings, _ in KINDS.values())]  # noqa: UP007 - of a list that is written once
    LoadNumbers = family.record(
        "LoadNumbers", __name__,
        {"kind": int, "dead_time_s": float, "step_s": float,
         **{kind: family.made_by(module.numbers) for kind, module in _MODULES.items()}},
    )  # fmt: skip
Load = Annotated[AnyLoad, Field(discriminator="kind")]


@lru_cache(maxsize=64)
def numbers(
    settings: AnyLoad, largest_extra_w_per_k: float = 0.0, hottest_celsius: float = -273.15, heat_watt: float = 0.0
) -> LoadNumbers:
    """The settings of any load as plain numbers; the step holds up to `largest_extra_w_per_k` of extra loss, from
    `hottest_celsius` on, and with so much heat from outside."""
    every: dict[str, Any] = {
        kind: module.numbers(settings if settings.kind == kind else KINDS[kind][0]())
        for kind, module in _MODULES.items()
    }
    return LoadNumbers(
        kind=list(KINDS).index(settings.kind),
        dead_time_s=settings.dead_time_s,
        step_s=_longest_step_s(settings, largest_extra_w_per_k, hottest_celsius, heat_watt),
        **every,
    )


def _longest_step_s(
    settings: AnyLoad, extra_w_per_k: float, hottest_celsius: float = -273.15, heat_watt: float = 0.0
) -> float:
    """The longest step a load is accurate over, s; one that is solved exactly takes any, for the probe's sake not
    too long ones."""
    module = _MODULES[settings.kind]
    rate = module.fastest_rate_per_s(settings, extra_w_per_k)
    if hasattr(module, "rate_when_hot_per_s"):
        rate = max(rate, module.rate_when_hot_per_s(settings, extra_w_per_k, hottest_celsius, heat_watt))
    step_s = chamber.STEP_PER_TIME_CONSTANT / rate if rate > 0.0 else 1e9
    return max(step_s, EXACT_STEP_S) if _is_exact(settings) else step_s


def _is_exact(settings: AnyLoad) -> bool:
    """Whether a load is solved exactly over any interval in which nothing changes."""
    is_exact = getattr(_MODULES[settings.kind], "is_exact", None)
    return is_exact is not None and bool(is_exact(settings))


def fastest_s(settings: AnyLoad, extra_w_per_k: float = 0.0) -> float:
    """How soon the fastest part of a load settles at the latest, s; infinite where it never does."""
    rate = _MODULES[settings.kind].fastest_rate_per_s(settings, extra_w_per_k)
    return 1.0 / rate if rate > 0.0 else math.inf


def inner_steps(settings: AnyLoad, period_s: float, extra_w_per_k: float = 0.0) -> float:
    """In how many steps a load is integrated over one control step."""
    step_s = _longest_step_s(settings, extra_w_per_k)
    return max(1.0, math.ceil(period_s / step_s)) if math.isfinite(period_s / step_s) else math.inf


def varied(every: LoadNumbers, settings: AnyLoad, shortest_step_s: float) -> LoadNumbers:
    """The numbers of a load of the same kind with other settings: what a fit asks for again and again.

    The step is no shorter than given: a part that settles far sooner leaves all bounds, and is tried no more.
    """
    module = _MODULES[settings.kind]
    rate = module.fastest_rate_per_s(settings, 0.0)
    step_s = chamber.STEP_PER_TIME_CONSTANT / rate if rate > 0.0 else 1e9
    own = {settings.kind: module.numbers(settings)}
    return every._replace(dead_time_s=settings.dead_time_s, step_s=max(step_s, shortest_step_s), **own)


def start(celsius: float, settings: AnyLoad | None = None) -> LoadState:
    """Everything at one temperature; of a load that remembers its heat, with the heat of that temperature."""
    at_rest = None if settings is None else getattr(_MODULES[settings.kind], "at_rest", None)
    if at_rest is not None:
        state: LoadState = at_rest(settings, float(celsius))
        return state
    return LoadState(float(celsius), float(celsius), float(celsius), 0.0)


_GIVEN = "load: LoadNumbers, state: LoadState, level: float, second: float, around: Surroundings"


def _dispatch(kinds: list[str], call: str) -> list[str]:
    """A branch for each of these kinds, the last one without a question where there is no other."""
    lines = []
    for kind in kinds:
        lines += [f"    if load.kind == {kind.upper()}:", f"        return {kind}.{call.format(kind=kind)}"]
    return lines


def _slopes() -> list[str]:
    *others, last = _NETWORKS
    call = "slopes(load.{kind}, state, level, second, around)"
    return [
        f"def _slopes({_GIVEN}) -> LoadState:",
        '    """How fast the parts of a network warm, °C/s."""',
        *_dispatch(others, call),
        f"    return {last}.{call.format(kind=last)}",
    ]


def _step() -> list[str]:
    return [
        f"def step({_GIVEN}, dt_s: float) -> LoadState:",
        '    """Any load after `dt_s`, at most `step_s`; networks by Runge-Kutta of order 4."""',
        *_dispatch(_OWN, "after(load.{kind}, state, level, second, around, dt_s)"),
        "    k1 = _slopes(load, state, level, second, around)",
        "    k2 = _slopes(load, moved(state, k1, 0.5 * dt_s), level, second, around)",
        "    k3 = _slopes(load, moved(state, k2, 0.5 * dt_s), level, second, around)",
        "    k4 = _slopes(load, moved(state, k3, dt_s), level, second, around)",
        "    return moved(state, mean_slope(k1, k2, k3, k4), dt_s)",
    ]


def _slope() -> list[str]:
    return [
        f"def slope({_GIVEN}) -> float:",
        '    """How fast the place where the probe sits warms, °C/s."""',
        *_dispatch(_OWN, "warming(load.{kind}, state, level, second, around)"),
        "    return _slopes(load, state, level, second, around).celsius",
    ]


def _with_added() -> list[str]:
    taking = [kind for kind, module in _MODULES.items() if hasattr(module, "with_added")]
    return [
        "def with_added(load: LoadNumbers, state: LoadState, j_per_k: float, celsius: float) -> LoadState:",
        '    """The state after something was put in, where there is a place for it."""',
        *_dispatch(taking, "with_added(load.{kind}, state, j_per_k, celsius)"),
        "    return state",
    ]


if TYPE_CHECKING:

    def step(
        load: LoadNumbers, state: LoadState, level: float, second: float, around: Surroundings, dt_s: float
    ) -> LoadState:
        """Any load after `dt_s`, at most `step_s`, at outputs `level` and `second`; networks by Runge-Kutta of order
        4."""

    def slope(load: LoadNumbers, state: LoadState, level: float, second: float, around: Surroundings) -> float:
        """How fast the place where the probe sits warms, °C/s."""

    def with_added(load: LoadNumbers, state: LoadState, j_per_k: float, celsius: float) -> LoadState:
        """The state after something of a heat capacity and temperature was put in, where there is a place for it."""

else:
    _names = {**_MODULES, **{kind.upper(): number for number, kind in enumerate(KINDS)}}
    _names |= {"Surroundings": Surroundings, "moved": moved, "mean_slope": mean_slope}
    _slopes = family.step_of("_slopes", __name__, _slopes(), **_names)
    step = family.step_of("step", __name__, _step())
    slope = family.step_of("slope", __name__, _slope())
    with_added = family.step_of("with_added", __name__, _with_added())


def settled_celsius(settings: AnyLoad, level: float, ambient_celsius: float) -> float:
    """Where any load settles at output `level`."""
    return float(KINDS[settings.kind][1].settled_celsius(settings, level, ambient_celsius))


def electric_watt(settings: AnyLoad) -> float | None:
    """Electrical power of any load at full output; None where its model knows no watts."""
    watt: float | None = KINDS[settings.kind][1].electric_watt(settings)
    return watt


def power_watt(
    settings: AnyLoad, first: Any, second: Any, is_mean: bool, against: Any = 0.0, second_is_mean: bool | None = None
) -> Column | None:
    """Electrical power over the rows of a run, W, from the outputs given; None where the model knows no watts.

    `is_mean`: the outputs are means of full and nothing, as a slow switch gives. Else they are steady, and a fan's
    power follows the cube of its speed, a current's the square. `second_is_mean` says so of the second output, where it
    has a drive of its own. `against` is the power a current needs beside that,
    against the Seebeck voltage, W.
    """
    full = electric_watt(settings)
    if full is None:
        return None
    first, second = np.abs(first), np.abs(second)
    if isinstance(settings, Thermoelectric):
        share = first + second
        return np.asarray(full * (share if is_mean or settings.chopped else share**2) + against)
    watt = full * first
    fan = getattr(settings, "fan_watt", 0.0)
    if fan and not is_mean:
        watt = (full - fan) * first + fan * first**3
    second_watt = abs(settings.second_watt) if isinstance(settings, Lump | Chamber | Liquid) else 0.0
    second_fan = getattr(settings, "second_fan_watt", 0.0)
    if np.ndim(second):
        is_mean = is_mean if second_is_mean is None else second_is_mean
        watt = watt + second_watt * second + second_fan * (second if is_mean else second**3)
    return np.asarray(watt)


def time_constant_s(settings: AnyLoad) -> float | None:
    """Time to 63 % of the way of any load, its slowest; infinite without loss, None where its model has none."""
    time_constant = getattr(KINDS[settings.kind][1], "time_constant_s", None)
    return None if time_constant is None else float(time_constant(settings))


def heat_capacity_j_per_k(settings: AnyLoad) -> float | None:
    """Heat that warms all of a load by one kelvin; None where its model knows no watts."""
    heat_capacity = getattr(KINDS[settings.kind][1], "heat_capacity_j_per_k", None)
    return None if heat_capacity is None else float(heat_capacity(settings))


def remembers_heat(settings: AnyLoad) -> bool:
    """Whether a load's state holds its enthalpy beside its temperature."""
    return hasattr(KINDS[settings.kind][1], "at_rest")


def takes_contents(settings: AnyLoad) -> bool:
    """Whether something can be put into a load."""
    return hasattr(KINDS[settings.kind][1], "with_added")


def loses_heat(settings: AnyLoad) -> bool:
    """Whether a load has a loss in W/K, to which an open door adds."""
    return not getattr(KINDS[settings.kind][1], "IS_BLACK_BOX", False)


def acts_second(settings: AnyLoad) -> bool:
    """Whether a second output does anything to this load."""
    keys = ("second_watt", "second_fan_w_per_k", "second_rise_celsius", "second_rate_celsius_per_s")
    return isinstance(settings, Thermoelectric) or any(getattr(settings, key, 0.0) for key in keys)
