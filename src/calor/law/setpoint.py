"""Setpoint: what the law aims at, held between two limits. One temperature, day and night, or a signal it follows.

A program of ramps and soaks is in its own module. Source: common practice.
"""

from __future__ import annotations

from functools import lru_cache
from types import ModuleType
from typing import Annotated, Literal, NamedTuple, Self

import numpy as np
from pydantic import Field, model_validator

from calor.compiled import compiled
from calor.elapsed import DAY_US, microseconds
from calor.law import program
from calor.law.program import Program, ProgramNumbers, ProgramState, check_limits
from calor.settings import Settings, choice, difference, duration, temperature
from calor.units import TemperatureUnit, celsius_to, format_difference, format_duration, format_temperature

DAY_S = 86_400.0


class Limited(Settings):
    """What every setpoint has: its limits, and a lock."""

    low_limit_celsius: float | None = temperature(None, "Lowest setpoint", "The setpoint cannot be put below this.")
    high_limit_celsius: float | None = temperature(None, "Highest setpoint", "The setpoint cannot be put above this.")
    locked: bool = choice(False, "Setpoint locked", "It cannot be changed while the thermostat runs.")


class Hold(Limited):
    """One temperature, held."""

    kind: Literal["hold"] = choice("hold", "Setpoint", "One temperature, held.", words={"hold": "Hold"})
    celsius: float = temperature(..., "Setpoint", "The temperature to hold.")

    @model_validator(mode="after")
    def _within_limits(self) -> Self:
        check_limits(self.low_limit_celsius, self.high_limit_celsius, {"celsius": self.celsius})
        return self


class DayNight(Limited):
    """One temperature by day, another by night."""

    kind: Literal["day_night"] = choice(
        "day_night", "Setpoint", "One temperature by day, another by night.", words={"day_night": "Day, night"}
    )
    day_celsius: float = temperature(20.0, "Day setpoint", "The setpoint while it is day.")
    night_celsius: float = temperature(16.0, "Night setpoint", "The setpoint while it is night.")
    day_begins_s: float = duration(21_600.0, "Day begins", "Seconds after midnight; 21600 is 6:00.", 0.0, DAY_S)
    night_begins_s: float = duration(79_200.0, "Night begins", "Seconds after midnight; 79200 is 22:00.", 0.0, DAY_S)
    clock_at_start_s: float = duration(0.0, "Clock at start", "Time of day when a trial starts.", 0.0, DAY_S)

    @property
    def celsius(self) -> float:
        """The temperature it is about: that of the day."""
        return self.day_celsius

    @model_validator(mode="after")
    def _within_limits(self) -> Self:
        places = {"day_celsius": self.day_celsius, "night_celsius": self.night_celsius}
        check_limits(self.low_limit_celsius, self.high_limit_celsius, places)
        if self.day_begins_s == self.night_begins_s:
            raise ValueError(f"day and night begin at the same time ({self.day_begins_s:g} s); move one of them")
        return self


class Follow(Limited):
    """A signal and a distance from it."""

    kind: Literal["follow"] = choice(
        "follow", "Setpoint", "A signal and a distance from it.", words={"follow": "Follow"}
    )
    signal: Literal["dew_point", "ambient"] = choice(
        "dew_point",
        "Signal followed",
        "The dew point of the air, from its temperature and humidity, or the ambient.",
        words={"dew_point": "Dew point", "ambient": "Ambient"},
    )
    offset_celsius: float = difference(3.0, "Offset", "Added to the signal.", -500.0, 500.0)
    without_signal_celsius: float = temperature(10.0, "Fallback setpoint", "The setpoint while there is no signal.")

    @property
    def celsius(self) -> float:
        """The temperature it has while there is no signal."""
        return self.without_signal_celsius

    @model_validator(mode="after")
    def _within_limits(self) -> Self:
        places = {"without_signal_celsius": self.without_signal_celsius}
        check_limits(self.low_limit_celsius, self.high_limit_celsius, places)
        return self


AnySetpoint = Hold | Program | DayNight | Follow
Setpoint = Annotated[AnySetpoint, Field(discriminator="kind")]
KINDS: dict[str, type[AnySetpoint]] = {"hold": Hold, "program": Program, "day_night": DayNight, "follow": Follow}
HOLD, PROGRAM, DAY_NIGHT, FOLLOW = range(len(KINDS))


class SetpointNumbers(NamedTuple):
    """Any setpoint as the kernel sees it."""

    kind: int
    celsius: float
    low_celsius: float
    high_celsius: float
    night_celsius: float
    day_begins_s: float
    night_begins_s: float
    clock_at_start_s: float
    offset_celsius: float
    program: ProgramNumbers


@lru_cache(maxsize=64)
def numbers(settings: AnySetpoint) -> SetpointNumbers:
    """The settings as plain numbers."""
    low, high = settings.low_limit_celsius, settings.high_limit_celsius
    day = settings if isinstance(settings, DayNight) else DayNight()
    return SetpointNumbers(
        list(KINDS).index(settings.kind),
        float(settings.celsius),
        -np.inf if low is None else low,
        np.inf if high is None else high,
        day.night_celsius,
        day.day_begins_s,
        day.night_begins_s,
        day.clock_at_start_s,
        settings.offset_celsius if isinstance(settings, Follow) else 0.0,
        program.numbers(settings if isinstance(settings, Program) else Program()),
    )


@compiled
def is_day(setpoint: SetpointNumbers, clock_us: int) -> bool:
    """Whether it is day at a time of day (µs)."""
    day_us, night_us = microseconds(setpoint.day_begins_s), microseconds(setpoint.night_begins_s)
    if day_us < night_us:
        return day_us <= clock_us < night_us
    return not (night_us <= clock_us < day_us)


@compiled
def is_signal(celsius: float) -> bool:
    """Whether a signal can be one: what is no temperature counts as none."""
    return celsius > -273.15 and celsius < 3000.0


@compiled
def step(
    setpoint: SetpointNumbers, state: ProgramState, measured_celsius: float, signal_celsius: float, now_s: float,
    dt_s: float,
) -> tuple[ProgramState, float, bool]:  # fmt: skip
    """(state, setpoint in °C, whether its end has put the output off). A reading that is NaN is not there, nor a signal
    that is no temperature."""
    celsius, off = setpoint.celsius, False
    if setpoint.kind == PROGRAM:
        state, celsius, off = program.step(setpoint.program, state, measured_celsius, dt_s)
    elif setpoint.kind == DAY_NIGHT:
        # a rounding before a change counts as after it
        now_us = microseconds(setpoint.clock_at_start_s) + microseconds(now_s) + microseconds(dt_s) // 1000
        if not is_day(setpoint, now_us % DAY_US):
            celsius = setpoint.night_celsius
    elif setpoint.kind == FOLLOW and is_signal(signal_celsius):
        celsius = signal_celsius + setpoint.offset_celsius
    return state, min(max(celsius, setpoint.low_celsius), setpoint.high_celsius), off


def module_of(settings: AnySetpoint) -> ModuleType | None:
    """The module of a kind that has one of its own."""
    return program if isinstance(settings, Program) else None


def summary(settings: AnySetpoint, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    """The two lines on its card."""
    if isinstance(settings, Program):
        return program.summary(settings, unit)
    low, high = settings.low_limit_celsius, settings.high_limit_celsius
    limits = [
        f"{word} {celsius_to(unit, value):.4g}" for word, value in (("from", low), ("to", high)) if value is not None
    ]
    between = ("limits " + " ".join(limits).removeprefix("from ")).replace("-", "−") if limits else "no limits"
    if isinstance(settings, DayNight):
        day, night = (format_temperature(unit, value, 1) for value in (settings.day_celsius, settings.night_celsius))
        return (
            f"{day.removesuffix(f' {unit}')} by day, {night}",
            f"day {clock(settings.day_begins_s)} to {clock(settings.night_begins_s)}",
        )
    if isinstance(settings, Follow):
        name = "Dew point" if settings.signal == "dew_point" else "Ambient"
        sign = "+" if settings.offset_celsius >= 0.0 else "−"
        return f"{name} {sign} {format_difference(unit, abs(settings.offset_celsius), 1)}", f"follows, {between}"
    return format_temperature(unit, setpoint_celsius), f"hold, {between}"


def clock(time_s: float) -> str:
    """A time of day, as 6:00."""
    return f"{int(time_s // 3600)}:{int(time_s % 3600 // 60):02d}"


def consequences(settings: AnySetpoint, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    del setpoint_celsius
    if isinstance(settings, Program):
        return program.consequences(settings, unit)
    if isinstance(settings, DayNight):
        night_s = (settings.day_begins_s - settings.night_begins_s) % DAY_S
        return {
            "day_begins_s": f"Day from {clock(settings.day_begins_s)}.",
            "night_begins_s": f"Night from {clock(settings.night_begins_s)}, {format_duration(night_s)} long.",
            "clock_at_start_s": f"A trial starts at {clock(settings.clock_at_start_s)}.",
        }
    return {}
