"""Alarms: what they watch, with hysteresis, delay, latch and standby. They speak and do not act.

Kinds: too high, too low, too far above or below the setpoint, inside or outside a band around it, a probe that has
failed, and a loop break: full demand for the delay while the temperature moves less than it should. Source: common
practice of panel controllers.
"""

from __future__ import annotations

from typing import Literal, NamedTuple

import numpy as np
import numpy.typing as npt

from calor.compiled import Column, compiled
from calor.settings import Settings, choice, difference, number

KINDS = ("high", "low", "deviation_high", "deviation_low", "in_band", "out_of_band", "probe_fault", "loop_break")
HIGH, LOW, DEVIATION_HIGH, DEVIATION_LOW, IN_BAND, OUT_OF_BAND, PROBE_FAULT, LOOP_BREAK = range(len(KINDS))
FULL_DEMAND = 0.99
"""A demand from here on counts as full."""


class Alarm(Settings):
    """One alarm: what it watches, its distance or temperature, how long before it speaks."""

    kind: Literal[
        "high", "low", "deviation_high", "deviation_low", "in_band", "out_of_band", "probe_fault", "loop_break"
    ] = choice(
        ..., "Alarm", "high, low: the temperature; deviation_…, in_band, out_of_band: the error."
    )  # fmt: skip
    celsius: float = number(
        ..., "At", "Temperature (high, low), distance from the setpoint, or least movement (loop_break).", "number",
        -273.15, 3000.0,
    )  # fmt: skip
    hysteresis_celsius: float = difference(
        0.0, "Hysteresis", "How far back it must be before the alarm ends.", 0.0, 500.0
    )
    delay_s: float = number(
        0.0, "Delay", "How long it must last before the alarm is raised.", "duration", 0.0, 86_400.0
    )
    latch: bool = choice(False, "Latch", "Stays until the controller is started again.")
    standby: bool = choice(False, "Standby", "Silent until the temperature has been in range once.")


class AlarmNumbers(NamedTuple):
    """One alarm as compiled code sees it."""

    kind: int
    celsius: float
    hysteresis_celsius: float
    delay_s: float
    latch: bool
    standby: bool
    cools: bool


class AlarmState(NamedTuple):
    """Whether it is raised, whether standby is over, whether its condition holds, for how long (s), from where."""

    raised: bool
    armed: bool
    holds: bool
    lasted_s: float
    began_celsius: float


def numbers(settings: Alarm, action: str) -> AlarmNumbers:
    """The settings as plain numbers; `action` is the law's."""
    return AlarmNumbers(
        KINDS.index(settings.kind),
        settings.celsius,
        settings.hysteresis_celsius,
        settings.delay_s,
        settings.latch,
        settings.standby,
        action == "cool",
    )


def start() -> AlarmState:
    """Silent."""
    return AlarmState(False, False, False, 0.0, 0.0)


@compiled()
def step(
    alarm: AlarmNumbers, state: AlarmState, setpoint_celsius: float, measured_celsius: float, fault: bool,
    demand: float, dt_s: float,
) -> AlarmState:  # fmt: skip
    """The alarm after one more reading, `dt_s` after the last. While the probe is at fault the others hold still."""
    if fault and alarm.kind != PROBE_FAULT:
        return AlarmState(state.raised, state.armed, False, 0.0, state.began_celsius)
    back = alarm.hysteresis_celsius if state.raised else 0.0
    above = measured_celsius - setpoint_celsius
    began_celsius = state.began_celsius
    if alarm.kind == HIGH:
        holds = measured_celsius > alarm.celsius - back
    elif alarm.kind == LOW:
        holds = measured_celsius < alarm.celsius + back
    elif alarm.kind == DEVIATION_HIGH:
        holds = above > alarm.celsius - back
    elif alarm.kind == DEVIATION_LOW:
        holds = -above > alarm.celsius - back
    elif alarm.kind == IN_BAND:
        holds = abs(above) < alarm.celsius + back
    elif alarm.kind == OUT_OF_BAND:
        holds = abs(above) > alarm.celsius - back
    elif alarm.kind == PROBE_FAULT:
        holds = fault
    else:
        holds = demand >= FULL_DEMAND
        moved = (state.began_celsius - measured_celsius) if alarm.cools else (measured_celsius - state.began_celsius)
        if not state.holds or moved >= alarm.celsius:
            # it moves as it should: watched anew from here
            began_celsius = measured_celsius
            return AlarmState(state.raised and alarm.latch, True, holds, 0.0, began_celsius)
    armed = state.armed or not alarm.standby or not holds
    holds = holds and armed
    lasted_s = (state.lasted_s + dt_s if state.holds else 0.0) if holds else 0.0
    # a rounding before the delay is over counts as over
    raised = (holds and lasted_s >= alarm.delay_s - 1e-3 * dt_s) or (state.raised and (alarm.latch or holds))
    return AlarmState(raised, armed, holds, lasted_s, began_celsius)


@compiled()
def steps(
    alarm: AlarmNumbers,
    state: AlarmState,
    setpoint_celsius: Column,
    measured_celsius: Column,
    demand: Column,
    dt_s: float,
) -> npt.NDArray[np.bool_]:
    """Whether it is raised at each row of a run; a reading that is NaN is a probe fault."""
    raised = np.empty(len(measured_celsius), np.bool_)
    for k in range(len(measured_celsius)):
        fault = np.isnan(measured_celsius[k])
        state = step(alarm, state, setpoint_celsius[k], measured_celsius[k], fault, demand[k], dt_s)
        raised[k] = state.raised
    return raised


def line(settings: Alarm) -> str:
    """What it says in a run, with its temperature."""
    if settings.kind == "probe_fault":
        return "alarm probe fault"
    if settings.kind == "loop_break":
        return f"alarm loop break: full demand, moved less than {settings.celsius:g} °C"
    return f"alarm {settings.kind.replace('_', ' ')}, {settings.celsius:g} °C"
