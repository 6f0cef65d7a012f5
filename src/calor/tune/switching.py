"""What switching costs: an on/off law's swing against its switchings, and the longest window whose ripple is small.

Of first order with dead time, heating from where it would be without output. Source: the solution of the first-order
equation; contact life is common practice.
"""

from __future__ import annotations

import math
from typing import NamedTuple

from calor.tune.model import Model

DAY_S, HOUR_S = 86_400.0, 3_600.0


class OnOffCycle(NamedTuple):
    """A settled cycle of an on/off law: ends of the swing (°C), times (s), and how often it switches."""

    hysteresis_celsius: float
    peak_celsius: float
    trough_celsius: float
    on_s: float
    off_s: float

    @property
    def swing_celsius(self) -> float:
        """From the lowest to the highest."""
        return self.peak_celsius - self.trough_celsius

    @property
    def switchings_per_hour(self) -> float:
        """On and off counted apart."""
        return 2.0 * HOUR_S / (self.on_s + self.off_s)

    def contact_days(self, cycles: float) -> float:
        """How long a contact of so many cycles lasts."""
        return cycles * (self.on_s + self.off_s) / DAY_S


def on_off_cycle(model: Model, off_celsius: float, low_celsius: float, high_celsius: float) -> OnOffCycle | None:
    """The cycle between two thresholds where nothing settles at `off_celsius` without output; None where full output
    does not come past the upper one, or no output past the lower one.
    """
    k, tau_s, dead_s = model.rise_celsius, model.time_constant_s, model.dead_time_s
    if model.kind == "integrating" or not off_celsius < low_celsius < high_celsius < off_celsius + k:
        return None
    left = math.exp(-dead_s / tau_s)
    full = off_celsius + k
    peak = full - (full - high_celsius) * left
    trough = off_celsius + (low_celsius - off_celsius) * left
    on_s = dead_s + tau_s * math.log((full - trough) / (full - high_celsius))
    off_s = dead_s + tau_s * math.log((peak - off_celsius) / (low_celsius - off_celsius))
    return OnOffCycle(high_celsius - low_celsius, peak, trough, on_s, off_s)


def trade_off(
    model: Model, off_celsius: float, setpoint_celsius: float, hystereses: tuple[float, ...]
) -> list[OnOffCycle]:
    """The cycles of several hystereses, each centred on the setpoint; those that do not cycle are left out."""
    cycles = [
        on_off_cycle(model, off_celsius, setpoint_celsius - 0.5 * wide, setpoint_celsius + 0.5 * wide)
        for wide in hystereses
    ]
    return [cycle for cycle in cycles if cycle is not None]


def window_ripple_celsius(model: Model, output: float, window_s: float) -> float:
    """What a switch that is on for a share of each window swings the temperature by, peak to peak, °C."""
    if model.kind == "integrating":
        return model.rate_celsius_per_s * output * (1.0 - output) * window_s
    tau_s = model.time_constant_s
    on, off = -math.expm1(-output * window_s / tau_s), -math.expm1(-(1.0 - output) * window_s / tau_s)
    return model.rise_celsius * on * off / -math.expm1(-window_s / tau_s)


def longest_window_s(model: Model, output: float, ripple_celsius: float) -> float | None:
    """The longest window whose ripple stays within a limit; None where any does. Raises ValueError for no limit."""
    if not ripple_celsius > 0.0:
        raise ValueError("the limit of the ripple must be above 0")
    low_s, high_s = 0.0, 1.0
    while window_ripple_celsius(model, output, high_s) < ripple_celsius:
        low_s, high_s = high_s, 2.0 * high_s
        if high_s > 1e7:
            return None
    for _ in range(60):
        middle_s = 0.5 * (low_s + high_s)
        if window_ripple_celsius(model, output, middle_s) < ripple_celsius:
            low_s = middle_s
        else:
            high_s = middle_s
    return low_s
