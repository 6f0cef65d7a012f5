"""Time that has passed: in whole microseconds, which add up exactly, or in seconds with what rounding took kept beside.

In single precision alone 0.1 s added up is 75 s off after 8 hours; a measured step times how many there were takes the
last for all of them.
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


NOT_YET_S = -1.0
"""A total that begins to be counted at the next step: that one counts no time."""


@compiled
def passed(total_s: float, rest_s: float, dt_s: float) -> tuple[float, float]:
    """(total, rest) after one more step: what rounding has added too much goes off the next one. A total below 0 begins
    at 0 with this step.

    Source: W. Kahan, "Further remarks on reducing truncation errors", Communications of the ACM 8 (1965).
    """
    if total_s < 0.0:
        return 0.0, 0.0
    added = dt_s - rest_s
    grown = total_s + added
    return grown, (grown - total_s) - added
