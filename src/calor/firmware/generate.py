"""C99 sources of a design: float only, no heap, no globals that change, settings in one const struct.

Each block has a template beside the others; it says in C what the block's Python step says, line by line.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

from calor.design.model import Design
from calor.drive import pwm
from calor.drive import registry as drives
from calor.drive.pwm import Pwm
from calor.firmware.scaling import probe_context
from calor.firmware.templating import Sources, c_name, plain_text, render, write_files
from calor.law import alarm as alarms
from calor.law import fan_curve
from calor.law import registry as laws
from calor.law.fan_curve import FanCurve
from calor.sense import knob as knobs


def tick_s(design: Design) -> float:
    """The pace at which the generated switch is meant to be called: half-cycles, or a fine share of the step."""
    drive = design.drive
    half_cycle_s = drives.numbers(drive).time_proportional.half_cycle_s if drive.kind == "time_proportional" else 0.0
    if (
        half_cycle_s > 0.0
        and abs(design.law.period_s / half_cycle_s - round(design.law.period_s / half_cycle_s)) < 1e-6
    ):
        return half_cycle_s
    return float(design.law.period_s) / max(1, round(design.law.period_s / 0.01))


def generate(design: Design) -> Sources:
    """The C99 sources of `design`: one header and one C file."""
    prefix = c_name(design.name)
    context: dict[str, Any] = probe_context(design.probe, prefix) | {
        "guard_word": f"{prefix.upper()}_THERMOSTAT_H",
        "design_name": plain_text(design.name),
        "design": design,
        "law": laws.numbers(design.law, design.guard),
        "curve": _curve(design),
        "drive": drives.numbers(design.drive),
        "alarms": [alarms.numbers(alarm, design.law.action) for alarm in design.guard.alarms],
        "alarm_kinds": alarms.KINDS,
        "knob": None if design.knob is None else knobs.knob_numbers(design.knob),
        "button": design.button,
        "timing": pwm.timing(design.drive) if isinstance(design.drive, Pwm) else None,
        "tick_s": tick_s(design),
        "switches": design.drive.kind in drives.SWITCHES,
    }
    files = {f"{prefix}_thermostat{end}": render(f"thermostat{end}.j2", context) for end in (".h", ".c")}
    return Sources(prefix, files, f"{prefix}_thermostat.h", f"{prefix}_thermostat.c")


def _curve(design: Design) -> tuple[tuple[float, float], ...]:
    """The points of a fan curve in order of temperature; none where the law is another."""
    return fan_curve.curve(design.law) if isinstance(design.law, FanCurve) else ()


def write(design: Design, folder: Path) -> list[Path]:
    """Write the sources of `design` into `folder`, made where it is missing. Raises FirmwareError."""
    return write_files(generate(design), folder)
