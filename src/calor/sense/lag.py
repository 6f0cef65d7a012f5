"""The probe's own time constant: τ·dy/dt = u(t) − y, where u is what the probe touches.

u is taken as the cubic through the values and slopes at both ends of the interval (Hermite), whose error
falls with the fourth power of the interval. Source: first-order lag, any control textbook.
"""

from __future__ import annotations

import math

from calor.compiled import compiled


@compiled
def step(
    time_constant_s: float, celsius: float, start: float, start_slope: float, end: float, end_slope: float, dt_s: float
) -> float:
    """The probe's temperature after `dt_s`, from `celsius`, while what it touches goes from `start` to `end`.

    Slopes are in °C/s. A long lag is integrated by Runge-Kutta of order 4; a short one is solved exactly for
    the cubic, which stays stable however short it is.
    """
    if time_constant_s <= 0.0:
        return end
    if dt_s < 0.2 * time_constant_s:
        rate = 1.0 / time_constant_s
        middle = 0.5 * (start + end) + 0.125 * dt_s * (start_slope - end_slope)
        k1 = (start - celsius) * rate
        k2 = (middle - celsius - 0.5 * dt_s * k1) * rate
        k3 = (middle - celsius - 0.5 * dt_s * k2) * rate
        k4 = (end - celsius - dt_s * k3) * rate
        return celsius + dt_s / 6.0 * (k1 + 2.0 * k2 + 2.0 * k3 + k4)
    rise = (end - start) / dt_s
    square = (3.0 * rise - 2.0 * start_slope - end_slope) / dt_s
    cube = (start_slope + end_slope - 2.0 * rise) / (dt_s * dt_s)
    tau = time_constant_s
    tau2 = tau * tau
    tau3 = tau2 * tau
    following_start = start - tau * start_slope + 2.0 * tau2 * square - 6.0 * tau3 * cube
    end_curve = 2.0 * square + 6.0 * cube * dt_s
    following_end = end - tau * end_slope + tau2 * end_curve - 6.0 * tau3 * cube
    return following_end + (celsius - following_start) * math.exp(-dt_s / tau)
