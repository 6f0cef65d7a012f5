"""Thermistor (NTC) by its beta equation, in a divider, read by a converter.

R = R25·exp(B·(1/T − 1/298.15)), T in kelvin. Source: the definition of beta used in data sheets
(common practice; IEC 60539-1 defines B from two points).
"""

from __future__ import annotations

import math
from typing import Annotated, Literal, NamedTuple

import numpy as np
from pydantic import Field, Strict

from calor.compiled import compiled
from calor.sense import adc as converter
from calor.sense.adc import Adc, AdcNumbers
from calor.settings import Settings, choice, difference, duration, number
from calor.units import TemperatureUnit, difference_to, format_temperature

KELVIN_AT_0_CELSIUS = 273.15
KELVIN_AT_25_CELSIUS = 298.15


class NoFilter(Settings):
    """No filter: the law sees each reading as it was converted."""

    kind: Literal["none"] = choice("none", "Filter", "What smooths the readings before the law sees them.")


class Thermistor(Settings):
    """NTC thermistor on a divider."""

    kind: Literal["thermistor"] = choice("thermistor", "Probe", "NTC thermistor on a divider and converter.")
    r25_ohm: float = number(10_000.0, "Resistance at 25 °C", "Nominal resistance of the thermistor.", "ohm", 10.0, 1e7)
    beta_kelvin: float = number(
        3950.0, "Beta", "How fast the resistance falls as it warms, from its data sheet.", "kelvin", 1000.0, 8000.0
    )
    series_ohm: float = number(
        10_000.0, "Series resistor", "The other resistor of the divider; finest near its own value.", "ohm", 10.0, 1e7
    )
    placed: Literal["low_side", "high_side"] = choice(
        "low_side", "Thermistor sits", "low_side: between the pin and ground; high_side: between supply and the pin."
    )
    time_constant_s: float = duration(
        0.0, "Time constant", "How long the probe takes to come 63 % closer to what it touches.", 0.0, 1e5
    )
    noise_celsius: float = difference(0.0, "Noise", "Standard deviation of one reading.", 0.0, 50.0)
    offset_celsius: float = difference(
        0.0, "Reads off by", "Error of the probe: it reads this much too warm.", -100.0, 100.0
    )
    filter: NoFilter = Field(default=NoFilter(), title="Filter", description="What smooths the readings.")
    adc: Annotated[Adc, Strict(False)] = Field(default=Adc(), title="Converter", description="The converter.")


class ThermistorNumbers(NamedTuple):
    """The thermistor and its divider as the kernel sees them."""

    r25_ohm: float
    beta_kelvin: float
    series_ohm: float
    high_side: bool
    divider_volt: float
    adc: AdcNumbers


def numbers(settings: Thermistor) -> ThermistorNumbers:
    """The settings as plain numbers."""
    return ThermistorNumbers(
        settings.r25_ohm,
        settings.beta_kelvin,
        settings.series_ohm,
        settings.placed == "high_side",
        settings.adc.divider_volt,
        converter.numbers(settings.adc),
    )


@compiled()
def celsius_to_ohm(probe: ThermistorNumbers, celsius: float) -> float:
    """Resistance in Ω at `celsius`."""
    kelvin = max(celsius + KELVIN_AT_0_CELSIUS, 1.0)
    return probe.r25_ohm * math.exp(probe.beta_kelvin * (1.0 / kelvin - 1.0 / KELVIN_AT_25_CELSIUS))


@compiled()
def ohm_to_celsius(probe: ThermistorNumbers, ohm: float) -> float:
    """Temperature in °C at which the thermistor has `ohm` (above 0)."""
    inverse_kelvin = math.log(ohm / probe.r25_ohm) / probe.beta_kelvin + 1.0 / KELVIN_AT_25_CELSIUS
    return 1.0 / inverse_kelvin - KELVIN_AT_0_CELSIUS


@compiled()
def ohm_to_volt(probe: ThermistorNumbers, ohm: float) -> float:
    """Voltage at the pin of the divider."""
    share = ohm / (ohm + probe.series_ohm)
    return probe.divider_volt * ((1.0 - share) if probe.high_side else share)


@compiled()
def volt_to_ohm(probe: ThermistorNumbers, volt: float) -> float:
    """Resistance the firmware works out from the pin's voltage; 0 or infinite at the ends of the divider."""
    share = volt / probe.divider_volt
    if probe.high_side:
        share = 1.0 - share
    if share <= 0.0:
        return 0.0
    if share >= 1.0:
        return np.inf
    return probe.series_ohm * share / (1.0 - share)


@compiled(inline=True)
def counts_to_celsius(probe: ThermistorNumbers, counts: float) -> float:
    """Temperature the firmware reads from a code; not a number at the ends of the scale."""
    ohm = volt_to_ohm(probe, converter.counts_to_volt(probe.adc, counts))
    if ohm <= 0.0 or ohm == np.inf:
        return np.nan
    return ohm_to_celsius(probe, ohm)


@compiled(inline=True)
def step(probe: ThermistorNumbers, celsius: float, wiring: int) -> tuple[float, float, bool]:
    """One reading: (counts, °C as the firmware has it, whether it is a fault).

    `wiring` is 0 where the probe is whole, 1 where it is open, 2 where it is shorted.
    """
    if wiring == 1:
        volt = 0.0 if probe.high_side else probe.divider_volt
    elif wiring == 2:
        volt = probe.divider_volt if probe.high_side else 0.0
    else:
        volt = ohm_to_volt(probe, celsius_to_ohm(probe, celsius))
    counts = converter.volt_to_counts(probe.adc, volt)
    fault = counts < probe.adc.fault_below_counts or counts > probe.adc.fault_above_counts
    celsius_back = counts_to_celsius(probe, counts)
    return counts, celsius_back, fault or np.isnan(celsius_back)


def celsius_per_count(settings: Thermistor, celsius: float) -> float:
    """How many °C one count is at `celsius`, as the firmware scales it (always positive)."""
    plain = numbers(settings)
    counts = step(plain, celsius, 0)[0]
    low, high = max(counts - 1.0, 0.0), min(counts + 1.0, plain.adc.codes - 1.0)
    return abs(float(counts_to_celsius(plain, high) - counts_to_celsius(plain, low))) / (high - low)


def summary(settings: Thermistor, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    """The two lines on its card."""
    fine = difference_to(unit, celsius_per_count(settings, setpoint_celsius))
    kiloohm = f"{settings.r25_ohm / 1000.0:g} k"
    at = format_temperature(unit, setpoint_celsius)
    return f"NTC {kiloohm} on {settings.adc.bits} bit", f"{fine:.3f} {unit} per count at {at}"


def consequences(settings: Thermistor, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    ohm = float(celsius_to_ohm(numbers(settings), setpoint_celsius))
    ratio = settings.adc.divider_volt / settings.adc.reference_volt
    wired = (
        "Ratiometric: the reference cancels out."
        if ratio == 1.0
        else "Not ratiometric: each 1 % between the two voltages is an error of the same share."
    )
    return {
        "series_ohm": f"The thermistor has {ohm:,.0f} Ω at the setpoint.".replace(",", " "),
        "adc.divider_volt": wired,
    }
