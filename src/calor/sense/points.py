"""A probe at single points: what it shows at a temperature, and what the firmware makes of a code."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from calor.errors import CalorError
from calor.sense import adc, budget, registry, sweep
from calor.sense.registry import AnyProbe, ProbeNumbers
from calor.sense.resolution import celsius_per_count, changes

Point = dict[str, float | int | None]


def _plain(value: float) -> float | None:
    return float(value) if math.isfinite(value) else None


def _code(value: float) -> float | int | None:
    if not math.isfinite(value):
        return None
    return int(value) if value == int(value) else float(value)


def reach(settings: AnyProbe) -> tuple[float, float, str]:
    """Temperatures at which a probe may be asked for, °C, and what sets them."""
    if settings.kind == "rtd":
        return *registry.celsius_range(settings), "IEC 60751 holds"
    if settings.kind == "thermocouple":
        return *registry.celsius_range(settings), f"type {settings.letter} of ITS-90 holds"
    return math.nextafter(-273.15, 0.0), 1e5, "a temperature can be"


def _quantity(settings: AnyProbe, celsius: float | None, share: float | None) -> tuple[str, float | None]:
    """(key, value) of what the probe itself gives: at a temperature, or as the firmware works it out from the scale."""
    module = registry.module_of(settings)
    key = getattr(module, "QUANTITY", "")
    if not key:
        return "", None
    constants = module.numbers(settings)
    if celsius is not None:
        return key, _plain(module.celsius_to_quantity(constants, celsius))
    back = getattr(module, "share_to_quantity", None)
    if share is None:
        return key, None
    return key, _plain(back(constants, share)) if back is not None else None


def _point(settings: AnyProbe, plain: ProbeNumbers, celsius: float | None, counts: float) -> Point:
    point: Point = {"celsius": celsius}
    volt = share = None
    if registry.has_converter(settings):
        if celsius is not None:
            volt = _plain(sweep.volt_over(plain, np.array([celsius]))[0])
        else:
            volt = _plain(adc.counts_to_volt(plain.firmware.adc, counts))
            share = counts / plain.firmware.adc.divisor
    key, own = _quantity(settings, celsius, share)
    if key:
        point[key] = own
    if settings.kind == "thermocouple" and celsius is not None:
        module = registry.module_of(settings)
        point["measured_millivolt"] = _plain(module.measured_millivolt(plain.hardware.thermocouple, celsius, 0))
    if settings.kind != "analog_voltage" or volt is not None:
        point["volt"] = volt
    point["counts"] = _code(counts)
    back = float(sweep.celsius_over(plain, np.array([counts]))[0]) if math.isfinite(counts) else math.nan
    if settings.kind == "ideal":
        back = float(sweep.celsius_of_exact(plain, np.array([celsius]))[0]) if celsius is not None else back
    point["celsius_back"] = _plain(back)
    at = celsius if celsius is not None else _plain(back)
    point["celsius_per_count"] = None if at is None else celsius_per_count(settings, at)
    return point


def at_celsius(settings: AnyProbe, celsius: float) -> Point:
    """The probe at `celsius`: what it gives, volt at the converter, counts, °C the firmware reads back, °C per count.

    What it gives itself is its ohm, millivolt, microampere or volt. Noise, lag and offset are left out. What a probe
    does not have is None or left out. A thermocouple's millivolt is that of the tables, against 0 °C;
    measured_millivolt is against its cold junction. Raises CalorError outside the range of the probe's standard.
    """
    low, high, why = reach(settings)
    if not (math.isfinite(celsius) and low <= celsius <= high):
        if low < -273.0:
            raise CalorError("temperature", "must be a number above -273.15", f"{celsius:g}")
        raise CalorError("temperature", f"must be a number from {low:g} to {high:g} °C, where {why}", f"{celsius:g}")
    plain = registry.numbers(settings.model_copy(update={"offset_celsius": 0.0}))
    counts = float(sweep.counts_over(plain, np.array([celsius]))[0])
    return _point(settings, plain, celsius, counts)


def at_counts(settings: AnyProbe, counts: int) -> Point:
    """What the firmware makes of a code. Raises CalorError where the converter has no such code."""
    if settings.kind == "ideal":
        raise CalorError(
            "counts", "an ideal probe has no converter", "", "give temperatures, or choose a probe of another kind"
        )
    plain = registry.numbers(settings)
    low, high = code_range(plain)
    if not low <= counts <= high:
        raise CalorError("counts", f"must be a code from {low} to {high}", counts)
    point = _point(settings, plain, None, float(counts))
    point["celsius"] = point["celsius_back"]
    return point


UNREAD_CELSIUS = 5.0
"""A probe that reads back its own temperature further off than this does not read it."""


def unread_point(settings: AnyProbe) -> str:
    """Which calibration point the probe could never have read, and what would do; empty where it can all."""
    bare = registry.numbers(settings.model_copy(update={"offset_celsius": 0.0, "calibration": ()}))
    for point in settings.calibration:
        celsius = float(point.reading_celsius)
        if settings.kind == "ideal":
            continue
        with np.errstate(all="ignore"):
            back = float(sweep.celsius_over(bare, sweep.counts_over(bare, np.array([celsius])))[0])
        if not abs(back - celsius) <= UNREAD_CELSIUS:
            return (
                f"probe.calibration has a reading of {celsius:g} °C, which this probe cannot read; correct it, or the"
                " probe's circuit"
            )
    return ""


def code_range(plain: ProbeNumbers) -> tuple[int, int]:
    """Lowest and highest code there is."""
    if plain.gives_code:
        return int(plain.code.lowest), int(plain.code.highest)
    return 0, int(plain.firmware.adc.codes) - 1


def report(settings: AnyProbe, points: list[Point], setpoint_celsius: float) -> dict[str, Any]:
    """Points with the error budget at the setpoint; where the probe cannot read that, at the first point it can."""
    known = [float(point["celsius"]) for point in points if point["celsius"] is not None]
    every = (budget.budget(settings, celsius) for celsius in (setpoint_celsius, *known))
    errors = next((one for one in every if one is not None), None)
    return {
        "points": points,
        "budget_at_celsius": None if errors is None else errors.celsius,
        "budget": [] if errors is None else [part._asdict() for part in errors.contributions],
        "worst_case_celsius": None if errors is None else errors.worst_case_celsius,
        "rss_celsius": None if errors is None else errors.rss_celsius,
        "finer": _finer(settings, None if errors is None else errors.celsius),
    }


def _finer(settings: AnyProbe, celsius: float | None) -> list[dict[str, float | str]]:
    """What would make a count finer at `celsius`, the finest first."""
    finer = [] if celsius is None else changes(settings, celsius)
    return [{"change": change.words, "celsius_per_count": change.celsius_per_count} for change in finer]
