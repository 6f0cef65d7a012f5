"""All laws in one place: the settings of a design's [law], and the one step the kernel calls.

The step runs the law under its guards: a probe fault and a latched cut-out come before the law.
"""

from __future__ import annotations

from functools import cache, lru_cache
from types import ModuleType
from typing import Annotated, NamedTuple

import numpy as np
from pydantic import Field

from calor.compiled import compiled
from calor.law import code, fan_curve, guard, manual, on_off, outputs, pid, split, stages, timer
from calor.law.code import Code
from calor.law.fan_curve import FanCurve, FanCurveNumbers, FanCurveState
from calor.law.guard import Guard, GuardNumbers
from calor.law.manual import Manual
from calor.law.on_off import OnOff, OnOffNumbers, OnOffState
from calor.law.outputs import Demands
from calor.law.pid import Pid, PidNumbers, PidState
from calor.law.stages import Stages, StagesNumbers, StagesState
from calor.law.timer import Timer, TimerNumbers, TimerState

AnyLaw = OnOff | Pid | FanCurve | Stages | Timer | Manual | Code
Law = Annotated[AnyLaw, Field(discriminator="kind")]

KINDS: dict[str, tuple[type[AnyLaw], ModuleType]] = {
    "on_off": (OnOff, on_off),
    "pid": (Pid, pid),
    "fan_curve": (FanCurve, fan_curve),
    "stages": (Stages, stages),
    "timer": (Timer, timer),
    "manual": (Manual, manual),
    "code": (Code, code),
}
ON_OFF, PID, FAN_CURVE, STAGES, TIMER, MANUAL, CODE = range(len(KINDS))


class LawNumbers(NamedTuple):
    """Any law and its guards as the kernel sees them."""

    kind: int
    on_off: OnOffNumbers
    pid: PidNumbers
    fan_curve: FanCurveNumbers
    stages: StagesNumbers
    timer: TimerNumbers
    manual_output: float
    guard: GuardNumbers


class LawState(NamedTuple):
    """State of whichever law is in use, and whether the cut-out has tripped."""

    on_off: OnOffState
    pid: PidState
    fan_curve: FanCurveState
    stages: StagesState
    timer: TimerState
    cut_out: bool


class Inputs(NamedTuple):
    """What a law decides on, temperatures in °C. `hand` is the output set by hand, NaN in automatic."""

    setpoint_celsius: float
    measured_celsius: float
    other_celsius: float
    hand: float
    fault: bool
    off: bool


def output_names(settings: AnyLaw) -> tuple[str, ...]:
    """What a law's outputs are called, in their order."""
    if settings.action == "heat_cool":
        return ("heating", "cooling")
    if isinstance(settings, Stages):
        return tuple(f"stage {number}" for number in range(1, len(settings.stages) + 1))
    if isinstance(settings, FanCurve) and settings.second_on_celsius is not None:
        return ("fan", "second fan")
    return ("output",)


@cache
def _unused() -> LawNumbers:
    """What stands for the laws that are not in use."""
    return LawNumbers(
        0, on_off.numbers(OnOff()), pid.numbers(Pid()), fan_curve.numbers(FanCurve()), stages.numbers(Stages()),
        timer.numbers(Timer()), 0.0, guard.numbers(Guard(), "heat"),
    )  # fmt: skip


@lru_cache(maxsize=64)
def numbers(settings: AnyLaw, guards: Guard) -> LawNumbers:
    """The settings of any law and its guards as plain numbers."""
    own = {} if isinstance(settings, Manual | Code) else {settings.kind: KINDS[settings.kind][1].numbers(settings)}
    return _unused()._replace(
        kind=list(KINDS).index(settings.kind),
        manual_output=settings.output if isinstance(settings, Manual) else 0.0,
        guard=guard.numbers(guards, settings.action),
        **own,
    )


def start() -> LawState:
    """Every law as it is when the controller is switched on."""
    return LawState(on_off.start(), pid.start(), fan_curve.start(), stages.start(), timer.start(), False)


@compiled
def tripped(state: LawState) -> LawState:
    """The state with the cut-out tripped."""
    return LawState(state.on_off, state.pid, state.fan_curve, state.stages, state.timer, True)


@compiled
def step(law: LawNumbers, state: LawState, given: Inputs, dt_s: float) -> tuple[LawState, Demands]:
    """One decision of any law under its guards: (state, demand of each output, 0 to 1)."""
    setpoint_celsius, measured_celsius, fault = given.setpoint_celsius, given.measured_celsius, given.fault
    cut_out = state.cut_out or (not fault and guard.trips(law.guard, measured_celsius))
    on_off_state, pid_state, fan_state = state.on_off, state.pid, state.fan_curve
    stages_state, timer_state = state.stages, state.timer
    if fault:
        demands = outputs.one(law.guard.probe_fault_output)
        pid_state = pid.pause(pid_state)
    elif law.kind == PID:
        pid_state, demand = pid.step(law.pid, pid_state, setpoint_celsius, measured_celsius, given.hand, dt_s)
        heat, cool = demand, 0.0
        if law.pid.split.used:
            heat, cool = split.heat_and_cool(law.pid.split, demand)
        demands = outputs.two(heat, cool)
    elif law.kind == ON_OFF:
        on_off_state, demands = on_off.step(law.on_off, on_off_state, setpoint_celsius, measured_celsius, dt_s)
    elif law.kind == FAN_CURVE:
        fan_state, demands = fan_curve.step(law.fan_curve, fan_state, measured_celsius, given.other_celsius, dt_s)
    elif law.kind == STAGES:
        stages_state, demands = stages.step(law.stages, stages_state, setpoint_celsius, measured_celsius, dt_s)
    elif law.kind == TIMER:
        timer_state, demand = timer.step(law.timer, timer_state, dt_s)
        demands = outputs.one(demand)
    else:
        demands = outputs.one(manual.step(law.manual_output))
    if cut_out or given.off:
        demands = outputs.one(0.0)
    return LawState(on_off_state, pid_state, fan_state, stages_state, timer_state, cut_out), demands


def inputs(setpoint_celsius: float, measured_celsius: float, fault: bool = False) -> Inputs:
    """What a law decides on where nothing else is given."""
    return Inputs(setpoint_celsius, measured_celsius, 0.0, np.nan, fault, False)
