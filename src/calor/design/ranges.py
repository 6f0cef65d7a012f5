"""Temperatures that a design is about: those it aims at and stands in, and all that it may meet."""

from __future__ import annotations

import math
from typing import Any

from calor.design.events import AmbientStep, SetpointStep
from calor.design.model import Design
from calor.design.recorded_ambient import read_record

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
    """Temperatures that a design may meet, °C: setpoints, also by knob and by events, guards, surroundings, starts, and
    a margin. Raises CalorError where a recorded ambient cannot be read."""
    places = [float(design.setpoint.celsius)]
    setpoint: Any = design.setpoint
    places += [segment.to_celsius for segment in getattr(setpoint, "segments", ())]
    places += [getattr(setpoint, key) for key in ("day_celsius", "night_celsius") if hasattr(setpoint, key)]
    places += [alarm.celsius for alarm in design.guard.alarms if alarm.kind in ("high", "low")]
    places += [at for at in (design.guard.cut_out_celsius, design.guard.cut_out_low_celsius) if at is not None]
    places.append(float(design.load.ambient_celsius))
    if design.knob is not None:
        places += [design.knob.low_celsius, design.knob.high_celsius]
    for trial in design.trial:
        places += [design.ambient_celsius(trial) + side * trial.swing_celsius for side in (-1.0, 1.0)]
        places.append(design.start_celsius(trial))
        if trial.ambient_csv is not None:
            recorded = read_record(trial.ambient_csv, trial.ambient_column, trial.humidity_column).celsius
            places += [float(recorded.min()), float(recorded.max())]
        places += [event.celsius for event in trial.events if isinstance(event, AmbientStep | SetpointStep)]
    return min(places) - MARGIN_CELSIUS, max(places) + MARGIN_CELSIUS
