"""Temperatures that a design is about: those it aims at and stands in, and all that it may meet."""

from __future__ import annotations

import math
from typing import Any

from calor.design.events import AmbientStep
from calor.design.model import Design

MARGIN_CELSIUS = 5.0


def usual_range(design: Design) -> tuple[float, float]:
    """Temperatures a design usually works at, °C: its setpoint's limits, else from where it starts to beyond it."""
    setpoint = design.setpoint
    starts = [design.start_celsius(trial) for trial in design.trial]
    low = min(setpoint.celsius, design.load.ambient_celsius, *starts)
    high = max(setpoint.celsius, design.load.ambient_celsius, *starts)
    beyond = max(0.25 * (high - low), 5.0)
    low = low if low < setpoint.celsius else low - beyond
    low = low if setpoint.low_limit_celsius is None else setpoint.low_limit_celsius
    high = high + beyond if setpoint.high_limit_celsius is None else setpoint.high_limit_celsius
    if high - low < 1.0:
        return low - 5.0, high + 5.0
    # whole degrees, where they matter little
    return (float(math.floor(low)), float(math.ceil(high))) if high - low > 10.0 else (low, high)


def working_range(design: Design) -> tuple[float, float]:
    """Temperatures that a design may meet, °C: setpoints, guards, surroundings and limits, and a margin."""
    places = [float(design.setpoint.celsius)]
    setpoint: Any = design.setpoint
    places += [segment.to_celsius for segment in getattr(setpoint, "segments", ())]
    places += [getattr(setpoint, key) for key in ("day_celsius", "night_celsius") if hasattr(setpoint, key)]
    places += [alarm.celsius for alarm in design.guard.alarms if alarm.kind in ("high", "low")]
    places += [at for at in (design.guard.cut_out_celsius, design.guard.cut_out_low_celsius) if at is not None]
    for trial in design.trial:
        for key in ("ambient_celsius", "start_celsius"):
            value = getattr(trial, key, None)
            places += [] if value is None else [float(value)]
        places += [event.celsius for event in trial.events if isinstance(event, AmbientStep)]
    return min(places) - MARGIN_CELSIUS, max(places) + MARGIN_CELSIUS
