"""A probe at single points: what it shows at a temperature, and what the firmware makes of a code."""

from __future__ import annotations

import math

from calor.errors import CalorError
from calor.sense import adc, thermistor
from calor.sense.ideal import IdealProbe
from calor.sense.thermistor import Thermistor

Point = dict[str, float | int | None]


def _plain(value: float) -> float | None:
    return float(value) if math.isfinite(value) else None


def at_celsius(settings: Thermistor | IdealProbe, celsius: float) -> Point:
    """The probe at `celsius`: ohm, volt, counts, the °C the firmware reads back, °C per count.

    Noise, lag and offset are left out. What a probe does not have is None. Raises CalorError below 0 K.
    """
    if not math.isfinite(celsius) or celsius <= -273.15:
        raise CalorError(f"calor probe: --celsius: must be a number above -273.15 (received {celsius:g})")
    if isinstance(settings, IdealProbe):
        return {
            "celsius": celsius, "ohm": None, "volt": None, "counts": None, "celsius_back": celsius,
            "celsius_per_count": None,
        }  # fmt: skip
    plain = thermistor.numbers(settings)
    ohm = float(thermistor.celsius_to_ohm(plain, celsius))
    counts, back, _ = thermistor.step(plain, celsius, 0)
    return {
        "celsius": celsius,
        "ohm": ohm,
        "volt": float(thermistor.ohm_to_volt(plain, ohm)),
        "counts": int(counts),
        "celsius_back": _plain(back),
        "celsius_per_count": _plain(thermistor.celsius_per_count(settings, celsius)),
    }


def at_counts(settings: Thermistor | IdealProbe, counts: int) -> Point:
    """What the firmware makes of a code. Raises CalorError where the converter has no such code."""
    if isinstance(settings, IdealProbe):
        raise CalorError(
            "calor probe: --counts: an ideal probe has no converter; use --celsius, or a probe of another kind"
        )
    top = 2**settings.adc.bits - 1
    if not 0 <= counts <= top:
        raise CalorError(f"calor probe: --counts: must be a code from 0 to {top} (received {counts})")
    plain = thermistor.numbers(settings)
    volt = float(adc.counts_to_volt(plain.adc, float(counts)))
    back = _plain(thermistor.counts_to_celsius(plain, float(counts)))
    return {
        "celsius": back,
        "ohm": _plain(thermistor.volt_to_ohm(plain, volt)),
        "volt": volt,
        "counts": counts,
        "celsius_back": back,
        "celsius_per_count": None if back is None else _plain(thermistor.celsius_per_count(settings, back)),
    }
