"""Manual: a fixed demand, whatever is measured.

Source: common practice (manual output of a controller).
"""

from __future__ import annotations

from typing import Literal, NamedTuple

from calor.compiled import compiled
from calor.law.outputs import Demands, Inputs, one
from calor.settings import Settings, choice, duration, fraction
from calor.units import TemperatureUnit


class Manual(Settings):
    """A fixed output, for trying the drive and learning the load."""

    kind: Literal["manual"] = choice(
        "manual", "Law", "A fixed output, whatever is measured.", words={"manual": "Manual"}
    )
    action: Literal["heat", "cool"] = choice(
        "heat", "Action", "Whether more output makes it warmer or colder.", words={"heat": "Heats", "cool": "Cools"}
    )
    period_s: float = duration(1.0, "Control step", "How often readings are taken.", 0.001, 3600.0)
    output: float = fraction(0.0, "Output", "Share of full output.")


class ManualNumbers(NamedTuple):
    """The law as the kernel sees it."""

    output: float


def numbers(settings: Manual) -> ManualNumbers:
    """The settings as plain numbers."""
    return ManualNumbers(settings.output)


@compiled
def decide(law: ManualNumbers, given: Inputs, dt_s: float) -> Demands:
    """One decision, as every law makes it; it looks at nothing and remembers nothing."""
    return one(law.output)


def summary(settings: Manual, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    """The two lines on its card."""
    del unit, setpoint_celsius
    return "Manual", f"{settings.output * 100:.3g} % of full output"


def consequences(settings: Manual, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    del settings, unit, setpoint_celsius
    return {"output": "Nothing holds the temperature but the load's own losses."}
