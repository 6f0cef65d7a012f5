"""Filters that smooth the readings before the law sees them, and the delay each adds to the loop.

Moving average, exponential (first-order lag, discretised backward) and median. Source: common practice.
"""

from __future__ import annotations

from typing import Annotated, Literal, NamedTuple, Self

import numpy as np
from pydantic import Field, model_validator

from calor.compiled import Column, compiled
from calor.settings import Settings, choice, duration, number
from calor.units import format_duration

MOST_READINGS = 256


class NoFilter(Settings):
    """No filter: the law sees each reading as it was converted."""

    kind: Literal["none"] = choice("none", "Filter", "The law sees each reading as it was converted.")


class MeanFilter(Settings):
    """Mean of the last readings."""

    kind: Literal["mean"] = choice("mean", "Filter", "Mean of the last readings.", words={"mean": "Mean"})
    readings: int = number(8, "Readings", "How many of the last readings are averaged.", "integer", 2, MOST_READINGS)


class ExponentialFilter(Settings):
    """First-order lag: each reading moves the value a share of the way."""

    kind: Literal["exponential"] = choice(
        "exponential",
        "Filter",
        "Each reading moves the value a share of the way.",
        words={"exponential": "Exponential"},
    )
    time_constant_s: float = duration(5.0, "Filter lag", "After this long 63 % of a step has come through.", 0.001, 1e5)


class MedianFilter(Settings):
    """Median of the last readings: single spikes do not come through."""

    kind: Literal["median"] = choice(
        "median",
        "Filter",
        "The middle one of the last readings; spikes do not come through.",
        words={"median": "Median"},
    )
    readings: int = number(3, "Readings", "How many; an odd number, 3 or 5 are usual.", "integer", 3, 15)

    @model_validator(mode="after")
    def _odd(self) -> Self:
        if self.readings % 2 == 0:
            raise ValueError(f"readings must be odd, so that one is in the middle (received {self.readings}); try 5")
        return self


AnyFilter = NoFilter | MeanFilter | ExponentialFilter | MedianFilter
Filter = Annotated[AnyFilter, Field(discriminator="kind")]
KINDS: dict[str, type[AnyFilter]] = {
    "none": NoFilter, "mean": MeanFilter, "exponential": ExponentialFilter, "median": MedianFilter
}  # fmt: skip
NONE, MEAN, EXPONENTIAL, MEDIAN = range(len(KINDS))


class FilterNumbers(NamedTuple):
    """The filter as the kernel sees it."""

    kind: int
    readings: int
    time_constant_s: float


def numbers(settings: AnyFilter) -> FilterNumbers:
    """The settings as plain numbers."""
    return FilterNumbers(
        list(KINDS).index(settings.kind),
        getattr(settings, "readings", 1),
        getattr(settings, "time_constant_s", 0.0),
    )


def memory_size(filter_: FilterNumbers) -> int:
    """How many numbers it remembers: how many readings there are, where the next goes, the readings."""
    return 2 + filter_.readings


@compiled
def step(filter_: FilterNumbers, memory: Column, celsius: float, dt_s: float) -> float:
    """The filtered value after one more reading, `dt_s` after the last. `memory` is all zeros at the start."""
    if filter_.kind == EXPONENTIAL:
        if memory[0] == 0.0:
            memory[0], memory[2] = 1.0, celsius
        else:
            memory[2] += (celsius - memory[2]) * dt_s / (filter_.time_constant_s + dt_s)
        return float(memory[2])
    held = min(int(memory[0]) + 1, filter_.readings)
    at = int(memory[1])
    memory[2 + at] = celsius
    memory[0] = held
    memory[1] = (at + 1) % filter_.readings
    if filter_.kind == MEAN:
        total = 0.0
        for k in range(held):
            total += memory[2 + k]
        return total / held
    # the middle one of those there are: as many are above as below it
    for k in range(held):
        below = 0
        for j in range(held):
            if memory[2 + j] < memory[2 + k] or (memory[2 + j] == memory[2 + k] and j < k):
                below += 1
        if below == held // 2:
            return float(memory[2 + k])
    return celsius


def delay_s(settings: AnyFilter, period_s: float) -> float:
    """How much later a slow change comes through, s, where a reading is taken every `period_s`."""
    if isinstance(settings, ExponentialFilter):
        return settings.time_constant_s
    if isinstance(settings, MeanFilter | MedianFilter):
        return 0.5 * (settings.readings - 1) * period_s
    return 0.0


def noise_factor(settings: AnyFilter, period_s: float) -> float:
    """What share of white noise is left of its standard deviation; for the median that of Gaussian noise, about."""
    if isinstance(settings, MeanFilter):
        return float(settings.readings**-0.5)
    if isinstance(settings, ExponentialFilter):
        share = period_s / (settings.time_constant_s + period_s)
        return float((share / (2.0 - share)) ** 0.5)
    if isinstance(settings, MedianFilter):
        return float((np.pi / 2.0 / (settings.readings + np.pi / 2.0 - 1.0)) ** 0.5)
    return 1.0


def step_response(settings: AnyFilter, period_s: float, span_s: float) -> tuple[Column, Column]:
    """(times s, share of a step that has come through) at the readings after a step at time 0, full before it."""
    plain = numbers(settings)
    before = max(plain.readings, 1)
    count = max(int(span_s / period_s) + 1, 2)
    if plain.kind == NONE:
        return period_s * np.arange(count, dtype=np.float64), np.ones(count)
    memory = np.zeros(memory_size(plain))
    for _ in range(before):
        step(plain, memory, 0.0, period_s)
    return period_s * np.arange(count, dtype=np.float64), np.array(
        [step(plain, memory, 1.0, period_s) for _ in range(count)]
    )


def consequence(settings: AnyFilter, period_s: float) -> str:
    """What it does to the loop, in one line."""
    if isinstance(settings, NoFilter):
        return "No filter, no delay."
    left = noise_factor(settings, period_s)
    late = delay_s(settings, period_s)
    return f"Delays the loop by {format_duration(late)}, leaves {left * 100.0:.0f} % of the noise."
