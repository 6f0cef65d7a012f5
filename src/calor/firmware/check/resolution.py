"""What the steps of fixed point would cost a design: apart from the rest, as every design that is checked is asked."""

from __future__ import annotations

from calor.design.model import Design
from calor.firmware.sources.fixed_point import STEP
from calor.law import pid
from calor.law.pid import Pid


def resolution_warning(design: Design) -> str:
    """What the resolution of the integral in fixed point would cost, where that is more than a tenth of the ripple
    limit; empty else. In float the integral is compensated, and loses nothing.
    """
    law, limit = design.law, design.limits.ripple_celsius
    if not isinstance(law, Pid) or limit is None:
        return ""
    gains = pid.numbers(law).gains
    parts = [(gains.heat.gain_per_celsius, gains.heat.integral_rate_per_s)] if not gains.sets else [
        (gains.set_gain[k], gains.set_rate[k]) for k in range(gains.sets)
    ]  # fmt: skip
    slowest = min((gain * rate * 1024.0 * law.period_s for gain, rate in parts if gain * rate > 0.0), default=0.0)
    # a growth below half a step is rounded to nothing
    stands_celsius = 0.5 * STEP / slowest if slowest else 0.0
    if stands_celsius <= 0.1 * limit:
        return ""
    return (
        f"in fixed point the integral would stand still within {stands_celsius:.2g} °C of the setpoint, more than a"
        f" tenth of limits.ripple_celsius ({limit:g}); compute in float, or lengthen law.period_s"
    )
