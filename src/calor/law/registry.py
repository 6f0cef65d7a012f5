"""All laws in one place: the settings of a design's [law], and the one step the kernel calls.

The step runs the law under its guards: a probe fault and a latched cut-out come before the law. A law is a module and
a word in LAWS: its settings, `numbers`, `decide`, and where it remembers something `start`, and `override`: what it
does while a guard puts the output somewhere, so that it knows afterwards what was given, and for how long. One with a
MEMORY_SIZE is also given a memory of that many numbers, 0 at the start, to write in.
"""

from __future__ import annotations

from functools import cache, lru_cache
from types import ModuleType
from typing import TYPE_CHECKING, Annotated, Any, NamedTuple, Protocol, Union

import numpy as np
from pydantic import Field

from calor.compiled import Column, compiled, family
from calor.compiled.kept_states import kept_states, numbers_of
from calor.law import alarm, code, fan_curve, guard, manual, on_off, outputs, pid, predictive, stages, timer
from calor.law.guard import Guard, GuardNumbers
from calor.law.outputs import Demands, Inputs
from calor.settings import kinds_of

LAWS: tuple[ModuleType, ...] = (on_off, pid, predictive, fan_curve, stages, timer, manual, code)
"""All laws, in the order in which they are offered."""
KINDS = kinds_of(LAWS)
_DECIDING = {kind: module for kind, (_, module) in KINDS.items() if hasattr(module, "decide")}
"""Laws that are carried out here; your own code is not."""
_REMEMBERING = {kind: module for kind, module in _DECIDING.items() if hasattr(module, "start")}
MEMORY_SIZE = max(getattr(module, "MEMORY_SIZE", 0) for module in LAWS)
"""Numbers that the law in use may keep in place, all 0 at the start: what is too much for a state that is handed on."""

if TYPE_CHECKING:

    class AnyLaw(Protocol):
        """What the settings of every law have."""

        @property
        def kind(self) -> str: ...
        @property
        def action(self) -> str: ...
        @property
        def period_s(self) -> float: ...
        def __hash__(self) -> int: ...

    class LawNumbers(NamedTuple):
        """Any law and its guards as the kernel sees them; beside these the numbers of each law, by its name."""

        kind: int
        guard: GuardNumbers

        def __getattr__(self, name: str) -> Any: ...

else:
    AnyLaw = Union[tuple(settings for settings, _ in KINDS.values())]  # noqa: UP007 - of a list that is written once
    LawNumbers = family.record(
        "LawNumbers", __name__,
        {"kind": int, **{k: family.made_by(m.numbers) for k, m in _DECIDING.items()}, "guard": GuardNumbers},
    )  # fmt: skip
Law = Annotated[AnyLaw, Field(discriminator="kind")]


def output_names(settings: AnyLaw) -> tuple[str, ...]:
    """What a law's outputs are called, in their order."""
    if settings.action == "heat_cool":
        return ("heating", "cooling")
    own = getattr(KINDS[settings.kind][1], "output_names", None)
    names: tuple[str, ...] = own(settings) if own is not None else ("output",)
    return names


def acting(settings: AnyLaw) -> alarm.Acting:
    """How a law acts, as an alarm for a loop break has to know: full is all that its own limits let it ask."""
    side = {"heat": 1.0, "cool": -1.0}.get(settings.action, 0.0)
    first = getattr(settings, "output_high", 1.0)
    second = getattr(settings, "cool_output_high", 1.0) if settings.action == "heat_cool" else 1.0
    return alarm.Acting(side, len(output_names(settings)), alarm.FULL_SHARE * first, alarm.FULL_SHARE * second)


def alarm_numbers(settings: AnyLaw, guards: Guard, follows: bool) -> list[alarm.AlarmNumbers]:
    """The alarms of a law as plain numbers; `follows` says that its setpoint follows a signal."""
    how = acting(settings)
    return [alarm.numbers(one, how, float(settings.period_s), follows) for one in guards.alarms]


@cache
def _unused() -> LawNumbers:
    """What stands for the laws that are not in use."""
    every: dict[str, Any] = {kind: module.numbers(KINDS[kind][0]()) for kind, module in _DECIDING.items()}
    return LawNumbers(kind=0, guard=guard.numbers(Guard(), "heat"), **every)


@lru_cache(maxsize=64)
def numbers(settings: AnyLaw, guards: Guard) -> LawNumbers:
    """The settings of any law and its guards as plain numbers."""
    deciding = _DECIDING.get(settings.kind)
    return _unused()._replace(
        kind=list(KINDS).index(settings.kind),
        guard=guard.numbers(guards, settings.action),
        **({} if deciding is None else {settings.kind: deciding.numbers(settings)}),
    )


class LawState(NamedTuple):
    """Whether the cut-out has tripped; written in place: what the law in use keeps in a memory of its own, and the
    state of each law, in its part of the row `kept`."""

    cut_out: bool
    memory: Column
    kept: Column


KEPT = kept_states(__name__, {kind: family.made_by(module.start) for kind, module in _REMEMBERING.items()})
"""The steps that read and write the state of each law that remembers."""
AT_START = np.array([n for module in _REMEMBERING.values() for n in numbers_of(module.start())])
"""The row of all laws' states as it is when the controller is switched on."""


def start() -> LawState:
    """Every law as it is when the controller is switched on."""
    return LawState(False, np.zeros(MEMORY_SIZE), AT_START.copy())


@compiled
def restarted(state: LawState) -> LawState:
    """The state as it is when the controller is switched on again."""
    state.memory[:] = 0.0
    for k in range(AT_START.shape[0]):
        state.kept[k] = AT_START[k]
    return LawState(False, state.memory, state.kept)


@compiled
def tripped(state: LawState) -> LawState:
    """The state with the cut-out tripped."""
    return LawState(True, state.memory, state.kept)


def released(state: LawState) -> LawState:
    """The state with a tripped cut-out released."""
    return state._replace(cut_out=False)


def _step() -> list[str]:
    """One decision of any law under its guards, its branches in the order of the list."""
    memory = {k: "state.memory, " if hasattr(m, "MEMORY_SIZE") else "" for k, m in _REMEMBERING.items()}

    def branch(word: str, kind: str, call: str) -> list[str]:
        given = f"law.{kind}, kept_{kind}(state.kept), {memory[kind]}"
        return [
            f"    {word} law.kind == {kind.upper()}:",
            f"        {kind}_state, demands = {kind}.{call.format(given)}",
            f"        keep_{kind}({kind}_state, state.kept)",
        ]

    lines = [
        "def step(law: LawNumbers, state: LawState, given: Inputs, dt_s: float) -> tuple[LawState, Demands]:",
        '    """One decision of any law under its guards: (state, demand of each output, 0 to 1)."""',
        "    cut_out = state.cut_out or (not given.fault and guard.trips(law.guard, given.measured_celsius))",
        "    if given.fault or cut_out or given.off:",
        "        put_to = 0.0",
        "        if not cut_out and not given.off:",
        "            put_to = law.guard.probe_fault_output",
        "            if law.guard.hand_at_fault and not np.isnan(given.hand):",
        "                put_to = given.hand",
        "        demands = outputs.every(put_to)",
    ]
    for kind, module in _REMEMBERING.items():
        if hasattr(module, "override"):
            lines += [f"    {line}" for line in branch("if", kind, "override({}put_to, dt_s)")]
    for kind in _DECIDING:
        if kind in _REMEMBERING:
            lines += branch("elif", kind, "decide({}given, dt_s)")
        else:
            lines += [
                f"    elif law.kind == {kind.upper()}:",
                f"        demands = {kind}.decide(law.{kind}, given, dt_s)",
            ]
    return [
        *lines,
        "    else:",
        "        demands = outputs.every(0.0)",
        "    return LawState(cut_out, state.memory, state.kept), demands",
    ]


if TYPE_CHECKING:

    def step(law: LawNumbers, state: LawState, given: Inputs, dt_s: float) -> tuple[LawState, Demands]:
        """One decision of any law under its guards: (state, demand of each output, 0 to 1)."""

else:
    numbers_of_kinds = {kind.upper(): number for number, kind in enumerate(KINDS)}
    step = family.step_of("step", __name__, _step(), outputs=outputs, guard=guard, **_DECIDING, **numbers_of_kinds)


def inputs(setpoint_celsius: float, measured_celsius: float, fault: bool = False) -> Inputs:
    """What a law decides on where nothing else is given."""
    return Inputs(setpoint_celsius, measured_celsius, 0.0, np.nan, fault, False, 0)
