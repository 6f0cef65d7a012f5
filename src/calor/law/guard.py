"""Guards: what the output does when the probe fails or the temperature runs away, and the alarms.

The cut-out latches: once it has tripped, the output is off until the controller is started again. It trips
above its temperature where the law heats, below it where the law cools. Source: common practice; a cut-out in
software shares probe, controller and switch with the thermostat and does not replace an independent one.
"""

from __future__ import annotations

from typing import Annotated, NamedTuple

from pydantic import Field, Strict

from calor.compiled import compiled
from calor.law.alarm import Alarm
from calor.settings import Settings, duration, fraction, temperature
from calor.units import TemperatureUnit, format_temperature


class Guard(Settings):
    """What happens when something fails."""

    probe_fault_output: float = fraction(0.0, "Output on fault", "The demand while the probe reads a fault.")
    cut_out_celsius: float | None = temperature(
        None, "Cut-out limit", "Output off, and latched, above this (heating) or below it (cooling)."
    )
    watchdog_s: float | None = duration(
        None, "Watchdog", "Restarts the controller when no decision was made for this long.", 0.001, 3600.0
    )
    alarms: Annotated[tuple[Alarm, ...], Strict(False)] = Field(
        default=(),
        title="Alarms",
        description="Watched beside the law; they signal, and those that trip switch the output off.",
        max_length=24,
    )


class GuardNumbers(NamedTuple):
    """The guards as the kernel sees them."""

    probe_fault_output: float
    has_cut_out: bool
    cut_out_celsius: float
    cools: bool


def numbers(settings: Guard, action: str) -> GuardNumbers:
    """The settings as plain numbers; `action` is the law's, "heat" or "cool"."""
    cut_out = settings.cut_out_celsius
    return GuardNumbers(
        settings.probe_fault_output, cut_out is not None, 0.0 if cut_out is None else cut_out, action == "cool"
    )


@compiled
def trips(guard: GuardNumbers, measured_celsius: float) -> bool:
    """Whether this reading trips the cut-out."""
    if not guard.has_cut_out:
        return False
    if guard.cools:
        return measured_celsius < guard.cut_out_celsius
    return measured_celsius > guard.cut_out_celsius


def consequences(settings: Guard, unit: TemperatureUnit, action: str) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    lines = {"cut_out_celsius": "A cut-out that does not share this controller is still needed."}
    if settings.cut_out_celsius is not None:
        word = "below" if action == "cool" else "above"
        at = format_temperature(unit, settings.cut_out_celsius)
        lines["cut_out_celsius"] = f"Latches {word} {at}. " + lines["cut_out_celsius"]
    if settings.probe_fault_output > 0.0 and action == "heat":
        lines["probe_fault_output"] = "It goes on heating blind while the probe is broken."
    return lines
