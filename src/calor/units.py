"""Temperatures, temperature differences and durations: conversion and formatting.

An absolute temperature and a temperature difference convert differently (1 °C apart is 1.8 °F apart, with
no offset), so each has its own functions. Source: the units' definitions (SI brochure; °F = °C·1.8 + 32).
"""

from __future__ import annotations

import math
import re
from typing import TYPE_CHECKING, Literal, TypeVar, get_args

if TYPE_CHECKING:
    import numpy as np
    import numpy.typing as npt

TemperatureUnit = Literal["°C", "°F", "K"]
TEMPERATURE_UNITS: tuple[TemperatureUnit, ...] = get_args(TemperatureUnit)
ABSOLUTE_ZERO_CELSIUS = -273.15
FAHRENHEIT_PER_CELSIUS = 1.8

Number = TypeVar("Number", float, "npt.NDArray[np.float64]")


def celsius_to(unit: TemperatureUnit, celsius: Number) -> Number:
    """Absolute temperature in `unit` of an absolute temperature in °C."""
    if unit == "°F":
        return celsius * FAHRENHEIT_PER_CELSIUS + 32.0
    return celsius - ABSOLUTE_ZERO_CELSIUS if unit == "K" else celsius


def to_celsius(unit: TemperatureUnit, value: Number) -> Number:
    """Absolute temperature in °C of an absolute temperature in `unit`."""
    if unit == "°F":
        return (value - 32.0) / FAHRENHEIT_PER_CELSIUS
    return value + ABSOLUTE_ZERO_CELSIUS if unit == "K" else value


def difference_to(unit: TemperatureUnit, difference_celsius: Number) -> Number:
    """Temperature difference in `unit` of a difference in °C."""
    return difference_celsius * FAHRENHEIT_PER_CELSIUS if unit == "°F" else difference_celsius


def difference_to_celsius(unit: TemperatureUnit, difference: Number) -> Number:
    """Temperature difference in °C of a difference in `unit`."""
    return difference / FAHRENHEIT_PER_CELSIUS if unit == "°F" else difference


def format_temperature(unit: TemperatureUnit, celsius: float, digits: int = 1) -> str:
    """An absolute temperature as text with its unit; a dash where there is none."""
    if not math.isfinite(celsius):
        return "–"
    return f"{round(celsius_to(unit, float(celsius)), digits) + 0.0:.{digits}f} {unit}".replace("-", "−")


def format_difference(unit: TemperatureUnit, difference_celsius: float, digits: int = 2) -> str:
    """A temperature difference as text with its unit; a dash where there is none."""
    if not math.isfinite(difference_celsius):
        return "–"
    return f"{round(difference_to(unit, float(difference_celsius)), digits) + 0.0:.{digits}f} {unit}".replace("-", "−")


def format_duration(seconds: float) -> str:
    """A duration: 45 s, 12 min, 6:35 of minutes and seconds, 1:30:00 with hours."""
    if not math.isfinite(seconds):
        return "–"
    sign = "−" if seconds < 0 else ""
    whole = round(abs(seconds))
    if abs(seconds) < 9.95:
        return f"{sign}{abs(seconds):.1f} s"
    if whole < 60:
        return f"{sign}{whole} s"
    hours, rest = divmod(whole, 3600)
    minutes, left = divmod(rest, 60)
    if not hours and not left:
        return f"{sign}{minutes} min"  # 12:00 would be twelve hours to whoever reads a clock
    return f"{sign}{hours}:{minutes:02d}:{left:02d}" if hours else f"{sign}{minutes}:{left:02d}"


def format_time_axis(seconds: float) -> str:
    """A tick of the time axis: hours and minutes, with seconds only where they are not zero."""
    if seconds < 0:
        return "−" + format_time_axis(-seconds)
    whole = round(seconds)
    if abs(seconds - whole) > 1e-6:
        minutes, left = divmod(seconds, 60)
        return f"{int(minutes)}′{left:04.1f}″"
    hours, rest = divmod(whole, 3600)
    minutes, left = divmod(rest, 60)
    return f"{hours}:{minutes:02d}:{left:02d}" if left else f"{hours}:{minutes:02d}"


_DURATION_PARTS = re.compile(
    r"^\s*(?:(\d+(?:\.\d+)?)\s*h)?\s*(?:(\d+(?:\.\d+)?)\s*min)?\s*(?:(\d+(?:\.\d+)?)\s*s)?\s*$"
)


def parse_duration(text: str) -> float:
    """Seconds from "2 h", "90 min", "1 h 30 min", "45 s", "1:30:00", "6:35" or a bare number of seconds.

    Raises ValueError where the text is none of these.
    """
    clean = text.strip().replace(",", ".")
    if ":" in clean:
        parts = [float(part) for part in clean.split(":")]
        if len(parts) > 3 or any(part < 0 for part in parts):
            raise ValueError(text)
        return sum(part * 60.0**power for power, part in enumerate(reversed(parts)))
    match = _DURATION_PARTS.match(clean)
    if match and any(match.groups()):
        hours, minutes, seconds = (float(group or 0.0) for group in match.groups())
        return hours * 3600.0 + minutes * 60.0 + seconds
    return float(clean)


def format_span(seconds: float) -> str:
    """A span in words: "2 h", "1 h 30 min", "45 s"; parse_duration reads it back to the same length."""
    hours, rest = divmod(round(seconds, 3), 3600)
    minutes, left = divmod(rest, 60)
    parts = [f"{value:g} {unit}" for value, unit in ((hours, "h"), (minutes, "min"), (round(left, 3), "s")) if value]
    return " ".join(parts) or "0 s"


def format_gain(gain_per_celsius: float, unit: TemperatureUnit) -> str:
    """A gain as percent of full output per degree of `unit`."""
    per_degree = gain_per_celsius / (FAHRENHEIT_PER_CELSIUS if unit == "°F" else 1.0)
    return f"{per_degree * 100.0:.3g} %/{unit}"
