"""Setpoint: what the law aims at, held between two limits.

Source: common practice.
"""

from __future__ import annotations

from typing import Literal, Self

from pydantic import model_validator

from calor.settings import Settings, choice, temperature
from calor.units import TemperatureUnit, celsius_to, format_temperature


class Hold(Settings):
    """One temperature, held."""

    kind: Literal["hold"] = choice("hold", "Setpoint", "One temperature, held.")
    celsius: float = temperature(..., "Setpoint", "The temperature to hold.")
    low_limit_celsius: float | None = temperature(None, "Lowest", "The setpoint cannot be put below this.")
    high_limit_celsius: float | None = temperature(None, "Highest", "The setpoint cannot be put above this.")

    @model_validator(mode="after")
    def _within_limits(self) -> Self:
        low, high = self.low_limit_celsius, self.high_limit_celsius
        if low is not None and high is not None and low > high:
            raise ValueError(f"low_limit_celsius ({low:g}) is above high_limit_celsius ({high:g}); swap them")
        if low is not None and self.celsius < low:
            raise ValueError(f"celsius ({self.celsius:g}) is below low_limit_celsius ({low:g}); raise it or the limit")
        if high is not None and self.celsius > high:
            raise ValueError(
                f"celsius ({self.celsius:g}) is above high_limit_celsius ({high:g}); lower it or the limit"
            )
        return self


Setpoint = Hold
KINDS = {"hold": Hold}


def summary(settings: Hold, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    """The two lines on its card."""
    low, high = settings.low_limit_celsius, settings.high_limit_celsius
    limits = [
        f"{word} {celsius_to(unit, value):.4g}" for word, value in (("from", low), ("to", high)) if value is not None
    ]
    detail = "hold, limits " + " ".join(limits).removeprefix("from ") if limits else "hold, no limits"
    return format_temperature(unit, setpoint_celsius), detail


def consequences(settings: Hold, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    del settings, unit, setpoint_celsius
    return {}
