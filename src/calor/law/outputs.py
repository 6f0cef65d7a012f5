"""What a law asks of its outputs: up to four, each a share of full; and the lines that its picture is made of.

Most laws have one. Heating and cooling have two, a fan curve may have a second fan, stages have as many as they are.
"""

from __future__ import annotations

from typing import NamedTuple

from calor.compiled import compiled

MOST_OUTPUTS = 4


class Demands(NamedTuple):
    """The demand of each output, 0 to 1; outputs that are not there ask for nothing."""

    first: float
    second: float
    third: float
    fourth: float


class Inputs(NamedTuple):
    """What a law decides on, temperatures in °C. `hand` is the output set by hand, NaN in automatic; `tune` what is
    asked of self-tuning: nothing, to start or to stop (`autotune.NOTHING` and further)."""

    setpoint_celsius: float
    measured_celsius: float
    other_celsius: float
    hand: float
    fault: bool
    off: bool
    tune: int


class Outline(NamedTuple):
    """One line of a law's picture: `role` "going" away from rest, "back", or "second"; x in °C or s, y −1 to 1."""

    role: str
    x: list[float]
    y: list[float]


@compiled
def one(demand: float) -> Demands:
    """The demand of a law with one output."""
    return Demands(demand, 0.0, 0.0, 0.0)


@compiled
def every(demand: float) -> Demands:
    """The same demand for all outputs."""
    return Demands(demand, demand, demand, demand)


@compiled
def two(first: float, second: float) -> Demands:
    """The demands of a law with two outputs."""
    return Demands(first, second, 0.0, 0.0)
