"""What gains do on loads that are not quite the one they were found on: its gain, dead time and time constant off.

Each is put 30 % up and down by itself; the trial is run on each of these loads and judged.
"""

from __future__ import annotations

from typing import Any, NamedTuple

from calor import loop
from calor.design.model import Design
from calor.design.trial import Trial
from calor.judge.verdict import judge
from calor.settings import bounds_of
from calor.tune.table import Setting, with_setting
from calor.tune.verdict_map import margin_of

SHARE = 0.3
PARTS = ("gain", "dead time", "time constant")
_GAIN = (
    "rise_celsius", "rate_celsius_per_s", "heater_watt", "second_rise_celsius", "second_rate_celsius_per_s",
    "second_watt",
)  # fmt: skip
_PACE = ("time_constant_s", "second_time_constant_s")


class Other(NamedTuple):
    """One other load: what of it is off, by which factor, and what came of the trial on it.

    `margin` is the share of its limit by which the nearest one is kept, below 0 by which it is missed.
    """

    part: str
    factor: float
    passes: bool
    margin: float
    limit: str


def other_load(load: Any, part: str, factor: float) -> Any | None:
    """The load with its gain, dead time or time constants times a factor; None where it has no such thing."""
    fields = type(load).model_fields
    if part == "dead time":
        keys = ["dead_time_s"]
    elif part == "gain":
        keys = [key for key in _GAIN if key in fields] or [key for key in fields if key == "max_ampere"]
    else:
        keys = [key for key in fields if key in _PACE or key.endswith("_j_per_k") or key == "mass_kg"]
    changed = {}
    for key in keys:
        value = getattr(load, key)
        if isinstance(value, float) and value != 0.0:
            low, high, _ = bounds_of(fields[key])
            changed[key] = min(max(value * factor, low), high)
    if not changed:
        return None
    return type(load).model_validate({**load.model_dump(), **changed})


def spread(design: Design, trial: Trial, setting: Setting) -> list[Other]:
    """The trial on each of the other loads, with the gains of a setting."""
    own, found = with_setting(design, setting), []
    for part in PARTS:
        for factor in (1.0 - SHARE, 1.0 + SHARE):
            try:
                load = other_load(design.load, part, factor)
            except ValueError:  # such a load cannot be
                continue
            if load is None:
                continue
            verdict = judge(loop.run(own.model_copy(update={"load": load}), trial), design.limits)
            margin, limit = margin_of(verdict)
            found.append(Other(part, factor, verdict.passes, margin, limit))
    return found


def line_of(others: list[Other]) -> str:
    """It in a line: of how many other loads it passes, and which is the worst."""
    if not others:
        return ""
    good = sum(one.passes for one in others)
    worst = min(others, key=lambda one: one.margin)
    way = "less" if worst.factor < 1.0 else "more"
    share = round(abs(worst.factor - 1.0) * 100.0)
    return f"On loads {share} % off it passes {good} of {len(others)}; worst with {share} % {way} {worst.part}."
