"""Time that has passed, in whole microseconds: they add up exactly, where seconds in single precision would drift.

0.1 s added up in 32-bit floats is 75 s off after 8 hours; a measured step times how many there were takes the last for
all of them.
"""

from __future__ import annotations

from calor.compiled import compiled

LONGEST_S = 1e9
"""A time beyond this counts as this."""
DAY_US = 86_400_000_000


@compiled
def microseconds(seconds: float) -> int:
    """Whole microseconds; 0 for a time below 0 or one that is not a number."""
    if not seconds > 0.0:
        return 0
    held = min(seconds, LONGEST_S)
    whole = int(held)
    return whole * 1_000_000 + int((held - whole) * 1e6 + 0.5)
