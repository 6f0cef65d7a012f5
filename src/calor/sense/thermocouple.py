"""Thermocouple by letter, read through an amplifier, or by a converter chip that gives °C as a code.

What is measured is E(t) − E(t of the cold junction); the firmware adds the cold junction's voltage and inverts: it
never adds temperatures. Source: ITS-90, see its90.py; tolerance classes of IEC 60584-1 (from memory).
"""

from __future__ import annotations

import math
from typing import Literal, NamedTuple, Self

from pydantic import model_validator

from calor.compiled import compiled
from calor.sense import adc, its90
from calor.sense.adc import AdcNumbers, ScaleEnds
from calor.sense.digital import Word
from calor.sense.its90 import Letter
from calor.sense.mounting import CONVERTER, OPEN, REVERSED, SHORT, Mounted, Tolerance, converter
from calor.settings import choice, difference, fraction, number, temperature
from calor.units import TemperatureUnit, difference_to

CLASSES: dict[str, dict[str, tuple[float, float, float]]] = {
    "1": {"R": (1.0, -2.3, 0.003), "S": (1.0, -2.3, 0.003), "T": (0.5, 0.0, 0.004), "B": (1.5, 0.0, 0.0025)},
    "2": {"R": (1.5, 0.0, 0.0025), "S": (1.5, 0.0, 0.0025), "T": (1.0, 0.0, 0.0075), "B": (1.5, 0.0, 0.0025)},
}
"""Floor, base and share of the temperature, °C. Source: IEC 60584-1 (from memory); type B has no class 1."""
USUAL = {"1": (1.5, 0.0, 0.004), "2": (2.5, 0.0, 0.0075)}
"""The same for E, J, K and N."""


class Thermocouple(Mounted, Word):
    """Thermocouple with its cold junction measured by a second sensor."""

    kind: Literal["thermocouple"] = choice(
        "thermocouple",
        "Probe",
        "Thermocouple, cold junction measured beside it.",
        words={"thermocouple": "Thermocouple"},
    )
    letter: Letter = choice("K", "Type", "Letter of the thermocouple, ITS-90.")
    cold_junction_celsius: float = temperature(
        25.0, "Cold junction", "Where the thermocouple ends; a second sensor measures it.", -55.0, 125.0
    )
    amplifier_gain: float = number(
        50.0, "Amplifier gain", "Gain between thermocouple and converter.", "number", 0.1, 10_000.0
    )
    amplifier_offset_volt: float = number(
        0.0, "Amplifier offset", "Added on purpose behind the gain, so that readings below the cold junction are seen.",
        "volt", -30.0, 30.0,
    )  # fmt: skip
    converter_celsius_per_code: float | None = number(
        None, "Chip °C per code", "A converter chip in place of amplifier and converter: °C per code, 0.25 is usual.",
        "difference", None, 10.0, 0.0,
    )  # fmt: skip
    converter_bits: int = number(14, "Chip code bits", "Bits of its code, sign among them.", "integer", 8, 24)
    tolerance_class: Literal["1", "2"] = choice("2", "Class", "Tolerance class of IEC 60584-1.")
    cold_junction_tolerance_celsius: float = difference(
        0.5, "Junction error", "How far the cold junction's sensor may be off.", 0.0, 20.0
    )
    amplifier_gain_tolerance_fraction: float = fraction(
        0.005, "Gain tolerance", "Tolerance of the amplifier's gain.", 0.0, 0.5
    )
    amplifier_drift_microvolt: float = number(
        10.0, "Amplifier drift", "Offset of the amplifier that is not wanted, at its input.", "microvolt", 0.0, 10_000.0
    )
    adc: CONVERTER = converter()

    @model_validator(mode="after")
    def _cold_junction_inside(self) -> Self:
        low, high = its90.celsius_range(self.letter)
        if not low <= self.cold_junction_celsius <= high:
            raise ValueError(
                f"cold_junction_celsius must be inside the range of type {self.letter}, {low:g} to {high:g} °C"
                f" (received {self.cold_junction_celsius:g}); correct it or take another letter"
            )
        return self


class ThermocoupleNumbers(NamedTuple):
    """The thermocouple and its amplifier as the kernel sees them."""

    letter: int
    cold_junction_celsius: float
    cold_millivolt: float
    gain: float
    offset_volt: float
    supply_volt: float
    millivolt_per_scale: float
    offset_millivolt: float


def numbers(settings: Thermocouple) -> ThermocoupleNumbers:
    """The settings as plain numbers."""
    letter = its90.LETTERS.index(settings.letter)
    return ThermocoupleNumbers(
        letter,
        settings.cold_junction_celsius,
        float(its90.celsius_to_millivolt(letter, settings.cold_junction_celsius)),
        settings.amplifier_gain,
        settings.amplifier_offset_volt,
        max(settings.adc.divider_volt, settings.adc.reference_volt),
        settings.adc.reference_volt / settings.amplifier_gain * 1e3,
        settings.amplifier_offset_volt / settings.amplifier_gain * 1e3,
    )


def celsius_range(settings: Thermocouple) -> tuple[float, float]:
    """Temperatures over which the letter is defined, °C."""
    return its90.celsius_range(settings.letter)


@compiled
def celsius_to_quantity(probe: ThermocoupleNumbers, celsius: float) -> float:
    """Voltage in mV against a junction at 0 °C, as in the standard's tables."""
    return its90.celsius_to_millivolt(probe.letter, celsius)


@compiled
def quantity_to_celsius(probe: ThermocoupleNumbers, millivolt: float) -> float:
    """Temperature in °C at which it gives `millivolt` against 0 °C; not a number outside the standard's range."""
    return its90.millivolt_to_celsius(probe.letter, millivolt)


@compiled
def measured_millivolt(probe: ThermocoupleNumbers, celsius: float, wiring: int) -> float:
    """Voltage in mV at its two ends, the cold junction being where it is."""
    if wiring == SHORT:
        return 0.0
    millivolt = celsius_to_quantity(probe, celsius) - probe.cold_millivolt
    return -millivolt if wiring == REVERSED else millivolt


@compiled
def celsius_to_volt(probe: ThermocoupleNumbers, celsius: float, wiring: int) -> float:
    """Voltage at the converter, behind the amplifier; a wire that is off is pulled up to the supply."""
    if wiring == OPEN:
        return probe.supply_volt
    return measured_millivolt(probe, celsius, wiring) * 1e-3 * probe.gain + probe.offset_volt


@compiled
def share_to_quantity(probe: ThermocoupleNumbers, share: float) -> float:
    """Voltage in mV against 0 °C that the firmware works out from a share of the converter's scale."""
    return share * probe.millivolt_per_scale - probe.offset_millivolt + probe.cold_millivolt


@compiled
def share_to_celsius(probe: ThermocoupleNumbers, share: float) -> float:
    """Temperature the firmware reads from a share of the converter's scale."""
    return quantity_to_celsius(probe, share_to_quantity(probe, share))


def open_reads_high(settings: Thermocouple) -> bool:
    """Whether a wire that is off drives the code up."""
    del settings
    return True


def fault_ends(
    settings: Thermocouple, own: ThermocoupleNumbers, scale: AdcNumbers, ends: ScaleEnds
) -> tuple[float, float]:
    """Codes below and above which it is taken for open or shorted: beyond the codes of all it can read."""
    codes = sorted(adc.exact_counts(scale, celsius_to_volt(own, end, 0)) for end in celsius_range(settings))
    below = max(float(math.floor(codes[0])), ends.bottom + 1.0)
    if settings.amplifier_offset_volt <= 0.0:
        below = -math.inf  # the lowest code is then the cold junction, and all that is colder
    return below, min(math.ceil(codes[1]), ends.top - 1.0)


def tolerances(settings: Thermocouple) -> tuple[Tolerance, ...]:
    """What may be off beside the thermocouple's class."""

    def junction(own: ThermocoupleNumbers, share: float) -> ThermocoupleNumbers:
        there = own.cold_junction_celsius + share * settings.cold_junction_tolerance_celsius
        return own._replace(cold_millivolt=float(its90.celsius_to_millivolt(own.letter, there)))

    def gain(own: ThermocoupleNumbers, share: float) -> ThermocoupleNumbers:
        return own._replace(gain=own.gain * (1.0 + share * settings.amplifier_gain_tolerance_fraction))

    def drift(own: ThermocoupleNumbers, share: float) -> ThermocoupleNumbers:
        volt = share * settings.amplifier_drift_microvolt * 1e-6 * own.gain
        return own._replace(offset_volt=own.offset_volt + volt)

    if settings.converter_celsius_per_code is not None:
        return (Tolerance("cold junction", junction),)
    return (
        Tolerance("cold junction", junction), Tolerance("amplifier gain", gain), Tolerance("amplifier drift", drift)
    )  # fmt: skip


def class_error(settings: Thermocouple) -> tuple[float, float, float]:
    """Floor, base and share of the temperature of the tolerance class, °C."""
    return CLASSES[settings.tolerance_class].get(settings.letter, USUAL[settings.tolerance_class])


def title(settings: Thermocouple) -> str:
    """What it is, in a few words."""
    return f"Thermocouple {settings.letter}"


def consequences(settings: Thermocouple, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    constants = numbers(settings)
    millivolt = float(measured_millivolt(constants, setpoint_celsius, 0))
    cold = (
        float(its90.celsius_to_millivolt(constants.letter, settings.cold_junction_celsius + 1.0))
        - constants.cold_millivolt
    )
    here = float(
        celsius_to_quantity(constants, setpoint_celsius + 1.0) - celsius_to_quantity(constants, setpoint_celsius)
    )
    lines = {}
    if here > 0.0:
        per = difference_to(unit, cold / here)
        lines["cold_junction_celsius"] = f"1 °C wrong here reads {per:.2g} {unit} wrong at the setpoint."
    if settings.converter_celsius_per_code is None:
        volt = millivolt * 1e-3 * settings.amplifier_gain + settings.amplifier_offset_volt
        inside = 0.0 <= volt <= settings.adc.reference_volt
        lines["amplifier_gain"] = (
            f"{millivolt:.3f} mV at the setpoint become {volt:.3f} V{'' if inside else ': outside the converter'}."
        )
    return lines


QUANTITY = "millivolt"
