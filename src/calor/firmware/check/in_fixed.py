"""Numbers in Q16.16 as the fixed-point C computes them: whole numbers of 1/65536, each operation held at the ends of
the range and rounded as `q16.h` says. An arithmetic of its own: what the C's answers are compared with is not the C.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from calor.firmware.check.in_single import Single
from calor.firmware.sources.fixed_point import LARGEST
from calor.firmware.sources.templating import SMALLEST_FLOAT

ONE, MOST, LEAST = 65_536, 2**31 - 1, -(2**31)
BEYOND = 2**40
"""What stands for a bound that is not there: no number is as large, and nothing is computed with it."""
STEPS = 1024
"""A fine number counts in 1/1024 of what its unit says: integrals, their rates, and what a model has risen by."""


def _held(raw: int) -> int:
    return max(min(raw, MOST), LEAST)


def _signed(size: int, below: bool) -> int:
    return _held(-size if below else size)


def product(a: int, b: int) -> int:
    """A product, rounded to the nearest, away from 0 in the middle."""
    return _signed((abs(a) * abs(b) + ONE // 2) >> 16, (a < 0) != (b < 0))


def quotient(a: int, b: int) -> int:
    """A quotient without what is left over; by 0 it is the end of the range."""
    below = (a < 0) != (b < 0)
    return _signed((abs(a) << 16) // abs(b) if b else BEYOND, below)


def literal(value: float) -> int:
    """A constant of the C: rounded to a float first, as it is written, then to the nearest 1/65536."""
    if math.isinf(value):
        return BEYOND if value > 0.0 else -BEYOND
    if abs(value) <= LARGEST and value * ONE == int(value * ONE):
        return int(value * ONE)  # a number that a step has handed on as a float
    written = float(str(Single(value if abs(value) >= SMALLEST_FLOAT else 0.0)))
    held = max(min(written, LARGEST), -LARGEST - 1.0)
    return int(held * ONE + (-0.5 if held < 0.0 else 0.5))


class Fixed:
    """A number of Q16.16; `fine` how often it is counted in 1024ths."""

    __slots__ = ("fine", "raw")

    def __init__(self, raw: int, fine: int = 0) -> None:
        self.raw, self.fine = raw, fine

    def as_fine(self, fine: int) -> int:
        """The whole number of 1/65536 that it is where so many times 1024ths are counted."""
        if fine == self.fine or abs(self.raw) >= BEYOND:
            return self.raw
        factor = ONE * STEPS if fine > self.fine else ONE // STEPS
        return product(self.raw, factor)

    def __add__(self, other: Any) -> Fixed:
        return Fixed(_held(self.raw + _of(other).as_fine(self.fine)), self.fine)

    def __radd__(self, other: Any) -> Fixed:
        return _of(other) + self

    def __sub__(self, other: Any) -> Fixed:
        return Fixed(_held(self.raw - _of(other).as_fine(self.fine)), self.fine)

    def __rsub__(self, other: Any) -> Fixed:
        return _of(other) - self

    def __mul__(self, other: Any) -> Any:
        if isinstance(other, Clock):
            return _Share(self, other)
        if isinstance(other, int):
            return Fixed(_held(self.raw * other), self.fine)
        own = _of(other)
        return Fixed(product(self.raw, own.raw), self.fine + own.fine)

    __rmul__ = __mul__

    def __truediv__(self, other: Any) -> Fixed:
        own = _of(other)
        return Fixed(quotient(self.raw, own.raw), self.fine - own.fine)

    def __rtruediv__(self, other: Any) -> Fixed:
        return _of(other) / self

    def __neg__(self) -> Fixed:
        return Fixed(_held(-self.raw), self.fine)

    def __abs__(self) -> Fixed:
        return -self if self.raw < 0 else self

    def _against(self, other: Any) -> int:
        return _of(other).as_fine(self.fine)

    def __lt__(self, other: Any) -> bool:
        return self.raw < self._against(other)

    def __le__(self, other: Any) -> bool:
        return self.raw <= self._against(other)

    def __gt__(self, other: Any) -> bool:
        return self.raw > self._against(other)

    def __ge__(self, other: Any) -> bool:
        return self.raw >= self._against(other)

    def __eq__(self, other: object) -> bool:
        return self.raw == self._against(other)

    def __ne__(self, other: object) -> bool:
        return self.raw != self._against(other)

    __hash__ = None  # type: ignore[assignment]

    def __float__(self) -> float:
        return self.raw / ONE / float(STEPS) ** self.fine

    def __int__(self) -> int:
        return int(self.raw / ONE)

    def __floor__(self) -> int:
        return self.raw // ONE

    def __array_ufunc__(self, ufunc: Any, method: str, *given: Any, **how: Any) -> Any:
        """NumPy's isnan, which the steps ask; every number here is one."""
        if ufunc is np.isnan and method == "__call__":
            return False
        return NotImplemented


class Clock(int):
    """A time as whole 1/65536 s, where float counts microseconds."""

    def __add__(self, other: int) -> Clock:
        return Clock(int(self) + int(other))

    __radd__ = __add__

    def __sub__(self, other: int) -> Clock:
        return Clock(int(self) - int(other))

    def __floordiv__(self, other: int) -> int:
        """A thousandth by the constant that the C has for it."""
        return product(int(self), literal(0.001)) if other == STEPS_AHEAD else int(self) // int(other)


STEPS_AHEAD = 1000
"""What a step is divided by for how far ahead a change counts."""


class _Share:
    """A number that is to be multiplied by one time and divided by another: the C divides the times first."""

    def __init__(self, number: Fixed, time: Clock) -> None:
        self._number, self._time = number, time

    def __truediv__(self, whole: int) -> Any:
        return self._number * Fixed(quotient(int(self._time), int(whole)))


def _of(value: Any) -> Fixed:
    """A number as fixed point."""
    if isinstance(value, Fixed):
        return value
    if isinstance(value, int):
        return Fixed(_held(value * ONE))
    if isinstance(value, float | np.floating):
        return Fixed(literal(float(value)))
    raise TypeError(f"no number: {value!r}")


def clock_of(seconds: Any) -> Clock:
    """A time in the place of its microseconds."""
    own = _of(seconds).raw
    return Clock(max(own, 0))


FINE = {
    "integral_rate_per_s": 1, "back_calculation_rate_per_s": 1, "set_rate": 1, "set_back_calculation_rate": 1,
    "rate_share": 1, "back_share": 1, "rate_per_s": 1, "rise_celsius": -1,
}  # fmt: skip
"""Numbers that the C keeps in 1024ths of their unit, or in 1024 times it."""


def in_fixed(value: Any, fine: int = 0) -> Any:
    """Numbers, or nested tuples of them, with every float as the literals of the fixed-point C have it."""
    if isinstance(value, tuple):
        if hasattr(value, "_fields"):
            kinds = [FINE.get(name, 0) for name in value._fields]
            return type(value)(*(in_fixed(part, kind) for part, kind in zip(value, kinds, strict=True)))
        return tuple(in_fixed(part, fine) for part in value)
    if isinstance(value, float):
        return Fixed(literal(value * float(STEPS) ** fine if math.isfinite(value) else value), fine)
    return value


def given_fixed(value: Any) -> Fixed:
    """A float that is handed over while it runs: rounded to the nearest; what is none is the lowest number."""
    x = Single(value)
    if np.isnan(x) or x <= Single(-32_768.0):
        return Fixed(LEAST)
    if x >= Single(32_767.0):
        return Fixed(MOST)
    return Fixed(int(x * Single(65_536.0) + Single(-0.5 if x < 0.0 else 0.5)))


def seen(value: Fixed) -> Any:
    """A number as a float that is looked at from outside."""
    return Single(value.raw) / Single(65_536.0)
