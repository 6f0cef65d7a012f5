"""The two kinds of numbers that firmware computes in, for a reference that runs the same steps in either."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from calor import elapsed
from calor.firmware.check.in_fixed import Fixed, given_fixed, in_fixed, literal, seen
from calor.firmware.check.in_single import Single, in_single

MOST_COUNTS = 4_000_000_000


class Arithmetic(NamedTuple):
    """A kind of numbers: one of a constant, one of a float that is handed over, a record of them, an array of zeros,
    how one is looked at from outside; a time in the whole counts that switches go by; a share of a timer's counts;
    (total, rest) of a time after so many more ticks."""

    number: Callable[[Any], Any]
    given: Callable[[Any], Any]
    every: Callable[[Any], Any]
    zeros: Callable[[Any], npt.NDArray[Any]]
    seen: Callable[[Any], Any]
    clock_counts: Callable[[Any], int]
    timer_counts: Callable[[Any, float], int]
    ticked: Callable[[Any, Any, Any, int], tuple[Any, Any]]


def _microseconds(seconds: Any) -> int:
    """Whole microseconds of a time; 0 for what is none."""
    if not seconds > 0.0:
        return 0
    return int(Single(seconds) * Single(1e6) + Single(0.5)) if seconds < 4000.0 else MOST_COUNTS


def _fixed_number(value: Any) -> Any:
    if isinstance(value, Fixed):
        return value
    return value if isinstance(value, float | np.floating) and np.isnan(value) else Fixed(literal(float(value)))


def _fixed_zeros(shape: Any) -> npt.NDArray[Any]:
    return np.full(shape, Fixed(0), object)


def _ticked_single(total_s: Any, rest_s: Any, tick_s: Any, ticks: int) -> tuple[Any, Any]:
    for _ in range(ticks):
        total_s, rest_s = elapsed.passed(total_s, rest_s, tick_s)
    return total_s, rest_s


def _ticked_fixed(total_s: Any, rest_s: Any, tick_s: Any, ticks: int) -> tuple[Any, Any]:
    return total_s + tick_s * ticks, rest_s  # held at the end of the range either way


IN_SINGLE = Arithmetic(
    Single, Single, in_single, lambda shape: np.zeros(shape, Single), Single, _microseconds,
    lambda demand, steps: int(Single(demand) * Single(steps) + Single(0.5)), _ticked_single,
)  # fmt: skip
IN_FIXED = Arithmetic(
    _fixed_number, given_fixed, in_fixed, _fixed_zeros, lambda value: seen(_fixed_number(value)),
    lambda seconds: max(_fixed_number(seconds).raw, 0),
    lambda demand, steps: (max(_fixed_number(demand).raw, 0) * int(steps) + 32_768) >> 16, _ticked_fixed,
)  # fmt: skip
