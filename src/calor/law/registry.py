"""All laws in one place: the settings of a design's [law], and the one step the kernel calls.

The step runs the law under its guards: a probe fault and a latched cut-out come before the law.
"""

from __future__ import annotations

from types import ModuleType
from typing import Annotated, NamedTuple

from pydantic import Field

from calor.compiled import compiled
from calor.law import fan_curve, guard, manual, on_off, pid, timer
from calor.law.fan_curve import FanCurve, FanCurveNumbers, FanCurveState
from calor.law.guard import Guard, GuardNumbers
from calor.law.manual import Manual
from calor.law.on_off import OnOff, OnOffNumbers, OnOffState
from calor.law.pid import Pid, PidNumbers, PidState
from calor.law.timer import Timer, TimerNumbers, TimerState

AnyLaw = OnOff | Pid | FanCurve | Timer | Manual
Law = Annotated[AnyLaw, Field(discriminator="kind")]

KINDS: dict[str, tuple[type[AnyLaw], ModuleType]] = {
    "on_off": (OnOff, on_off),
    "pid": (Pid, pid),
    "fan_curve": (FanCurve, fan_curve),
    "timer": (Timer, timer),
    "manual": (Manual, manual),
}
ON_OFF, PID, FAN_CURVE, TIMER, MANUAL = range(len(KINDS))


class LawNumbers(NamedTuple):
    """Any law and its guards as the kernel sees them."""

    kind: int
    on_off: OnOffNumbers
    pid: PidNumbers
    fan_curve: FanCurveNumbers
    timer: TimerNumbers
    manual_output: float
    guard: GuardNumbers


class LawState(NamedTuple):
    """State of whichever law is in use, and whether the cut-out has tripped."""

    on_off: OnOffState
    pid: PidState
    fan_curve: FanCurveState
    timer: TimerState
    cut_out: bool


def numbers(settings: AnyLaw, guards: Guard) -> LawNumbers:
    """The settings of any law and its guards as plain numbers."""
    return LawNumbers(
        list(KINDS).index(settings.kind),
        on_off.numbers(settings if isinstance(settings, OnOff) else OnOff()),
        pid.numbers(settings if isinstance(settings, Pid) else Pid()),
        fan_curve.numbers(settings if isinstance(settings, FanCurve) else FanCurve()),
        timer.numbers(settings if isinstance(settings, Timer) else Timer()),
        settings.output if isinstance(settings, Manual) else 0.0,
        guard.numbers(guards, settings.action),
    )


def start() -> LawState:
    """Every law as it is when the controller is switched on."""
    return LawState(on_off.start(), pid.start(), fan_curve.start(), timer.start(), False)


@compiled(inline=True)
def step(
    law: LawNumbers, state: LawState, setpoint_celsius: float, measured_celsius: float, fault: bool, dt_s: float
) -> tuple[LawState, float]:
    """One decision of any law under its guards: (state, demand 0 to 1)."""
    cut_out = state.cut_out or (not fault and guard.trips(law.guard, measured_celsius))
    on_off_state, pid_state, fan_state, timer_state = state.on_off, state.pid, state.fan_curve, state.timer
    if fault:
        demand = law.guard.probe_fault_output
        pid_state = pid.pause(pid_state)
    elif law.kind == ON_OFF:
        on_off_state, demand = on_off.step(law.on_off, on_off_state, setpoint_celsius, measured_celsius, dt_s)
    elif law.kind == PID:
        pid_state, demand = pid.step(law.pid, pid_state, setpoint_celsius, measured_celsius, dt_s)
    elif law.kind == FAN_CURVE:
        fan_state, demand = fan_curve.step(law.fan_curve, fan_state, measured_celsius, dt_s)
    elif law.kind == TIMER:
        timer_state, demand = timer.step(law.timer, timer_state, dt_s)
    else:
        demand = manual.step(law.manual_output)
    if cut_out:
        demand = 0.0
    return LawState(on_off_state, pid_state, fan_state, timer_state, cut_out), demand
