"""What would make a count finer: the series resistor, the reference, the bits."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from calor.sense import registry, rtd, sweep, thermistor
from calor.sense.mounting import shown_ohm
from calor.sense.registry import AnyProbe, has_converter
from calor.sense.rtd import Rtd
from calor.sense.thermistor import Thermistor

E24 = (
    1.0,
    1.1,
    1.2,
    1.3,
    1.5,
    1.6,
    1.8,
    2.0,
    2.2,
    2.4,
    2.7,
    3.0,
    3.3,
    3.6,
    3.9,
    4.3,
    4.7,
    5.1,
    5.6,
    6.2,
    6.8,
    7.5,
    8.2,
    9.1,
)
"""Preferred values. Source: IEC 60063, series E24."""


def celsius_per_count(settings: AnyProbe, celsius: float) -> float | None:
    """How many °C one count is at `celsius`, as the firmware scales it, above 0; None where there are no counts."""
    plain = registry.numbers(settings)
    if registry.gives_code(settings):
        return plain.code.celsius_per_code
    if not registry.has_converter(settings):
        return None
    counts = float(sweep.counts_over(plain, np.array([celsius]))[0])
    low, high = max(counts - 1.0, 0.0), min(counts + 1.0, plain.firmware.adc.codes - 1.0)
    # without the ends of the scale, so that the last counts before them have a width too
    open_ended = plain._replace(fault_below_counts=-np.inf, fault_above_counts=np.inf)
    back = sweep.celsius_over(open_ended, np.array([low, counts, high]))
    if math.isfinite(back[0]) and math.isfinite(back[2]):
        return float(abs(back[2] - back[0]) / (high - low))
    width = float(abs(back[2] - back[1] if math.isfinite(back[2]) else back[1] - back[0]))
    return width if math.isfinite(width) else None


class Change(NamedTuple):
    """One change and what a count would then be: in words, °C per count, the settings with it."""

    words: str
    celsius_per_count: float
    settings: AnyProbe


def preferred_ohm(ohm: float) -> float:
    """The nearest value of E24, by ratio."""
    power = 10.0 ** math.floor(math.log10(ohm))
    choices = [value * power for value in (*E24, 10.0)]
    return float(f"{min(choices, key=lambda value: abs(math.log(value / ohm))):.3g}")


def finest_series_ohm(settings: AnyProbe, celsius: float) -> float | None:
    """The series resistor with the finest count at `celsius`; None where the probe has none.

    The share R/(R + Rs) moves most, for a part of R, where Rs = R: the maximum of R·Rs/(R + Rs)² (worked by hand).
    """
    if isinstance(settings, Thermistor):
        return float(thermistor.celsius_to_quantity(thermistor.numbers(settings), celsius))
    if isinstance(settings, Rtd) and settings.circuit == "divider":
        return float(rtd.celsius_to_quantity(rtd.numbers(settings), celsius))
    return None


def changes(settings: AnyProbe, celsius: float) -> list[Change]:
    """What each of a few changes would make of a count at `celsius`, those that can be read, the finest first."""
    if not has_converter(settings):
        return []
    wanted: list[tuple[str, AnyProbe]] = []
    converter = settings.adc
    ohm = finest_series_ohm(settings, celsius)
    if ohm is not None:
        fitting = min(max(preferred_ohm(ohm), 10.0), 1e7)
        if abs(math.log(fitting / settings.series_ohm)) > 0.02:  # type: ignore[union-attr]
            words = f"a series resistor of {shown_ohm(fitting)}"
            wanted.append((words, settings.model_copy(update={"series_ohm": fitting})))
    for bits in (converter.bits + 2, converter.bits + 4):
        if bits <= 24:
            more = converter.model_copy(update={"bits": bits})
            wanted.append((f"{bits} bits", settings.model_copy(update={"adc": more})))
    for volt in (1.1, 2.048, 2.5):
        # a reference below the supply of a divider is no longer ratiometric, and that is said
        if volt < converter.reference_volt:
            other = converter.model_copy(update={"reference_volt": volt})
            fed = isinstance(settings, Thermistor) or (isinstance(settings, Rtd) and settings.circuit == "divider")
            words = f"a reference of {volt:g} V" + (", no longer ratiometric" if fed and converter.ratiometric else "")
            wanted.append((words, settings.model_copy(update={"adc": other})))
    options = []
    for words, changed in wanted:
        fine = celsius_per_count(changed, celsius)
        if fine is not None and fine > 0.0 and _is_inside(changed, celsius):
            options.append(Change(words, fine, changed))
    return sorted(options, key=lambda change: change.celsius_per_count)


def _is_inside(settings: AnyProbe, celsius: float) -> bool:
    """Whether a probe reads `celsius` at all, away from the ends of its scale."""
    return bool(sweep.inside(registry.numbers(settings), np.array([celsius]))[0])
