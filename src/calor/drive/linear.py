"""Linear drive: gives exactly the share the law asks for (a phase-angle or analog power stage).

Source: common practice; the stage itself is taken as ideal.
"""

from __future__ import annotations

from typing import Literal

from calor.compiled import compiled
from calor.settings import Settings, choice
from calor.units import TemperatureUnit


class Linear(Settings):
    """Power in proportion to the demand, without switching."""

    kind: Literal["linear"] = choice(
        "linear", "Drive", "Power in proportion to the demand, without switching.", words={"linear": "Linear"}
    )


@compiled
def step(demand: float, now_s: float, end_s: float) -> tuple[float, float]:
    """What is given: (level 0 to 1, until when)."""
    return demand, end_s


def summary(settings: Linear, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    """The two lines on its card."""
    del settings, unit, setpoint_celsius
    return "Linear", "gives what is asked, no switching"


def consequences(settings: Linear, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    del settings, unit, setpoint_celsius
    return {}
