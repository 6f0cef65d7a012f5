"""A design in words: its blocks, guards, limits and trials, each in lines that a person reads."""

from __future__ import annotations

from typing import Any, NamedTuple

from calor.design.events import describe
from calor.design.model import BLOCKS, Design, block_consequences, block_summary
from calor.design.trial import Trial
from calor.judge.verdict import LIMIT_NAMES, LIMIT_TITLES, figure_text
from calor.law import alarm as alarms
from calor.scales import value_and_unit
from calor.settings import ordered_fields
from calor.units import TemperatureUnit, format_duration, format_temperature


class Block(NamedTuple):
    """A block of the loop in words: its card's two lines, what follows from its settings, and its settings."""

    name: str
    first: str
    second: str
    consequences: tuple[str, ...]
    settings: tuple[tuple[str, str], ...]


def blocks(design: Design, unit: TemperatureUnit = "°C") -> list[Block]:
    """The five blocks in the order of the loop."""
    listed = []
    for name in BLOCKS:
        first, second = block_summary(design, name, unit)
        lines = [line for line in block_consequences(design, name, unit).values() if line]
        listed.append(
            Block(name.capitalize(), first, second, tuple(lines), tuple(settings(getattr(design, name), unit)))
        )
    return listed


def settings(block: Any, unit: TemperatureUnit = "°C") -> list[tuple[str, str]]:
    """Each plain setting of a block that is not left out, as the desk shows it; what it leaves at its usual value
    too."""
    listed = []
    for key, field in ordered_fields(type(block)).items():
        value = getattr(block, key)
        if key == "kind" or value is None or not isinstance(value, bool | int | float | str) or value == "":
            continue
        listed.append((str(field.title), " ".join(value_and_unit(value, field, unit)).strip()))
    return listed


def guards(design: Design, unit: TemperatureUnit = "°C") -> list[str]:
    """What the guards do, a line each."""
    guard = design.guard
    lines = [f"Output while the probe reads a fault: {guard.probe_fault_output * 100:g} %."]
    if guard.cut_out_celsius is not None:
        side = "below" if design.law.action == "cool" else "above"
        lines.append(f"Outputs off, and latched, {side} {format_temperature(unit, guard.cut_out_celsius)}.")
    if guard.cut_out_low_celsius is not None:
        lines.append(f"Outputs off, and latched, below {format_temperature(unit, guard.cut_out_low_celsius)}.")
    if guard.watchdog_s is not None:
        lines.append(
            f"A watchdog restarts the controller after {format_duration(guard.watchdog_s)} without a decision."
        )
    for one in guard.alarms:
        line = alarms.line(one, unit)
        lines.append(f"{line[0].upper()}{line[1:]}" + ("; it switches the output off." if one.trips else "."))
    return lines


def limits(design: Design, unit: TemperatureUnit = "°C") -> list[tuple[str, str]]:
    """The limits that are set, with their figures."""
    given = [(name, getattr(design.limits, name)) for name in LIMIT_NAMES]
    return [(LIMIT_TITLES[name], figure_text(name, value, unit)) for name, value in given if value is not None]


def trial_line(design: Design, trial: Trial, unit: TemperatureUnit = "°C") -> str:
    """A trial in one line: how long, from where, in what ambient, with which events."""
    parts = [format_duration(trial.span_s)]
    if trial.ambient_csv is None:
        parts.append(f"ambient {format_temperature(unit, design.ambient_celsius(trial))}")
    else:
        parts.append("recorded ambient")
    if trial.start_celsius is not None:
        parts.append(f"from {format_temperature(unit, trial.start_celsius)}")
    parts += [f"{describe(event)} at {format_duration(event.at_s)}" for event in trial.events]
    return "; ".join(parts)
