"""Analog to digital converter: code = floor(v / v_ref · 2ⁿ), held to 0…2ⁿ−1.

Source: the converter's definition (common practice in data sheets); dividing back by 2ⁿ − 1 instead of 2ⁿ is
widespread in hobby code, so both are offered.
"""

from __future__ import annotations

import math
from typing import Literal, NamedTuple

from calor.compiled import compiled
from calor.settings import Settings, choice, number


class Adc(Settings):
    """Converter and the voltages around it."""

    bits: int = number(12, "Resolution, bits", "Bits of the converter.", "integer", 6, 24)
    reference_volt: float = number(3.3, "Reference", "Voltage at which the code is full.", "volt", 0.1, 30.0)
    divider_volt: float = number(
        3.3, "Divider supply", "Voltage on top of the divider; equal to the reference: ratiometric.", "volt", 0.1, 30.0
    )
    divide_by: Literal["2^n", "2^n-1"] = choice(
        "2^n", "Divided back by", "What the firmware divides the code by: 2^n is the converter's definition."
    )


class AdcNumbers(NamedTuple):
    """The converter as the kernel sees it."""

    codes: float
    divisor: float
    reference_volt: float
    fault_below_counts: float
    fault_above_counts: float


FAULT_SHARE = 1.0 / 256.0
"""Share of the scale at either end that reads as an open or shorted probe."""


def numbers(settings: Adc) -> AdcNumbers:
    """The converter's settings as plain numbers."""
    codes = float(2**settings.bits)
    # a divider fed from less than the reference never reaches the last codes: its ends are where it ends
    top = min(codes - 1.0, float(math.floor(codes * settings.divider_volt / settings.reference_volt)))
    margin = float(max(1, int((top + 1.0) * FAULT_SHARE)))
    divisor = codes if settings.divide_by == "2^n" else codes - 1.0
    return AdcNumbers(codes, divisor, settings.reference_volt, margin, top - margin)


@compiled(inline=True)
def volt_to_counts(adc: AdcNumbers, volt: float) -> float:
    """The code, a whole number, that the converter gives for `volt`."""
    code = float(math.floor(volt / adc.reference_volt * adc.codes))
    return min(max(code, 0.0), adc.codes - 1.0)


@compiled()
def counts_to_volt(adc: AdcNumbers, counts: float) -> float:
    """The voltage the firmware takes a code for."""
    return counts / adc.divisor * adc.reference_volt
