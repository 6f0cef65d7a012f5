"""Checks on the readings: out of range, faster than it can be, stuck, a thermocouple wired backwards.

Open and short are told from the code itself, before these. A reading that fails a check is a fault: the law does not
see it, and the output goes where the guard puts it. Source: common practice.
"""

from __future__ import annotations

from typing import NamedTuple, Self

import numpy as np
from pydantic import model_validator

from calor.compiled import Column, compiled
from calor.elapsed import passed
from calor.settings import Settings, difference, duration, number, temperature

NO_FAULT, FAULT_OPEN, FAULT_SHORT, FAULT_RANGE, FAULT_RATE, FAULT_REVERSED, FAULT_STUCK = range(7)
FAULT_WORDS = (
    "", "open", "shorted", "out of range", "faster than it can be", "reads backwards", "stuck at one code",
)  # fmt: skip

# what is remembered between readings
HAS_LAST, LAST_CELSIUS, SINCE_S, HAS_CODE, CODE, SAME_S, SAME_REST_S = range(7)
SIZE = 7


class Checks(Settings):
    """Beyond what a reading is taken for a fault. A check that is left out is not made."""

    low_celsius: float | None = temperature(None, "Fault below", "A reading below this is a fault.")
    high_celsius: float | None = temperature(None, "Fault above", "A reading above this is a fault.")
    fastest_celsius_per_s: float | None = number(
        None, "Fastest change", "A reading that changes faster than this is a fault.", "celsius_per_s", None, 1e4, 0.0
    )  # fmt: skip
    stuck_s: float | None = duration(
        None, "Stuck time", "The same code for this long is a fault; needs some noise to be sound.", 0.1, 1e6
    )
    reversed_celsius: float | None = difference(
        None,
        "Reversed below",
        "A thermocouple that reads this far below its cold junction is taken for reversed.",
        0.1,
        500.0,
    )

    @model_validator(mode="after")
    def _low_below_high(self) -> Self:
        low, high = self.low_celsius, self.high_celsius
        if low is not None and high is not None and low >= high:
            raise ValueError(f"low_celsius ({low:g}) must be below high_celsius ({high:g}); swap them")
        return self


class CheckNumbers(NamedTuple):
    """The checks as the kernel sees them; infinite where one is not made."""

    low_celsius: float
    high_celsius: float
    fastest_celsius_per_s: float
    stuck_s: float
    reversed_below_celsius: float


def numbers(settings: Checks, cold_junction_celsius: float | None) -> CheckNumbers:
    """The settings as plain numbers. Where there is no cold junction nothing can be wired backwards."""
    backwards = -np.inf
    if settings.reversed_celsius is not None and cold_junction_celsius is not None:
        backwards = cold_junction_celsius - settings.reversed_celsius
    return CheckNumbers(
        -np.inf if settings.low_celsius is None else settings.low_celsius,
        np.inf if settings.high_celsius is None else settings.high_celsius,
        np.inf if settings.fastest_celsius_per_s is None else settings.fastest_celsius_per_s,
        np.inf if settings.stuck_s is None else settings.stuck_s,
        backwards,
    )


@compiled
def step(checks: CheckNumbers, memory: Column, code: float, celsius: float, dt_s: float) -> int:
    """The fault of a reading, NO_FAULT where it passes. `code` is what stays the same while the probe is stuck.

    A change is measured from the last reading that passed, over the time since, so that a true change comes through.
    """
    if checks.stuck_s != np.inf:
        same = memory[HAS_CODE] > 0.0 and code == memory[CODE]
        same_s, rest_s = passed(float(memory[SAME_S]), float(memory[SAME_REST_S]), dt_s)
        memory[SAME_S], memory[SAME_REST_S] = same_s if same else 0.0, rest_s if same else 0.0
    memory[HAS_CODE], memory[CODE] = 1.0, code
    memory[SINCE_S] += dt_s
    if celsius < checks.reversed_below_celsius:
        return FAULT_REVERSED
    if celsius < checks.low_celsius or celsius > checks.high_celsius:
        return FAULT_RANGE
    if memory[SAME_S] >= checks.stuck_s:
        return FAULT_STUCK
    if checks.fastest_celsius_per_s != np.inf and memory[HAS_LAST] > 0.0:
        moved = abs(celsius - memory[LAST_CELSIUS])
        if moved > checks.fastest_celsius_per_s * memory[SINCE_S]:
            return FAULT_RATE
    memory[HAS_LAST], memory[LAST_CELSIUS], memory[SINCE_S] = 1.0, celsius, 0.0
    return NO_FAULT
