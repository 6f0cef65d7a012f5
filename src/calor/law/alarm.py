"""Alarms: what they watch, with hysteresis, delay, latch and standby. They signal; one that trips switches off.

Kinds: too high, too low, too far above or below the setpoint, inside or outside a band around it, a probe that has
failed, a loop break: full demand for the delay while the temperature moves less than it should; and a rise faster than
it can be. Source: common practice of panel controllers.
"""

from __future__ import annotations

from typing import Literal, NamedTuple, Self

import numpy as np
from pydantic import model_validator

from calor.compiled import Column, Flags, compiled, entry_in_one_piece
from calor.settings import Settings, choice, difference, number

KINDS = (
    "high", "low", "deviation_high", "deviation_low", "in_band", "out_of_band", "probe_fault", "loop_break",
    "rate_of_rise",
)  # fmt: skip
HIGH, LOW, DEVIATION_HIGH, DEVIATION_LOW, IN_BAND, OUT_OF_BAND, PROBE_FAULT, LOOP_BREAK, RATE_OF_RISE = range(
    len(KINDS)
)
FULL_DEMAND = 0.99
"""A demand from here on counts as full."""


class Alarm(Settings):
    """One alarm: what it watches, its distance or temperature, how long before it signals."""

    kind: Literal[
        "high", "low", "deviation_high", "deviation_low", "in_band", "out_of_band", "probe_fault", "loop_break",
        "rate_of_rise",
    ] = choice(
        ..., "Alarm", "high, low: the temperature; deviation_…, …_band: the error; rate_of_rise: within the delay.",
        words={
            "high": "Too high", "low": "Too low", "deviation_high": "Above the setpoint",
            "deviation_low": "Below the setpoint", "in_band": "Inside the band", "out_of_band": "Outside the band",
            "probe_fault": "Probe fault", "loop_break": "Loop break", "rate_of_rise": "Rises too fast",
        },
    )  # fmt: skip
    celsius: float = number(
        ..., "Alarm temperature",
        "Temperature (high, low), distance from setpoint, least movement (loop_break) or rise.",
        "number", -273.15, 3000.0,
    )  # fmt: skip
    hysteresis_celsius: float = difference(
        0.0, "Hysteresis", "How far back it must be before the alarm ends.", 0.0, 500.0
    )
    delay_s: float = number(
        0.0, "Delay", "How long it must last before the alarm is raised.", "duration", 0.0, 86_400.0
    )
    latch: bool = choice(False, "Latch", "Stays until the controller is started again.")
    trips: bool = choice(
        False, "Switches output off", "Output off, and latched, when it is raised: as the cut-out does."
    )
    standby: bool = choice(False, "Standby", "Silent until the temperature has been in range once.")

    @model_validator(mode="after")
    def _rise_has_time(self) -> Self:
        if self.kind == "rate_of_rise" and not self.delay_s > 0.0:
            raise ValueError(
                f"a rate_of_rise alarm needs delay_s, the time in which it may rise so far (received {self.delay_s:g})"
            )
        return self


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


STATE_SIZE = 5
"""Numbers that hold the state of an alarm."""


def to_row(alarm: AlarmNumbers) -> list[float]:
    """An alarm as a row of numbers: the loop is given those that put the output off as one array."""
    return [float(value) for value in alarm]


@compiled
def from_row(row: Column) -> AlarmNumbers:
    """An alarm from its row."""
    return AlarmNumbers(int(row[0]), row[1], row[2], row[3], row[4] != 0.0, row[5] != 0.0, row[6] != 0.0)


@compiled
def state_from_row(row: Column) -> AlarmState:
    """An alarm's state from its row."""
    return AlarmState(row[0] != 0.0, row[1] != 0.0, row[2] != 0.0, row[3], row[4])


@compiled
def state_to_row(state: AlarmState, row: Column) -> None:
    """Keep an alarm's state in a row of numbers."""
    row[0], row[1] = 1.0 if state.raised else 0.0, 1.0 if state.armed else 0.0
    row[2], row[3], row[4] = 1.0 if state.holds else 0.0, state.lasted_s, state.began_celsius


@compiled
def start() -> AlarmState:
    """Silent."""
    return AlarmState(False, False, False, 0.0, 0.0)


@compiled
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
    elif alarm.kind == RATE_OF_RISE:
        # watched in stretches as long as the delay: a steady rise that fast fills one of the next two
        if not state.holds or state.lasted_s + dt_s >= alarm.delay_s - 1e-3 * dt_s:
            rose = state.holds and measured_celsius - state.began_celsius >= alarm.celsius
            still = state.raised and (alarm.latch or rose)
            return AlarmState(rose or still, True, True, 0.0, measured_celsius)
        rose = measured_celsius - state.began_celsius >= alarm.celsius
        return AlarmState(rose or state.raised, True, True, state.lasted_s + dt_s, state.began_celsius)
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


@entry_in_one_piece
def fill_raised(
    alarm: AlarmNumbers,
    setpoint_celsius: Column,
    measured_celsius: Column,
    demand: Column,
    lost: Flags,
    dt_s: float,
    raised: Flags,
) -> None:
    """Whether it is raised at each row of a run; a reading that is NaN is a probe fault. Where power is `lost` the
    controller is off, and starts afresh after it; an empty `lost` says that it never is."""
    state = start()
    for k in range(len(measured_celsius)):
        raised[k] = False
        if len(lost) > 0 and lost[k]:
            state = start()
            continue
        fault = np.isnan(measured_celsius[k])
        state = step(alarm, state, setpoint_celsius[k], measured_celsius[k], fault, demand[k], dt_s)
        raised[k] = state.raised


def line(settings: Alarm) -> str:
    """What it says in a run, with its temperature."""
    if settings.kind == "probe_fault":
        return "alarm probe fault"
    if settings.kind == "loop_break":
        return f"alarm loop break: full demand, moved less than {settings.celsius:g} °C"
    if settings.kind == "rate_of_rise":
        return f"alarm rate of rise: {settings.celsius:g} °C within {settings.delay_s:g} s"
    return f"alarm {settings.kind.replace('_', ' ')}, {settings.celsius:g} °C"
