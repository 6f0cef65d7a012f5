"""What calipers tell between two instants of a run, simulated or recorded."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from calor.loop.trace import Flag, Trace


@dataclass(frozen=True)
class Between:
    """Figures between two instants. The period is None where the temperature does not cross its mean thrice."""

    duration_s: float
    difference_celsius: float
    slope_celsius_per_h: float
    peak_to_peak_celsius: float
    period_s: float | None


def between(trace: Trace, begin_s: float, end_s: float) -> Between:
    """Δt, ΔT, mean slope, peak to peak, and the mean period of the crossings of the mean, upward ones counted.

    A crossing counts after the temperature has left the middle by a tenth of the peak to peak, so that noise
    is not taken for a swing; from one side of a gap to the other no period is counted.
    """
    known = np.isfinite(trace.measured_celsius)
    times, values = trace.time_s[known], trace.measured_celsius[known]
    duration_s = end_s - begin_s
    if len(times) < 2 or duration_s <= 0.0:
        return Between(duration_s, float("nan"), float("nan"), float("nan"), None)
    ends = np.interp([begin_s, end_s], times, values)
    difference = float(ends[1] - ends[0])
    inside = (times >= begin_s) & (times <= end_s)
    if not inside.any():
        return Between(duration_s, difference, difference / duration_s * 3600.0, abs(difference), None)
    part, part_s = values[inside], times[inside]
    swing = float(np.ptp(part))
    middle = (float(part.max()) + float(part.min())) / 2.0
    side = np.where(part > middle + 0.1 * swing, 1, np.where(part < middle - 0.1 * swing, -1, 0))
    told = np.flatnonzero(side)
    ups = told[1:][(side[told[1:]] > 0) & (side[told[:-1]] < 0)]
    breaks = trace.time_s[(trace.whole_flags & Flag.GAP) > 0] if len(trace.whole_flags) == trace.steps else part_s[:0]
    at_s = part_s[ups]
    whole = np.searchsorted(breaks, at_s[1:], side="right") == np.searchsorted(breaks, at_s[:-1], side="right")
    period_s = float(np.diff(at_s)[whole].mean()) if whole.any() and swing > 0.0 else None
    return Between(duration_s, difference, difference / duration_s * 3600.0, swing, period_s)
