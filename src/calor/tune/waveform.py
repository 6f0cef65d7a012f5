"""The exact waveform of a load of first order with dead time under a relay, and what it tells of the load.

Between two switchings the reading goes on for the dead time, then turns: a = Kd − (Kd − ε)·e^(−L/τ), and half the
period is L + τ·ln((Kd + a)/(Kd − ε)). Source: the solution of the first-order equation.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

SHAPE_SHARE = 0.05
"""A waveform that differs from the exact one by less than this share of its amplitude, rms, has its shape."""


def exact_first_order(
    rise_celsius: float, d: float, a: float, epsilon: float, period_s: float
) -> tuple[float, float] | None:
    """(time constant, dead time) in s of first order with dead time that swings by ±`a` °C at a relay of ±`d` and a
    hysteresis of `epsilon` °C; None where there is none. `rise_celsius` is that of full output.
    """
    top = rise_celsius * d
    if not epsilon < a < top:
        return None
    time_constant_s = 0.5 * period_s / math.log((top + a) / (top - a))
    return time_constant_s, -time_constant_s * math.log((top - a) / (top - epsilon))


def waveform(rise_celsius: float, d: float, time_constant_s: float, dead_time_s: float) -> tuple[float, float]:
    """(amplitude in °C, period in s) without hysteresis: a = Kd(1 − e^(−L/τ)), P = 2τ·ln(2e^(L/τ) − 1)."""
    ratio = dead_time_s / time_constant_s
    period_s = 2.0 * time_constant_s * math.log(2.0 * math.exp(ratio) - 1.0)
    return rise_celsius * d * (1.0 - math.exp(-ratio)), period_s


def has_shape(
    solved: tuple[float, float], top: float, epsilon: float, celsius: Any, step_s: float, period_s: float
) -> bool:
    """Whether readings from a switch upwards on, a row each `step_s`, look as first order with dead time does; `top` is
    how far the relay would bring it in the end, °C.
    """
    tau_s, dead_s = solved
    at_s = np.arange(len(celsius)) * step_s % period_s
    half_s, amplitude = 0.5 * period_s, 0.5 * float(np.ptp(celsius))
    # on downwards for the dead time, up until a dead time after the switch back, and down again
    lowest = -top + (top - epsilon) * math.exp(-dead_s / tau_s)
    highest = top + (lowest - top) * math.exp(-half_s / tau_s)
    down = -top + (top - epsilon) * np.exp(-at_s / tau_s)
    up = top + (lowest - top) * np.exp(-np.maximum(at_s - dead_s, 0.0) / tau_s)
    back = -top + (highest + top) * np.exp(-np.maximum(at_s - half_s - dead_s, 0.0) / tau_s)
    shape = np.where(at_s < dead_s, down, np.where(at_s < half_s + dead_s, up, back))
    seen = celsius - 0.5 * (float(celsius.max()) + float(celsius.min()))
    return float(np.sqrt(np.mean((seen - shape) ** 2))) < SHAPE_SHARE * amplitude + 0.5 * epsilon
