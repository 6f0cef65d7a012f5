"""Guards: what the output does when the probe fails or the temperature runs away, and the alarms.

The cut-out latches: once it has tripped, the output is off until the controller is started again. It trips above its
temperature where the law heats, below it where the law cools, and where it does both above one and below another. A
guard puts an output somewhere at once, but for minimum off times. Source: common practice; a cut-out in software shares
probe, controller and switch with the thermostat and does not replace an independent one.
"""

from __future__ import annotations

import math
from typing import Annotated, NamedTuple

from pydantic import Field, Strict

from calor.compiled import compiled
from calor.law.alarm import Alarm
from calor.settings import Settings, choice, duration, fraction, temperature
from calor.units import TemperatureUnit, format_temperature


class Guard(Settings):
    """What happens when something fails."""

    probe_fault_output: float = fraction(
        0.0, "Output on fault", "What every output gives while the probe reads a fault; below 0 it cools (heat_cool).",
        -1.0, 1.0,
    )  # fmt: skip
    manual_at_fault: bool = choice(
        False, "By hand at a fault", "An output set by hand is given while the probe reads a fault, too."
    )
    cut_out_celsius: float | None = temperature(
        None, "Cut-out limit", "Outputs off, and latched, above this (heating, heat_cool) or below it (cooling)."
    )
    cut_out_low_celsius: float | None = temperature(
        None, "Low cut-out limit", "With heat_cool: outputs off, and latched, below this."
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
    """The guards as the kernel sees them; an infinite limit is none."""

    probe_fault_output: float
    low_celsius: float
    high_celsius: float
    hand_at_fault: bool


def numbers(settings: Guard, action: str) -> GuardNumbers:
    """The settings as plain numbers; `action` is the law's: "heat", "cool" or "heat_cool"."""
    low_celsius, high_celsius = limits_celsius(settings, action)
    return GuardNumbers(settings.probe_fault_output, low_celsius, high_celsius, settings.manual_at_fault)


def limits_celsius(settings: Guard, action: str) -> tuple[float, float]:
    """Below and above which the cut-out trips, °C; infinite where it does not."""
    cut_out, low = settings.cut_out_celsius, settings.cut_out_low_celsius
    if action == "cool":
        return -math.inf if cut_out is None else cut_out, math.inf
    return -math.inf if low is None else low, math.inf if cut_out is None else cut_out


def problem(settings: Guard, action: str) -> str:
    """What of the guards does not go with the law's action, and what would do; empty where all does."""
    if action != "heat_cool":
        if settings.probe_fault_output < 0.0:
            return (
                f"guard.probe_fault_output ({settings.probe_fault_output:g}) is below 0, and the law only {action}s;"
                " give 0 to 1"
            )
        if settings.cut_out_low_celsius is not None:
            return (
                f'guard.cut_out_low_celsius ({settings.cut_out_low_celsius:g}) goes with action = "heat_cool"; a law'
                " that cools trips below cut_out_celsius"
            )
        return ""
    low, high = settings.cut_out_low_celsius, settings.cut_out_celsius
    if low is not None and high is not None and low >= high:
        return f"guard.cut_out_low_celsius ({low:g}) must be below cut_out_celsius ({high:g}); swap them"
    return ""


@compiled
def trips(guard: GuardNumbers, measured_celsius: float) -> bool:
    """Whether this reading trips the cut-out."""
    return measured_celsius > guard.high_celsius or measured_celsius < guard.low_celsius


def consequences(settings: Guard, unit: TemperatureUnit, action: str) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    lines = {"cut_out_celsius": "A cut-out that does not share this controller is still needed."}
    if settings.cut_out_celsius is not None:
        word = "below" if action == "cool" else "above"
        at = format_temperature(unit, settings.cut_out_celsius)
        lines["cut_out_celsius"] = f"Latches {word} {at}. " + lines["cut_out_celsius"]
    if settings.cut_out_low_celsius is not None and action == "heat_cool":
        at = format_temperature(unit, settings.cut_out_low_celsius)
        lines["cut_out_low_celsius"] = f"Latches below {at}."
    if settings.probe_fault_output > 0.0 and action != "cool":
        lines["probe_fault_output"] = "It goes on heating blind while the probe is broken."
    return lines
