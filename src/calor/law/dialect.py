"""The four ways PID gains are written, and conversion between them without loss.

standard (ISA)  u = Kc·(e + (1/Ti)∫e + Td·de/dt)
parallel        u = Kp·e + Ki∫e + Kd·de/dt
series          u = Kc′·(1 + 1/(Ti′s))·(1 + Td′s)·e
band            proportional band in °C of full output, repeats per minute, derivative time

Source: Åström & Hägglund, Advanced PID Control (2006), section 3.2; the band is common practice.
"""

from __future__ import annotations

import math

from calor.errors import CalorError
from calor.units import TemperatureUnit, difference_to, format_difference, format_gain

FORMS_OF_GAINS: dict[str, tuple[str, str, str]] = {
    "standard": ("gain_per_celsius", "integral_time_s", "derivative_time_s"),
    "parallel": ("kp_per_celsius", "ki_per_celsius_s", "kd_s_per_celsius"),
    "series": ("gain_per_celsius", "integral_time_s", "derivative_time_s"),
    "band": ("proportional_band_celsius", "repeats_per_minute", "derivative_time_s"),
}


def band_celsius(gain_per_celsius: float) -> float:
    """Proportional band: the error in °C that asks for full output. Infinite for a gain of 0."""
    return 1.0 / gain_per_celsius if gain_per_celsius > 0.0 else math.inf


def from_standard(dialect: str, gain: float, ti_s: float, td_s: float) -> dict[str, float] | None:
    """Standard gains written in `dialect`: its three numbers by name; an integral time of 0 means none.

    None where the dialect cannot express them: the series form needs Ti ≥ 4·Td.
    """
    keys = FORMS_OF_GAINS[dialect]
    if dialect == "parallel":
        return dict(zip(keys, (gain, gain / ti_s if ti_s > 0.0 else 0.0, gain * td_s), strict=True))
    if dialect == "band":
        return dict(zip(keys, (band_celsius(gain), 60.0 / ti_s if ti_s > 0.0 else 0.0, td_s), strict=True))
    if dialect == "series":
        if ti_s <= 0.0 or td_s <= 0.0:
            return dict(zip(keys, (gain, ti_s, td_s), strict=True))
        if ti_s < 4.0 * td_s:
            return None
        root = math.sqrt(1.0 - 4.0 * td_s / ti_s)
        return dict(
            zip(keys, (0.5 * gain * (1.0 + root), 0.5 * ti_s * (1.0 + root), 0.5 * ti_s * (1.0 - root)), strict=True)
        )
    return dict(zip(keys, (gain, ti_s, td_s), strict=True))


def to_standard(dialect: str, first: float, second: float, third: float) -> tuple[float, float, float]:
    """Standard gain per °C, integral time and derivative time (s) of a dialect's three numbers.

    Raises ValueError where they mean no finite gain (a band of 0 is on/off; integral action without gain).
    """
    if dialect == "parallel":
        if first <= 0.0:
            if second or third:
                raise ValueError("without a proportional gain, integral and derivative gains have no standard form")
            return 0.0, 0.0, 0.0
        return first, first / second if second > 0.0 else 0.0, third / first
    if dialect == "band":
        if first <= 0.0:
            raise ValueError("a band of 0 is on/off, not a gain; use law kind on_off")
        return 1.0 / first, 60.0 / second if second > 0.0 else 0.0, third
    if dialect == "series" and second > 0.0:
        total = second + third
        return first * total / second, total, second * third / total
    return first, second, third


def every_form(source: str, first: float, second: float, third: float) -> dict[str, dict[str, float] | None]:
    """The three numbers of dialect `source` written in every dialect; None where one cannot express them.

    Raises CalorError where a number is out of range or the dialect unknown.
    """
    if source not in FORMS_OF_GAINS:
        raise CalorError("form", f"must be one of {', '.join(FORMS_OF_GAINS)}", f"{source!r}")
    for name, value in (("gain", first), ("integral time", second), ("derivative time", third)):
        if not math.isfinite(value) or value < 0.0:
            raise CalorError(name, "must be a number of at least 0", f"{value:g}")
    try:
        gain, ti_s, td_s = to_standard(source, first, second, third)
    except ValueError as error:
        raise CalorError("gain", error, f"{first:g}") from None
    if gain <= 0.0:
        raise CalorError("gain", "must be above 0", f"{first:g}", "without a gain nothing can be converted")
    return {dialect: from_standard(dialect, gain, ti_s, td_s) for dialect in FORMS_OF_GAINS}


def form_line(form: str, gain_per_celsius: float, ti_s: float, td_s: float, unit: TemperatureUnit) -> str:
    """Gains of the standard form written in another, in one line."""
    if not gain_per_celsius:
        return "Without gain there is nothing to convert."
    numbers_in = from_standard(form, gain_per_celsius, ti_s, td_s)
    if numbers_in is None:
        return "Not possible in series form: integral time is below four derivative times."
    per_degree = 1.0 / difference_to(unit, 1.0)
    values = list(numbers_in.values())
    if form == "parallel":
        p, i, d = (100.0 * value * per_degree for value in values)
        return f"Kp {p:.4g} %/{unit}, Ki {i:.4g} %/({unit}·s), Kd {d:.4g} %·s/{unit}."
    if form == "band":
        band = format_difference(unit, values[0], 3)
        return f"Band {band}, {values[1]:.4g} repeats/min, derivative {values[2]:.4g} s."
    primes = "′" if form == "series" else ""
    return f"Kc{primes} {format_gain(values[0], unit)}, Ti{primes} {values[1]:.4g} s, Td{primes} {values[2]:.4g} s."
