"""Digital sensor: a whole number of steps of °C, signed or not, that comes in a word with fault bits.

code = round(t / celsius_per_code), held to what its bits can say; 0.0625 and 0.25 °C are usual (common practice).
"""

from __future__ import annotations

import math
from typing import Literal, NamedTuple

from calor.compiled import compiled
from calor.sense.mounting import CONVERTER, Mounted, Tolerance, converter
from calor.settings import Settings, choice, difference, number
from calor.units import TemperatureUnit, celsius_to

NO_ANSWER = 0xFFFF_FFFF
"""The word of a bus on which nobody answers: all ones (common practice)."""


class Word(Settings):
    """How a code lies in the word that is read."""

    word_shift: int = number(
        0, "Code starts at bit", "Bits to the right of the code in the word read.", "integer", 0, 24
    )
    fault_mask: int = number(
        0, "Fault bits", "Bits of the word that say a fault, 7 for the lowest three.", "integer", 0, 0x7FFF_FFFF
    )


class Digital(Mounted, Word):
    """Sensor that gives its temperature as a number."""

    kind: Literal["digital"] = choice(
        "digital", "Probe", "Sensor that gives its temperature as a number.", words={"digital": "Digital"}
    )
    celsius_per_code: float = number(0.0625, "°C per code", "Temperature of one step.", "difference", None, 10.0, 0.0)
    bits: int = number(12, "Bits", "Bits of the code, sign among them.", "integer", 4, 24)
    signed: bool = choice(True, "Signed code", "Two's complement; else the code starts at 0 °C.")
    tolerance_celsius: float = difference(0.5, "Tolerance", "Tolerance of the sensor, from its data sheet.", 0.0, 50.0)
    adc: CONVERTER = converter("Not used: the sensor gives codes itself. Kept for another kind.")


class CodeNumbers(NamedTuple):
    """Codes as the kernel sees them."""

    celsius_per_code: float
    lowest: float
    highest: float


def code_numbers(celsius_per_code: float, bits: int, signed: bool) -> CodeNumbers:
    """Codes of so many bits."""
    if signed:
        return CodeNumbers(celsius_per_code, -float(2 ** (bits - 1)), float(2 ** (bits - 1) - 1))
    return CodeNumbers(celsius_per_code, 0.0, float(2**bits - 1))


def numbers(settings: Digital) -> CodeNumbers:
    """The settings as plain numbers."""
    return code_numbers(settings.celsius_per_code, settings.bits, settings.signed)


@compiled
def celsius_to_code(code: CodeNumbers, celsius: float) -> float:
    """The nearest code, held to what the bits can say."""
    return min(max(float(math.floor(celsius / code.celsius_per_code + 0.5)), code.lowest), code.highest)


def code_to_word(code: int, bits: int, word: Word, fault: bool = False) -> int:
    """The word the sensor sends for a code, two's complement in its place; with its fault bits where it has any."""
    if fault:
        return word.fault_mask or NO_ANSWER
    return (code & ((1 << bits) - 1)) << word.word_shift


def tolerances(settings: Digital) -> tuple[Tolerance, ...]:
    """What may be off beside the sensor's own tolerance: nothing."""
    del settings
    return ()


def class_error(settings: Digital) -> tuple[float, float, float]:
    """Floor, base and share of the temperature of the sensor's tolerance, °C."""
    return settings.tolerance_celsius, 0.0, 0.0


def title(settings: Digital) -> str:
    """What it is, in a few words."""
    return f"Digital, {settings.bits} bit"


def consequences(settings: Digital, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    del setpoint_celsius
    plain = numbers(settings)
    low, high = (celsius_to(unit, end * plain.celsius_per_code) for end in (plain.lowest, plain.highest))
    return {"bits": f"Reaches from {low:.5g} to {high:.5g} {unit}.".replace("-", "−")}


QUANTITY = ""
