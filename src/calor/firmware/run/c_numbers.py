"""The firmware's numbers as C that stands around it writes them, and what a design's C can be asked for."""

from __future__ import annotations

from calor.design.model import Design
from calor.firmware.sources.form import Form
from calor.law.fan_curve import FanCurve
from calor.law.pid import Pid

IS_NAN = """\
__attribute__((unused)) static bool calor_is_nan(float x)
{
    const union { float x; uint32_t bits; } seen = { x };
    return (seen.bits & 0x7FFFFFFFu) > 0x7F800000u;
}
"""
CONVERSIONS = """\
__attribute__((unused)) static q16 calor_q(float x)
{
    if (calor_is_nan(x) || x <= -32768.0f) {
        return INT32_MIN;
    }
    return x >= 32767.0f ? INT32_MAX : (q16)(x * 65536.0f + (x < 0.0f ? -0.5f : 0.5f));
}

__attribute__((unused)) static float calor_f(q16 x)
{
    return (float)x / 65536.0f;
}
"""
"""Between floats and fixed point; a NaN is the lowest number."""


class Numbers:
    """How a C expression is turned into the firmware's numbers, and back."""

    def __init__(self, fixed: bool) -> None:
        self._fixed = fixed

    def own(self, text: str) -> str:
        """The firmware's number of a float."""
        return f"calor_q({text})" if self._fixed else text

    def plain(self, text: str) -> str:
        """The float of a firmware's number."""
        return f"calor_f({text})" if self._fixed else text

    @property
    def per_fine(self) -> str:
        """What a rate of the integral is divided by for 1/s."""
        return " / 1024.0f" if self._fixed else ""

    def constant(self, value: float) -> str:
        """A constant."""
        return f"Q16({value!r})" if self._fixed else f"{value!r}f"


def changes_gains(design: Design) -> bool:
    """Whether other settings can have another gain without a bump."""
    law = design.law
    apart = isinstance(law, Pid) and (law.cool_integral_time_s is not None or law.cool_derivative_time_s is not None)
    return isinstance(law, Pid) and not law.gain_sets and not apart


def takes_hand(design: Design, form: Form) -> bool:
    """Whether the output can be set by hand."""
    return form.is_outward or (isinstance(design.law, Pid) and design.law.manual_mode)


def tunes_itself(design: Design) -> bool:
    """Whether the law can find its gains itself."""
    return isinstance(design.law, Pid) and design.law.autotune is not None


def setpoint_is_put_in(design: Design) -> bool:
    """Whether the C has a setpoint that can be put in from outside."""
    return design.setpoint.kind == "hold" and not design.setpoint.locked


def needs_other(design: Design) -> bool:
    """Whether it looks at a second temperature, or at a signal."""
    return design.setpoint.kind == "follow" or (isinstance(design.law, FanCurve) and design.law.follows == "difference")
