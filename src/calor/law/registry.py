"""All laws in one place: the settings of a design's [law], and the one step the kernel calls.

The step runs the law under its guards: a probe fault and a latched cut-out come before the law.
"""

from __future__ import annotations

from types import ModuleType
from typing import Annotated, NamedTuple

from pydantic import Field

from calor.compiled import compiled
from calor.law import guard, manual, on_off, pid
from calor.law.guard import Guard, GuardNumbers
from calor.law.manual import Manual
from calor.law.on_off import OnOff, OnOffNumbers, OnOffState
from calor.law.pid import Pid, PidNumbers, PidState

AnyLaw = OnOff | Pid | Manual
Law = Annotated[AnyLaw, Field(discriminator="kind")]

KINDS: dict[str, tuple[type[AnyLaw], ModuleType]] = {
    "on_off": (OnOff, on_off),
    "pid": (Pid, pid),
    "manual": (Manual, manual),
}
ON_OFF, PID, MANUAL = range(len(KINDS))


class LawNumbers(NamedTuple):
    """Any law and its guards as the kernel sees them."""

    kind: int
    on_off: OnOffNumbers
    pid: PidNumbers
    manual_output: float
    guard: GuardNumbers


class LawState(NamedTuple):
    """State of whichever law is in use, and whether the cut-out has tripped."""

    on_off: OnOffState
    pid: PidState
    cut_out: bool


def numbers(settings: AnyLaw, guards: Guard) -> LawNumbers:
    """The settings of any law and its guards as plain numbers."""
    return LawNumbers(
        list(KINDS).index(settings.kind),
        on_off.numbers(settings if isinstance(settings, OnOff) else OnOff()),
        pid.numbers(settings if isinstance(settings, Pid) else Pid()),
        settings.output if isinstance(settings, Manual) else 0.0,
        guard.numbers(guards, settings.action),
    )


def start() -> LawState:
    """Every law as it is when the controller is switched on."""
    return LawState(on_off.start(), pid.start(), False)


@compiled(inline=True)
def step(
    law: LawNumbers, state: LawState, setpoint_celsius: float, measured_celsius: float, fault: bool, dt_s: float
) -> tuple[LawState, float]:
    """One decision of any law under its guards: (state, demand 0 to 1)."""
    cut_out = state.cut_out or (not fault and guard.trips(law.guard, measured_celsius))
    on_off_state, pid_state = state.on_off, state.pid
    if fault:
        demand = law.guard.probe_fault_output
        pid_state = pid.pause(pid_state)
    elif law.kind == ON_OFF:
        on_off_state, demand = on_off.step(law.on_off, on_off_state, setpoint_celsius, measured_celsius, dt_s)
    elif law.kind == PID:
        pid_state, demand = pid.step(law.pid, pid_state, setpoint_celsius, measured_celsius, dt_s)
    else:
        demand = manual.step(law.manual_output)
    if cut_out:
        demand = 0.0
    return LawState(on_off_state, pid_state, cut_out), demand
