"""Numbers in the firmware's precision: rounded as its literals are, and its own logarithm."""

from __future__ import annotations

from typing import Any

import numpy as np

from calor.firmware.sources.templating import SMALLEST_FLOAT

Single: Any = np.float32
"""Of any type: it stands where compiled code has a float."""


def in_single(value: Any) -> Any:
    """Numbers, or nested tuples of them, with every float rounded to single precision as the literals of the C are."""
    if isinstance(value, tuple):
        parts = [in_single(part) for part in value]
        return type(value)(*parts) if hasattr(value, "_fields") else tuple(parts)
    if isinstance(value, float):
        return Single(value if abs(value) >= SMALLEST_FLOAT else 0.0)
    return value


def natural_log(x: Any) -> Any:
    """Natural logarithm of x > 0 as the generated C has it: the same operations in the same order."""
    bits = int(Single(x).view(np.uint32))
    exponent = ((bits >> 23) & 0xFF) - 127
    mantissa = np.uint32((bits & 0x007FFFFF) | 0x3F800000).view(Single)
    if mantissa > Single(1.41421356):
        mantissa *= Single(0.5)
        exponent += 1
    one, two = Single(1.0), Single(2.0)
    s = (mantissa - one) / (mantissa + one)
    q = s * s
    a, b, c, d = Single(0.333333333), Single(0.2), Single(0.142857143), Single(0.111111111)
    series = one + q * (a + q * (b + q * (c + q * d)))
    return Single(exponent) * Single(0.693147181) + two * s * series
