"""Calibration: what a probe showed beside another thermometer, and the correction that follows from it.

One point gives an offset, two an offset and a gain, three a curve; more are fitted by least squares. The firmware
applies the correction to each reading. Source: common practice; ice water 0 °C, boiling water by altitude.
"""

from __future__ import annotations

import datetime
import itertools
import math
from typing import Literal, NamedTuple

import numpy as np
from pydantic import Field

from calor.compiled import Column, compiled
from calor.settings import Settings, difference, temperature

Correction = Literal["auto", "none", "offset", "gain_offset", "curve"]


class CalibrationPoint(Settings):
    """One comparison: what the firmware read uncorrected, and what the other thermometer said."""

    true_celsius: float = temperature(..., "True temperature", "What the other thermometer said.")
    reading_celsius: float = temperature(..., "Reading", "What the firmware read, without correction.")
    date: datetime.date | None = Field(default=None, title="Date", description="Day of the comparison, 2026-11-02.")
    against: str = Field(default="", title="Against", description="What it was compared with.", max_length=80)
    uncertainty_celsius: float = difference(
        0.0, "Uncertainty", "How far the other thermometer itself may be off.", 0.0, 100.0
    )


class CorrectionNumbers(NamedTuple):
    """The correction as the kernel sees it: reading + a0 + a1·x + a2·x², x = reading − middle_celsius."""

    middle_celsius: float
    a0: float
    a1: float
    a2: float


NOTHING = CorrectionNumbers(0.0, 0.0, 0.0, 0.0)
_DEGREE = {"offset": 0, "gain_offset": 1, "curve": 2}


def kind_of(wanted: Correction, points: int) -> Correction:
    """The correction that is made of so many points."""
    if points == 0 or wanted == "none":
        return "none"
    most: Correction = "offset" if points == 1 else "gain_offset" if points == 2 else "curve"
    if wanted == "auto":
        return most
    return wanted if _DEGREE[wanted] <= _DEGREE[most] else most


def problem_with(points: tuple[CalibrationPoint, ...], wanted: Correction) -> str:
    """What is wrong with the points, in one line; empty where nothing is."""
    ordered = sorted(points, key=lambda point: point.reading_celsius)
    alike = {point.true_celsius for point in points}
    if len(points) > 1 and len(alike) == 1 and kind_of(wanted, len(points)) != "offset":
        read = ", ".join(f"{point.reading_celsius:g}" for point in ordered)
        return (
            f"all calibration points have one true temperature ({ordered[0].true_celsius:g} °C, read as {read} °C), so"
            ' that any reading would be taken for it; add one at another temperature, or set correction = "offset"'
        )
    for first, second in itertools.pairwise(ordered):
        if first.reading_celsius == second.reading_celsius and kind_of(wanted, len(points)) != "offset":
            return (
                f"two calibration points have one reading (received {first.reading_celsius:g} °C twice);"
                ' take one away, or set correction = "offset"'
            )
        if second.true_celsius < first.true_celsius:
            return (
                f"calibration must rise: a reading of {second.reading_celsius:g} °C is said to be"
                f" {second.true_celsius:g} °C, below the {first.true_celsius:g} °C at {first.reading_celsius:g} °C;"
                " correct one of them"
            )
    if wanted in _DEGREE and len(points) < _DEGREE[wanted] + 1 and points:
        need = _DEGREE[wanted] + 1
        return (
            f'correction = "{wanted}" takes {need} calibration points (received {len(points)}); add some, or use "auto"'
        )
    return ""


def fit(readings: Column, truth: Column, kind: Correction) -> CorrectionNumbers:
    """The correction of a kind by least squares: exact where there are just enough points."""
    if kind == "none" or not len(readings):
        return NOTHING
    middle = float(readings.mean())
    coefficients = np.zeros(3)
    degree = _DEGREE[kind]
    coefficients[: degree + 1] = np.polyfit(readings - middle, truth - readings, degree)[::-1]
    return CorrectionNumbers(middle, *(float(value) for value in coefficients))


@compiled
def apply(correction: CorrectionNumbers, celsius: float) -> float:
    """The corrected reading."""
    x = celsius - correction.middle_celsius
    return celsius + (correction.a0 + x * (correction.a1 + x * correction.a2))


def boiling_celsius(altitude_m: float) -> float:
    """Boiling point of water at an altitude.

    Source: pressure of the ICAO standard atmosphere; Antoine's equation for water, 1 to 100 °C, from memory.
    """
    pressure_pascal = 101_325.0 * (1.0 - 2.25577e-5 * altitude_m) ** 5.25588
    return 1730.63 / (8.07131 - math.log10(pressure_pascal / 133.322368)) - 233.426


def line(kind: Correction, points: int) -> str:
    """What is corrected, in one line."""
    if kind == "none":
        return "No correction." if points else "Not calibrated."
    words = {"offset": "An offset", "gain_offset": "Offset and gain", "curve": "A curve"}
    return f"{words[kind]} from {points} point{'s' * (points != 1)}."
