"""A probe in words: the two lines on its card, the answer on top of its room, its consequences, its formula."""

from __future__ import annotations

import numpy as np

from calor.sense import adc, budget, calibration, registry, resolution, sweep
from calor.sense.mounting import shown_ohm
from calor.sense.registry import AnyProbe
from calor.sense.resolution import celsius_per_count
from calor.sense.rtd import Rtd
from calor.sense.thermistor import Thermistor, curve_of
from calor.sense.thermocouple import Thermocouple
from calor.units import TemperatureUnit, difference_to, format_difference, format_duration, format_temperature


def fine(unit: TemperatureUnit, celsius: float) -> str:
    """A small difference with three figures."""
    return f"{difference_to(unit, celsius):.3g} {unit}"


def summary(settings: AnyProbe, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    """The two lines on its card."""
    module = registry.module_of(settings)
    first = module.title(settings)
    if registry.has_converter(settings):
        first += f" on {settings.adc.bits} bit"
    elif isinstance(settings, Thermocouple):
        first += " on a chip"
    count = celsius_per_count(settings, setpoint_celsius)
    if count is None:
        lag = f"τ {format_duration(settings.time_constant_s)}" if settings.time_constant_s else "no lag"
        noise = f"noise {format_difference(unit, settings.noise_celsius, 3)}" if settings.noise_celsius else "no noise"
        return first, f"{lag} · {noise}"
    return first, f"{fine(unit, count)} per count at {format_temperature(unit, setpoint_celsius)}"


def answer(settings: AnyProbe, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    """The two lines on top of its room: what a count is worth at the setpoint, how wrong the reading may be."""
    at = format_temperature(unit, setpoint_celsius)
    count = celsius_per_count(settings, setpoint_celsius)
    first = (
        "An ideal probe reads the temperature itself, without counts."
        if count is None
        else f"At {at} a count is worth {fine(unit, count)}."
    )
    if registry.has_converter(settings):
        plain = registry.numbers(settings)
        code = float(sweep.counts_over(plain, np.array([setpoint_celsius]))[0])
        first += f" Expect code {code:.0f} of {plain.firmware.adc.codes:.0f}."
    errors = budget.budget(settings, setpoint_celsius)
    if errors is None:
        return (
            first,
            f"It cannot be read at {at}: the signal is outside the converter, or so near its end that it looks broken.",
        )
    if not errors.contributions or errors.worst_case_celsius == 0.0:
        return first, "Nothing is set that would make it read wrong."
    largest = errors.contributions[0]
    second = (
        f"The reading may be wrong by {format_difference(unit, errors.rss_celsius)} (root-sum-square),"
        f" {format_difference(unit, errors.worst_case_celsius)} at worst; most by"
        f" {largest.cause}, {format_difference(unit, largest.celsius)}."
    )
    return first, second


def consequences(settings: AnyProbe, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    lines: dict[str, str] = registry.module_of(settings).consequences(settings, unit, setpoint_celsius)
    ohm = resolution.finest_series_ohm(settings, setpoint_celsius)
    count = celsius_per_count(settings, setpoint_celsius)
    if ohm is not None and count is not None:
        fitting = min(max(resolution.preferred_ohm(ohm), 10.0), 1e7)
        with_it = celsius_per_count(settings.model_copy(update={"series_ohm": fitting}), setpoint_celsius)
        if with_it is not None and with_it < 0.98 * count:
            lines["series_ohm"] += f" {shown_ohm(fitting)} would be finest: {fine(unit, with_it)} per count."
        else:
            lines["series_ohm"] += " Counts are about as fine as they get."
    converter = getattr(settings, "adc", None)
    if registry.has_converter(settings) and isinstance(converter, adc.Adc):
        lines |= _converter_lines(settings, converter, count)
    kind = calibration.kind_of(settings.correction, len(settings.calibration))
    lines["correction"] = calibration.line(kind, len(settings.calibration))
    return lines


def _converter_lines(settings: AnyProbe, converter: adc.Adc, count: float | None) -> dict[str, str]:
    lines = {}
    if isinstance(settings, Thermistor) or (isinstance(settings, Rtd) and settings.circuit == "divider"):
        ratio = converter.divider_volt / converter.reference_volt
        lines["adc.divider_volt"] = (
            "Ratiometric: the reference cancels out."
            if ratio == 1.0
            else "Not ratiometric: each 1 % between the two voltages is an error of the same share."
        )
    if count is not None and converter.oversampling > 1:
        lines["adc.oversampling"] = adc.oversampling_line(converter, count)
    return lines


def formula(settings: AnyProbe) -> list[str]:
    """The firmware's scaling from counts to °C, as lines of arithmetic with the design's own numbers."""
    plain = registry.numbers(settings)
    side = plain.firmware
    if registry.gives_code(settings):
        lines = [f"celsius = code * {plain.code.celsius_per_code:.9g}"]
    elif settings.kind == "ideal":
        lines = ["celsius = reading"]
    else:
        lines = [f"volt = counts / {side.adc.divisor:.0f} * {side.adc.reference_volt:.9g}"]
        lines += _volt_lines(settings)
    c = plain.correction
    if c != calibration.NOTHING:
        x = f"(celsius - {c.middle_celsius:.9g})" if c.a1 or c.a2 else ""
        terms = [f"{c.a0:.9g}"] + [f"{a:.9g} * {x}{power}" for a, power in ((c.a1, ""), (c.a2, "^2")) if a]
        lines.append("celsius = celsius + " + " + ".join(terms))
    return lines


def _volt_lines(settings: AnyProbe) -> list[str]:
    side = registry.numbers(settings).firmware
    if isinstance(settings, Thermistor):
        own = side.thermistor
        share = f"volt / {own.supply_volt:.9g}"
        share = f"1 - {share}" if own.high_side else share
        lines = [f"share = {share}", f"ohm = {own.series_ohm:.9g} * share / (1 - share)"]
        if curve_of(settings) is None and own.a2 == 0.0 and own.a3 == 0.0:
            return [*lines, f"celsius = 1 / ({own.a0:.9g} + ln(ohm / {own.reference_ohm:.9g}) * {own.a1:.9g}) - 273.15"]
        return [
            *lines,
            f"x = ln(ohm / {own.reference_ohm:.9g})",
            f"celsius = 1 / ({own.a0:.9g} + x * ({own.a1:.9g} + x * ({own.a2:.9g} + x * {own.a3:.9g}))) - 273.15",
        ]
    if isinstance(settings, Rtd):
        words = {
            "divider": "ohm from the divider",
            "current": f"ohm = volt / {side.rtd.gain * side.rtd.ampere:.9g}",
            "bridge": "ohm from the bridge",
            "ratiometric": f"ohm = volt * {side.rtd.reference_ohm / side.rtd.reference_volt / side.rtd.gain:.9g}",
        }
        if settings.circuit in ("divider", "bridge"):
            base = f"volt / {side.rtd.gain * side.rtd.supply_volt:.9g}"
            if settings.circuit == "bridge":
                base += f" + {side.rtd.reference_ohm / (side.rtd.reference_ohm + side.rtd.series_ohm):.9g}"
            elif side.rtd.high_side:
                base = f"1 - {base}"
            words[settings.circuit] = f"share = {base}\nohm = {side.rtd.series_ohm:.9g} * share / (1 - share)"
        return [
            *words[settings.circuit].splitlines(),
            f"celsius: solve {settings.r0_ohm:.9g} * (1 + 3.9083e-3 * t - 5.775e-7 * t^2 - 4.183e-12 * (t - 100) * t^3"
            " [last term below 0 only]) = ohm",
        ]
    if isinstance(settings, Thermocouple):
        own_couple = side.thermocouple
        return [
            f"millivolt = (volt - {own_couple.offset_volt:.9g}) / {own_couple.gain:.9g} * 1000",
            f"millivolt = millivolt + E(cold junction), {own_couple.cold_millivolt:.9g} at"
            f" {settings.cold_junction_celsius:g} °C",
            f"celsius = inverse polynomial of type {settings.letter} (ITS-90) of millivolt",
        ]
    if settings.kind == "analog_voltage":
        own_line = side.analog_voltage
        return [f"celsius = (volt - {own_line.volt_at_0_celsius:.9g}) / {own_line.volt_per_celsius:.9g}"]
    own_current = side.analog_current
    return [f"celsius = volt / {own_current.load_ohm * own_current.microampere_per_kelvin * 1e-6:.9g} - 273.15"]
