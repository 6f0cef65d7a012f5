"""Ideal probe: reads the temperature itself, with a time constant, noise and an offset where they are given."""

from __future__ import annotations

from typing import Literal

import numpy as np

from calor.compiled import compiled
from calor.settings import Settings, choice, difference, duration
from calor.units import TemperatureUnit, format_difference, format_duration


class IdealProbe(Settings):
    """A probe without a converter: for trying a law before the hardware is chosen."""

    kind: Literal["ideal"] = choice("ideal", "Probe", "Reads the temperature itself; no converter.")
    time_constant_s: float = duration(
        0.0, "Time constant", "How long the probe takes to come 63 % closer to what it touches.", 0.0, 1e5
    )
    noise_celsius: float = difference(0.0, "Noise", "Standard deviation of one reading.", 0.0, 50.0)
    offset_celsius: float = difference(
        0.0, "Reads off by", "Error of the probe: it reads this much too warm.", -100.0, 100.0
    )


@compiled()
def step(celsius: float, wiring: int) -> tuple[float, float, bool]:
    """One reading: (counts, which an ideal probe has not; °C; whether it is a fault, open or shorted)."""
    return np.nan, celsius, wiring != 0


def summary(settings: IdealProbe, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    """The two lines on its card."""
    del setpoint_celsius
    lag = f"τ {format_duration(settings.time_constant_s)}" if settings.time_constant_s else "no lag"
    noise = f"noise {format_difference(unit, settings.noise_celsius, 3)}" if settings.noise_celsius else "no noise"
    return "Ideal probe", f"{lag} · {noise}"


def consequences(settings: IdealProbe, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    del settings, unit, setpoint_celsius
    return {}
