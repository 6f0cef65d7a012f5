"""Alarms: what they watch, with hysteresis, delay, latch and standby. They signal; one that trips switches off.

Kinds: too high, too low, too far above or below the setpoint, inside or outside a band around it, a probe that has
failed, a loop break: full demand for the delay while the temperature moves less than it should; and a rise faster than
it can be: since the lowest reading of the last delay, kept in sixteenths of it, so that a rise is found that takes
up to a sixteenth longer. Source: common practice of panel controllers.
"""

from __future__ import annotations

from typing import Literal, NamedTuple, Self

from pydantic import model_validator

from calor.compiled import Column, compiled
from calor.elapsed import passed
from calor.law.outputs import Demands
from calor.settings import Settings, choice, difference, number
from calor.units import TemperatureUnit, celsius_to, difference_to

KINDS = (
    "high", "low", "deviation_high", "deviation_low", "in_band", "out_of_band", "probe_fault", "loop_break",
    "rate_of_rise",
)  # fmt: skip
HIGH, LOW, DEVIATION_HIGH, DEVIATION_LOW, IN_BAND, OUT_OF_BAND, PROBE_FAULT, LOOP_BREAK, RATE_OF_RISE = range(
    len(KINDS)
)
FULL_SHARE = 0.99
"""A demand from this share of the most that the law may ask on counts as full."""
PARTS = 16
"""Into so many parts the time of a rise is divided, each with its lowest reading."""


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
    standby: bool = choice(
        False, "Standby", "Silent until the temperature has been in range once; again so after a new setpoint."
    )

    @model_validator(mode="after")
    def _rise_has_time(self) -> Self:
        if self.kind == "rate_of_rise" and not self.delay_s > 0.0:
            raise ValueError(
                f"a rate_of_rise alarm needs delay_s, the time in which it may rise so far (received {self.delay_s:g})"
            )
        return self


class Acting(NamedTuple):
    """How a law acts: 1 where it heats, −1 where it cools, 0 where it does both with an output each; how many outputs
    it has, and from which demand on the first and each further one is full."""

    side: float
    outputs: int
    full_first: float
    full_second: float


class AlarmNumbers(NamedTuple):
    """One alarm as compiled code sees it; `part_s` and `parts` divide the time of a rise."""

    kind: int
    celsius: float
    hysteresis_celsius: float
    delay_s: float
    latch: bool
    standby: bool
    trips: bool
    arms_again: bool
    part_s: float
    parts: int
    side: float
    outputs: int
    full_first: float
    full_second: float


NUMBERS = len(AlarmNumbers._fields)


def numbers(settings: Alarm, acting: Acting, period_s: float, follows: bool = False) -> AlarmNumbers:
    """The settings as plain numbers; `follows` says that the setpoint follows a signal: then it is never a new one."""
    readings = max(1, round(settings.delay_s / period_s))
    in_a_part = -(-readings // PARTS)
    return AlarmNumbers(
        KINDS.index(settings.kind), settings.celsius, settings.hysteresis_celsius, settings.delay_s, settings.latch,
        settings.standby, settings.trips, settings.standby and not follows,
        in_a_part * period_s, -(-readings // in_a_part), *acting,
    )  # fmt: skip


def to_row(alarm: AlarmNumbers) -> list[float]:
    """An alarm as a row of numbers: the loop is given all of them as one array."""
    return [float(value) for value in alarm]


@compiled
def from_row(row: Column) -> AlarmNumbers:
    """An alarm from its row."""
    return AlarmNumbers(
        int(row[0]), row[1], row[2], row[3], row[4] != 0.0, row[5] != 0.0, row[6] != 0.0, row[7] != 0.0, row[8],
        int(row[9]), row[10], int(row[11]), row[12], row[13],
    )  # fmt: skip


RAISED, ARMED, HOLDS, LASTED_S, LASTED_REST_S, BEGAN_CELSIUS, SIDE, LOWEST_FROM = range(8)
"""What an alarm remembers, in a row of numbers: whether it is raised, whether standby is over, whether its condition
holds, for how long and what rounding added to that, the reading that a loop break is counted from and which way it
should move, then the lowest readings of a rise, the present part's first."""
MEMORY_SIZE = LOWEST_FROM + PARTS + 1


@compiled
def full_side(alarm: AlarmNumbers, demands: Demands) -> float:
    """Which way a law that gives all it can drives the temperature, 1 up and −1 down; 0 where it could give more."""
    first = demands.first >= alarm.full_first
    second = demands.second >= alarm.full_second
    if alarm.side == 0.0:
        return (1.0 if first else 0.0) - (1.0 if second else 0.0)
    full = first and (alarm.outputs < 2 or second)
    full = full and (alarm.outputs < 3 or demands.third >= alarm.full_second)
    full = full and (alarm.outputs < 4 or demands.fourth >= alarm.full_second)
    return alarm.side if full else 0.0


@compiled
def _lasts(memory: Column, dt_s: float) -> None:
    """Its condition has held for another step."""
    lasted_s, rest_s = passed(float(memory[LASTED_S]), float(memory[LASTED_REST_S]), dt_s)
    memory[LASTED_S], memory[LASTED_REST_S] = lasted_s, rest_s


@compiled
def _rises(alarm: AlarmNumbers, memory: Column, measured_celsius: float, dt_s: float) -> bool:
    """Whether a reading is so far above the lowest of the last delay, which takes it up."""
    if memory[HOLDS] == 0.0:
        memory[HOLDS] = 1.0
        for k in range(alarm.parts + 1):
            memory[LOWEST_FROM + k] = measured_celsius
        memory[LASTED_S], memory[LASTED_REST_S] = 0.0, 0.0
    elif memory[LASTED_S] + dt_s >= alarm.part_s - 1e-3 * dt_s:
        for k in range(alarm.parts, 0, -1):
            memory[LOWEST_FROM + k] = memory[LOWEST_FROM + k - 1]
        memory[LOWEST_FROM] = measured_celsius
        memory[LASTED_S], memory[LASTED_REST_S] = 0.0, 0.0
    else:
        memory[LOWEST_FROM] = min(memory[LOWEST_FROM], measured_celsius)
        _lasts(memory, dt_s)
    lowest = float(memory[LOWEST_FROM])
    for k in range(1, alarm.parts + 1):
        lowest = min(lowest, memory[LOWEST_FROM + k])
    back = alarm.hysteresis_celsius if memory[RAISED] != 0.0 else 0.0
    return measured_celsius - lowest >= alarm.celsius - back


@compiled
def waits(row: Column, memory: Column, setpoint_celsius: float, measured_celsius: float) -> bool:
    """Whether a reading leaves an alarm as it is, armed and silent: what most readings do, told without its step."""
    if memory[RAISED] > 0.0 or memory[HOLDS] > 0.0 or memory[ARMED] <= 0.0:
        return False
    kind, celsius = row[0], row[1]
    if kind == HIGH:
        return measured_celsius <= float(celsius)
    if kind == LOW:
        return measured_celsius >= float(celsius)
    above = measured_celsius - setpoint_celsius
    if kind == DEVIATION_HIGH:
        return above <= float(celsius)
    return kind == DEVIATION_LOW and -above <= float(celsius)


@compiled
def step(
    alarm: AlarmNumbers, memory: Column, setpoint_is_new: bool, setpoint_celsius: float, measured_celsius: float,
    fault: bool, demands: Demands, dt_s: float,
) -> bool:  # fmt: skip
    """Whether it is raised after one more reading, `dt_s` after the last; `memory` is a row of MEMORY_SIZE numbers.

    While the probe is at fault the others hold still.
    """
    was_raised = float(memory[RAISED]) != 0.0
    if setpoint_is_new and alarm.arms_again:
        memory[ARMED] = 0.0
    if fault and alarm.kind != PROBE_FAULT:
        memory[HOLDS], memory[LASTED_S], memory[LASTED_REST_S] = 0.0, 0.0, 0.0
        return was_raised
    back = alarm.hysteresis_celsius if was_raised else 0.0
    above = measured_celsius - setpoint_celsius
    if alarm.kind == RATE_OF_RISE:
        raised = _rises(alarm, memory, measured_celsius, dt_s) or (was_raised and alarm.latch)
        memory[RAISED] = 1.0 if raised else 0.0
        return raised
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
        side = full_side(alarm, demands)
        holds = side != 0.0
        moved = side * (measured_celsius - memory[BEGAN_CELSIUS])
        if not holds or memory[HOLDS] == 0.0 or side != memory[SIDE] or moved >= alarm.celsius:
            # it moves as it should, or is not driven: watched anew from here
            memory[BEGAN_CELSIUS], memory[SIDE] = measured_celsius, side
            memory[LASTED_S], memory[LASTED_REST_S] = 0.0, 0.0
            memory[ARMED], memory[HOLDS] = 1.0, 1.0 if holds else 0.0
            memory[RAISED] = 1.0 if was_raised and alarm.latch else 0.0
            return was_raised and alarm.latch
    if not alarm.standby or not holds:
        memory[ARMED] = 1.0
    holds = holds and memory[ARMED] != 0.0
    if holds and memory[HOLDS] != 0.0:
        _lasts(memory, dt_s)
    else:
        memory[LASTED_S], memory[LASTED_REST_S] = 0.0, 0.0
    memory[HOLDS] = 1.0 if holds else 0.0
    # a rounding before the delay is over counts as over
    over = holds and memory[LASTED_S] >= alarm.delay_s - 1e-3 * dt_s
    raised = over or (was_raised and (alarm.latch or holds))
    memory[RAISED] = 1.0 if raised else 0.0
    return raised


def line(settings: Alarm, unit: TemperatureUnit = "°C") -> str:
    """What it says in a run, with its temperature."""
    if settings.kind == "probe_fault":
        return "alarm probe fault"
    shown = celsius_to if settings.kind in ("high", "low") else difference_to
    degrees = f"{shown(unit, float(settings.celsius)):.6g} {unit}"
    if settings.kind == "loop_break":
        return f"alarm loop break: full demand, moved less than {degrees}"
    if settings.kind == "rate_of_rise":
        return f"alarm rate of rise: {degrees} within {settings.delay_s:g} s"
    return f"alarm {settings.kind.replace('_', ' ')}, {degrees}"
