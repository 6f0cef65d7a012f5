"""Readings at which something changes in a design: around every threshold, over the whole scale, at its faults."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from calor.compiled import Column
from calor.design.model import Design
from calor.design.ranges import working_range
from calor.law import fan_curve
from calor.law import guard as guards
from calor.law.fan_curve import FanCurve
from calor.law.on_off import OnOff, thresholds_celsius
from calor.law.pid import Pid
from calor.law.program import Program
from calor.law.stages import Stages, ends
from calor.sense import registry as probes
from calor.sense import sweep

LONGEST_HOLD, MOST_PATH = 400, 200


def setpoints_of(design: Design) -> list[float]:
    """The temperatures that a design may aim at, °C."""
    aim: Any = design.setpoint
    places = [float(aim.celsius)]
    places += [part.to_celsius for part in getattr(aim, "segments", ())]
    places += [getattr(aim, key) for key in ("night_celsius", "end_celsius") if hasattr(aim, key)]
    return places


def thresholds_of(design: Design) -> list[float]:
    """Readings at which something changes, °C: of law, guards, alarms and checks, at every setpoint."""
    law: Any = design.law
    low, high = guards.limits_celsius(design.guard, law.action)
    places = [*working_range(design), low, high]
    checks: Any = getattr(design.probe, "checks", None)
    if checks is not None:
        places += [getattr(checks, key) for key in ("low_celsius", "high_celsius") if getattr(checks, key) is not None]
    if isinstance(law, FanCurve):
        plain = fan_curve.numbers(law)
        places += [celsius for celsius, _ in fan_curve.curve(law)]
        places += [plain.direction * x for x in (plain.start_x, plain.stop_x)]
        places += fan_curve.second_ends(law)
    for aim in setpoints_of(design):
        places += [aim, aim - 0.3, aim + 0.3]
        if isinstance(law, OnOff):
            both = thresholds_celsius(law, aim)
            places += [*both, *(2.0 * aim - one for one in both)]
        if isinstance(law, Stages):
            places += [aim + edge for stage in law.stages for edge in ends(law, stage)]
        if isinstance(law, Pid):
            wide = law.integral_band_celsius
            places += [] if wide is None else [aim - wide, aim + wide]
        for alarm in design.guard.alarms:
            if alarm.kind in ("high", "low"):
                places += [alarm.celsius + side * alarm.hysteresis_celsius for side in (-1.0, 0.0, 1.0)]
            else:
                far = (
                    alarm.celsius,
                    alarm.celsius - alarm.hysteresis_celsius,
                    alarm.celsius + alarm.hysteresis_celsius,
                )
                places += [aim + side * one for side in (-1.0, 1.0) for one in far]
    return sorted({round(place, 9) for place in places if math.isfinite(place)})


def scale(design: Design) -> tuple[Column, Column]:
    """(readings as a run has them, their °C) over the whole scale of a probe, in order of the readings."""
    low, high = working_range(design)
    if design.probe.kind == "ideal":
        celsius = np.linspace(low - 20.0, high + 20.0, 4001)
        return celsius, celsius
    plain = probes.numbers(design.probe)
    if probes.gives_code(design.probe):
        codes = np.unique(np.round(np.linspace(low - 20.0, high + 20.0, 20_001) / plain.code.celsius_per_code))
        codes = codes[(codes >= plain.code.lowest) & (codes <= plain.code.highest)]
        return codes, codes * plain.code.celsius_per_code
    top = int(plain.firmware.adc.codes - 1.0)
    codes = np.unique(np.round(np.linspace(0, top, min(top + 1, 65_536))))
    return codes, sweep.celsius_over(plain, codes)


def around_of(readings: Column, celsius: Column, places: list[float]) -> list[Column]:
    """For each temperature the readings next to it, three to each side."""
    known = np.flatnonzero(np.isfinite(celsius))
    found = []
    for place in places:
        at = known[int(np.argmin(np.abs(celsius[known] - place)))]
        found.append(readings[max(at - 3, 0) : at + 4])
    return found


def holds_of(design: Design) -> list[int]:
    """For how many steps a reading is held: as long as what a law, a guard or a check waits for."""
    law, period_s = design.law, float(design.law.period_s)
    waits = [
        getattr(law, key, 0.0)
        for key in ("min_on_s", "min_off_s", "stage_delay_s", "kick_s", "first_s", "on_s", "off_s")
    ]
    waits += [alarm.delay_s for alarm in design.guard.alarms]
    waits += [getattr(design.drive_of(k), key, 0.0) for k in range(2) for key in ("min_on_s", "min_off_s", "window_s")]
    checks: Any = getattr(design.probe, "checks", None)
    waits += [getattr(checks, "stuck_s", None) or 0.0]
    if isinstance(design.setpoint, Program):
        waits += [part.soak_s for part in design.setpoint.segments] + [
            part.ramp_s or 0.0 for part in design.setpoint.segments
        ]
    steps = [min(math.ceil(wait_s / period_s) + 2, LONGEST_HOLD) for wait_s in waits if wait_s]
    return [1, 1, 2, 5, 12, *steps]


def fastest_celsius(design: Design) -> float:
    """How far a reading may move in a step before it is a fault, °C; 0 where it may jump."""
    fastest = getattr(getattr(design.probe, "checks", None), "fastest_celsius_per_s", None)
    return 0.0 if fastest is None else float(fastest) * float(design.law.period_s)


def moved(readings: Column, celsius: Column, begin: float, end: float, most_celsius: float) -> list[float]:
    """Readings from one to another, no step of them further than so many °C."""
    first, last = (int(np.searchsorted(readings, one)) for one in (begin, end))
    first, last = (min(max(one, 0), len(readings) - 1) for one in (first, last))
    step = 1 if last >= first else -1
    path, at = [], first
    for k in range(first, last, step):
        if abs(celsius[k + step] - celsius[at]) > most_celsius:
            path.append(float(readings[k]))
            at = k
    return path[-MOST_PATH:]


def ends_of(design: Design, readings: Column) -> list[float]:
    """Readings that are a fault, or next to one: the ends of the scale, none, and what the converter's limits are."""
    plain = probes.numbers(design.probe)
    ends = [float(readings[0]), float(readings[-1])]
    if design.probe.kind == "ideal" or probes.gives_code(design.probe):
        ends.append(math.nan)
    for limit in (plain.fault_below_counts, plain.fault_above_counts):
        if math.isfinite(limit):
            ends += np.clip(math.floor(limit) + np.arange(-1.0, 3.0), readings[0], readings[-1]).tolist()
    return ends
