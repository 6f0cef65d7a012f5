"""The natural logarithm that a probe's scaling and a dew point need, in one place.

The loop computes it in double precision. Firmware has a short series of its own, so that every compiler and processor
gives the same figure; where the loop is computed as a firmware does, in single precision, that series stands here.
"""

from __future__ import annotations

import math

from calor.compiled import compiled


@compiled
def natural(x: float) -> float:
    """Natural logarithm of x > 0."""
    return math.log(x)
