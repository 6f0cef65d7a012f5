"""The noise of readings, from how they bend."""

from __future__ import annotations

import math

import numpy as np

from calor.compiled import Column

SCALED = 1.4826
"""Makes the median deviation of normal noise its standard deviation."""


def noise_of(values: Column) -> float:
    """Standard deviation of what changes from reading to reading, °C: of second differences, which no slope moves."""
    if len(values) < 4:
        return 0.0
    bends = np.diff(values, n=2)
    return float(np.median(np.abs(bends - np.median(bends)))) * SCALED / math.sqrt(6.0)
