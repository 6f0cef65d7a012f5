"""Analog to digital converter: code = floor(v / v_ref · 2ⁿ), held to 0…2ⁿ−1.

Source: the converter's definition (common practice in data sheets); dividing back by 2ⁿ − 1 instead of 2ⁿ is
widespread in hobby code, so both are offered. Averaging 4ᵏ readings buys k bits where the noise is at least about
one count (common practice).
"""

from __future__ import annotations

import math
from typing import Literal, NamedTuple, Self

from pydantic import model_validator

from calor.compiled import compiled, noise
from calor.settings import Settings, choice, fraction, number


class Adc(Settings):
    """Converter and the voltages around it."""

    bits: int = number(12, "Resolution, bits", "Bits of the converter.", "integer", 6, 24)
    reference_volt: float = number(3.3, "Reference", "Voltage at which the code is full.", "volt", 0.1, 30.0)
    divider_volt: float = number(
        3.3, "Probe supply", "What feeds the divider; equal to the reference: ratiometric.", "volt", 0.1, 30.0
    )  # fmt: skip
    divide_by: Literal["2^n", "2^n-1"] = choice(
        "2^n",
        "Firmware divides by",
        "What the firmware divides the code by: 2^n is the converter's definition.",
        words={"2^n": "2ⁿ", "2^n-1": "2ⁿ − 1"},
    )
    gain_error_fraction: float = fraction(
        0.0, "Gain error", "The converter's codes are too high by this share; the firmware does not know.", -0.2, 0.2
    )
    offset_error_counts: float = number(
        0.0, "Offset error", "The converter's codes are too high by this many counts.", "number", -10_000.0, 10_000.0
    )
    noise_counts: float = number(
        0.0, "Noise, counts", "Standard deviation of one conversion, in counts.", "number", 0.0, 10_000.0
    )
    oversampling: int = number(
        1, "Samples averaged", "Conversions averaged for a reading; with noise, 4 gain a bit.", "integer", 1, 256
    )  # fmt: skip
    input_low_volt: float = number(0.0, "Input minimum", "The input stage gives no less than this.", "volt", 0.0, 30.0)
    input_high_volt: float | None = number(
        None, "Input maximum", "The input stage clips here; none: at the reference.", "volt", 0.0, 30.0
    )
    reference_tolerance_fraction: float = fraction(
        0.01, "Voltage tolerance", "Of reference and supply each; cancels where they are one.", 0.0, 0.5
    )

    @model_validator(mode="after")
    def _input_range(self) -> Self:
        high = self.reference_volt if self.input_high_volt is None else self.input_high_volt
        if self.input_low_volt >= high:
            raise ValueError(
                f"input_low_volt ({self.input_low_volt:g}) must be below the input's upper end ({high:g} V); lower it"
            )
        return self

    @property
    def ratiometric(self) -> bool:
        """Whether probe and converter share one voltage, so that it cancels."""
        return self.divider_volt == self.reference_volt


class AdcNumbers(NamedTuple):
    """The converter as the kernel sees it. Voltages are shares of the reference wherever they can be."""

    codes: float
    divisor: float
    reference_volt: float
    gain: float
    offset_counts: float
    noise_counts: float
    oversampling: int
    input_low_volt: float
    input_high_volt: float


FAULT_SHARE = 1.0 / 256.0
"""Share of the scale at either end that reads as an open or shorted probe."""


def numbers(settings: Adc) -> AdcNumbers:
    """The converter's settings as plain numbers."""
    codes = float(2**settings.bits)
    high = settings.reference_volt if settings.input_high_volt is None else settings.input_high_volt
    return AdcNumbers(
        codes,
        codes if settings.divide_by == "2^n" else codes - 1.0,
        settings.reference_volt,
        1.0 + settings.gain_error_fraction,
        settings.offset_error_counts,
        settings.noise_counts,
        settings.oversampling,
        settings.input_low_volt,
        high,
    )


@compiled
def exact_counts(adc: AdcNumbers, volt: float) -> float:
    """The code before it is rounded down and held to the scale: gain, offset and the input's range applied."""
    clipped = min(max(volt, adc.input_low_volt), adc.input_high_volt)
    return clipped / adc.reference_volt * adc.codes * adc.gain + adc.offset_counts


@compiled
def code(adc: AdcNumbers, counts: float) -> float:
    """The whole code for so many exact counts."""
    return min(max(float(math.floor(counts)), 0.0), adc.codes - 1.0)


@compiled
def noisy_counts(adc: AdcNumbers, volt: float) -> float:
    """The mean code of one reading: as many noisy conversions of `volt` as are averaged.

    Draws from the thread's compiled random numbers, which a run seeds.
    """
    exact = exact_counts(adc, volt)
    total = 0.0
    for _ in range(adc.oversampling):
        total += code(adc, exact + adc.noise_counts * noise.normal())
    return total / adc.oversampling


@compiled
def counts_to_volt(adc: AdcNumbers, counts: float) -> float:
    """The voltage the firmware takes a code for."""
    return counts / adc.divisor * adc.reference_volt


def reading_noise_counts(settings: Adc) -> float:
    """Standard deviation of one reading, in counts, after averaging."""
    return settings.noise_counts / math.sqrt(settings.oversampling)


def quantisation_counts(settings: Adc) -> float:
    """How far, at most, rounding down takes a reading from the truth, in counts.

    One conversion: a whole count, as the firmware takes the lower edge of the code. Several, shaken by noise of at
    least half a count: the mean of the lower edges is half a count low, and one part of a count is left.
    """
    if settings.oversampling == 1 or settings.noise_counts < 0.5:
        return 1.0
    return 0.5 + 1.0 / settings.oversampling


def oversampling_line(settings: Adc, celsius_per_count: float) -> str:
    """What averaging buys, in one line."""
    if settings.oversampling == 1:
        return ""
    bits = math.log2(settings.oversampling) / 2.0
    if settings.noise_counts < 0.5:
        return "Averaging equal codes buys nothing: it needs noise of about a count."
    return f"Buys {bits:.3g} bits: noise {celsius_per_count * reading_noise_counts(settings):.2g} °C instead of" + (
        f" {celsius_per_count * settings.noise_counts:.2g}."
    )


class ScaleEnds(NamedTuple):
    """The codes that a converter's input reaches, and how near an end is taken for a broken wire, counts."""

    bottom: float
    top: float
    margin: float
