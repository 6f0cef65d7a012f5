"""Ideal probe: reads the temperature itself, with a time constant, noise and an offset where they are given."""

from __future__ import annotations

from typing import Literal

from calor.sense.mounting import CONVERTER, Mounted, Tolerance, converter
from calor.settings import choice
from calor.units import TemperatureUnit


class IdealProbe(Mounted):
    """A probe without a converter: for trying a law before the hardware is chosen."""

    kind: Literal["ideal"] = choice(
        "ideal", "Probe", "Reads the temperature itself; no converter.", words={"ideal": "Ideal"}
    )
    adc: CONVERTER = converter("Not used: an ideal probe has no converter. Kept for another kind.")


def tolerances(settings: IdealProbe) -> tuple[Tolerance, ...]:
    """What may be off: nothing."""
    del settings
    return ()


def title(settings: IdealProbe) -> str:
    """What it is, in a few words."""
    del settings
    return "Ideal probe"


def consequences(settings: IdealProbe, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    del settings, unit, setpoint_celsius
    return {}
