"""Setpoint program: ramps and soaks one after the other, with hold-back, repeats and an end.

The clock of a program stands still while the load lags behind by more than the hold-back, so that a soak is as long as
it says. Source: common practice of kilns and ovens.
"""

from __future__ import annotations

import math
from typing import Annotated, Literal, NamedTuple, Self

import numpy as np
from pydantic import Field, Strict, model_validator

from calor.compiled import Column, compiled, entry
from calor.elapsed import microseconds
from calor.settings import Settings, choice, difference, duration, number, temperature
from calor.units import TemperatureUnit, format_duration, format_temperature

MOST_SEGMENTS = 8
Eight = tuple[float, float, float, float, float, float, float, float]


class Segment(Settings):
    """A ramp to a temperature, at a rate or in a time, and a soak there. With neither it goes there at once."""

    to_celsius: float = temperature(..., "Target", "Where the ramp ends and the soak is held.")
    rate_celsius_per_min: float | None = number(
        None, "Rate", "How fast the setpoint moves.", "celsius_per_min", 0.0001, 6000.0
    )
    ramp_s: float | None = duration(None, "Ramp", "How long the ramp takes.", 0.0, 1e7)
    soak_s: float = duration(0.0, "Soak", "How long it is held.", 0.0, 1e7)

    @model_validator(mode="after")
    def _one_pace(self) -> Self:
        if self.rate_celsius_per_min is not None and self.ramp_s is not None:
            raise ValueError("give a segment either rate_celsius_per_min or ramp_s, not both")
        return self


def check_limits(low: float | None, high: float | None, places: dict[str, float]) -> None:
    """Raises ValueError where the limits are the wrong way round, or a place is outside them."""
    if low is not None and high is not None and low > high:
        raise ValueError(f"low_limit_celsius ({low:g}) is above high_limit_celsius ({high:g}); swap them")
    for key, celsius in places.items():
        if low is not None and celsius < low:
            raise ValueError(f"{key} ({celsius:g}) is below low_limit_celsius ({low:g}); raise it or the limit")
        if high is not None and celsius > high:
            raise ValueError(f"{key} ({celsius:g}) is above high_limit_celsius ({high:g}); lower it or the limit")


class Program(Settings):
    """Ramps and soaks, one after the other."""

    kind: Literal["program"] = choice(
        "program", "Setpoint", "Ramps and soaks, one after the other.", words={"program": "Program"}
    )
    segments: Annotated[tuple[Segment, ...], Strict(False)] = Field(
        default=(Segment(to_celsius=60.0, rate_celsius_per_min=1.0, soak_s=1800.0),),
        title="Segments", description="Each a ramp to a temperature and a soak there.",
        min_length=1, max_length=MOST_SEGMENTS,
    )  # fmt: skip
    hold_back_celsius: float | None = difference(
        None,
        "Hold-back distance",
        "The clock waits while the load is further away than this; never, where left out.",
        0.01,
        500.0,
    )
    times: int = number(1, "Repetitions", "How often the program runs; 0: without end.", "integer", 0, 10_000)
    end: Literal["hold", "off", "fall_to"] = choice(
        "hold",
        "At the end",
        "hold: the last temperature stays; off: the output goes off; fall_to: another setpoint.",
        words={"hold": "Hold", "off": "output off", "fall_to": "falls to"},
    )
    end_celsius: float = temperature(20.0, "Final setpoint", "The setpoint afterwards, where it falls.")
    low_limit_celsius: float | None = temperature(None, "Lowest", "The setpoint cannot be put below this.")
    high_limit_celsius: float | None = temperature(None, "Highest", "The setpoint cannot be put above this.")
    locked: bool = choice(False, "Locked", "It cannot be changed while the thermostat runs.")

    @property
    def celsius(self) -> float:
        """The temperature it is about: where it is held longest."""
        return max(self.segments, key=lambda segment: segment.soak_s).to_celsius

    @model_validator(mode="after")
    def _within_limits(self) -> Self:
        places = {f"segments[{k}].to_celsius": segment.to_celsius for k, segment in enumerate(self.segments)}
        if self.end == "fall_to":
            places["end_celsius"] = self.end_celsius
        check_limits(self.low_limit_celsius, self.high_limit_celsius, places)
        return self


class ProgramNumbers(NamedTuple):
    """The program as the kernel sees it. A rate of 0 means that the ramp has a time."""

    used: int
    to_celsius: Eight
    rate_celsius_per_s: Eight
    ramp_s: Eight
    soak_s: Eight
    hold_back_celsius: float
    times: int
    end: int
    end_celsius: float


ENDS = ("hold", "off", "fall_to")
END_HOLD, END_OFF, END_FALL = range(3)


class ProgramState(NamedTuple):
    """Which segment, for how long (µs), from where its ramp began, rounds left behind, whether begun and whether
    over."""

    segment: int
    phase_us: int
    begun_celsius: float
    rounds: int
    begun: bool
    over: bool


def _eight(values: list[float]) -> Eight:
    a, b, c, d, e, f, g, h = values + [0.0] * (MOST_SEGMENTS - len(values))
    return a, b, c, d, e, f, g, h


def numbers(settings: Program) -> ProgramNumbers:
    """The settings as plain numbers."""
    parts = settings.segments
    return ProgramNumbers(
        len(parts),
        _eight([part.to_celsius for part in parts]),
        _eight([(part.rate_celsius_per_min or 0.0) / 60.0 for part in parts]),
        _eight([part.ramp_s or 0.0 for part in parts]),
        _eight([part.soak_s for part in parts]),
        math.inf if settings.hold_back_celsius is None else settings.hold_back_celsius,
        settings.times,
        ENDS.index(settings.end),
        settings.end_celsius,
    )


@compiled
def start() -> ProgramState:
    """Before the first reading, from which the first ramp begins."""
    return ProgramState(0, 0, 0.0, 0, False, False)


def skipped(program: ProgramNumbers, state: ProgramState, setpoint_celsius: float) -> ProgramState:
    """On to the next segment, from the setpoint as it is now; as it was in the last one, or after the end."""
    if state.over or state.segment + 1 >= program.used:
        return state
    return ProgramState(state.segment + 1, 0, setpoint_celsius, state.rounds, True, False)


def resumed(program: ProgramNumbers, state: ProgramState, segment: int, after_s: float) -> ProgramState:
    """So many seconds into a segment (0 the first), as after the mains were back; as it was where there is none."""
    if segment >= program.used or not after_s >= 0.0:
        return state
    before = program.to_celsius[segment - 1] if segment > 0 else state.begun_celsius
    return ProgramState(segment, microseconds(after_s), before, 0, segment > 0, False)


@compiled
def step(
    program: ProgramNumbers, state: ProgramState, measured_celsius: float, dt_s: float
) -> tuple[ProgramState, float, bool]:
    """(state, setpoint in °C, whether the end has put the output off); `dt_s` is the time until the next decision."""
    last = program.to_celsius[program.used - 1]
    if state.over:
        return state, program.end_celsius if program.end == END_FALL else last, program.end == END_OFF
    if not state.begun:
        if np.isnan(measured_celsius):
            return state, program.to_celsius[0], False
        state = ProgramState(state.segment, state.phase_us, measured_celsius, state.rounds, True, False)
    segment, phase_us = state.segment, state.phase_us
    begun, rounds = state.begun_celsius, state.rounds
    dt_us, ramp_us = microseconds(dt_s), 0
    # a rounding before a change counts as after it
    ahead_us = dt_us // 1000
    for _ in range(2 * program.used + 1):
        to, rate = program.to_celsius[segment], program.rate_celsius_per_s[segment]
        ramp_us = microseconds(abs(to - begun) / rate) if rate > 0.0 else microseconds(program.ramp_s[segment])
        whole_us = ramp_us + microseconds(program.soak_s[segment])
        if phase_us + ahead_us < whole_us:
            break
        # what is over passes what is left of the step on to the next
        phase_us -= whole_us
        begun = to
        segment += 1
        if segment == program.used:
            segment = 0
            rounds += 1
            if program.times > 0 and rounds >= program.times:
                over = ProgramState(0, 0, last, rounds, True, True)
                return over, program.end_celsius if program.end == END_FALL else last, program.end == END_OFF
    setpoint = to
    if phase_us + ahead_us < ramp_us:
        setpoint = begun + (to - begun) * max(phase_us, 0) / ramp_us
    behind = np.isnan(measured_celsius) or abs(measured_celsius - setpoint) > program.hold_back_celsius
    if not behind or program.hold_back_celsius == np.inf:
        phase_us += dt_us
    return ProgramState(segment, phase_us, begun, rounds, True, False), setpoint, False


@entry
def over_at(program: ProgramNumbers, measured_celsius: Column, dt_s: float) -> int:
    """The row of a run at which the program is over; −1 where it is not. A reading that is NaN is not there."""
    state = start()
    for k in range(len(measured_celsius)):
        state, _, _ = step(program, state, measured_celsius[k], dt_s)
        if state.over:
            return k
    return -1


def profile(settings: Program, from_celsius: float) -> tuple[list[float], list[float]]:
    """(s, °C) at the corners of one round of the program from a temperature, as long as nothing holds it back."""
    times, places = [0.0], [from_celsius]
    at_s, celsius = 0.0, from_celsius
    for part in settings.segments:
        rate = (part.rate_celsius_per_min or 0.0) / 60.0
        at_s += abs(part.to_celsius - celsius) / rate if rate else (part.ramp_s or 0.0)
        celsius = part.to_celsius
        times.append(at_s)
        places.append(celsius)
        at_s += part.soak_s
        times.append(at_s)
        places.append(celsius)
    return times, places


def summary(settings: Program, unit: TemperatureUnit) -> tuple[str, str]:
    """The two lines on its card."""
    highest = max(part.to_celsius for part in settings.segments)
    count = len(settings.segments)
    soak_s = sum(part.soak_s for part in settings.segments)
    name = f"Program, {count} segment{'s' if count != 1 else ''}"
    return name, f"to {format_temperature(unit, highest, 1)}, soaks {format_duration(soak_s)}"


def consequences(settings: Program, unit: TemperatureUnit) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    whole_s = profile(settings, settings.segments[0].to_celsius)[0][-1]
    lines = {"segments": f"{format_duration(whole_s)} after the first ramp, if nothing holds it back."}
    if settings.hold_back_celsius is None:
        lines["hold_back_celsius"] = "A load that lags shortens its soaks."
    if settings.end == "fall_to":
        lines["end_celsius"] = f"Then {format_temperature(unit, settings.end_celsius)}."
    return lines
