"""Heat and cool: one demand from −1 to 1 split over two outputs, with a dead zone or an overlap between them.

Heating gets what the demand is above half the dead zone, cooling what it is below; a dead zone below 0 is an overlap,
in which both give a little. Cooling may be stronger or weaker than heating: its share is scaled by a ratio of gains.
Source: common practice (split range control; Åström & Hägglund, Advanced PID Control, 2006, section 12.6).
"""

from __future__ import annotations

from typing import NamedTuple

from calor.compiled import compiled


class Split(NamedTuple):
    """The split as the kernel sees it."""

    used: bool
    half_zone: float
    cool_ratio: float
    heat_high: float
    cool_high: float


NO_SPLIT = Split(False, 0.0, 1.0, 1.0, 1.0)


def lowest(split: Split) -> float:
    """The demand at which cooling is at its most."""
    return -(split.cool_high / split.cool_ratio + split.half_zone)


def highest(split: Split) -> float:
    """The demand at which heating is at its most."""
    return split.heat_high + split.half_zone


@compiled
def demand_for(split: Split, hand: float) -> float:
    """The demand that gives what is set by hand, above 0 to heating and below 0 to cooling, each at most its most."""
    if hand > 0.0:
        return min(hand, split.heat_high) + split.half_zone
    if hand < 0.0:
        return -(min(-hand, split.cool_high) / split.cool_ratio + split.half_zone)
    return hand


@compiled
def by_hand(split: Split, hand: float) -> tuple[float, float]:
    """(heating, cooling) as set by hand: no zone and no ratio is between the hand and the output."""
    return min(max(hand, 0.0), split.heat_high), min(max(-hand, 0.0), split.cool_high)


@compiled
def heat_and_cool(split: Split, demand: float) -> tuple[float, float]:
    """(heating, cooling), each 0 to its most."""
    heat = min(max(demand - split.half_zone, 0.0), split.heat_high)
    cool = min(max((-demand - split.half_zone) * split.cool_ratio, 0.0), split.cool_high)
    return heat, cool


def limits_problem(action: str, output_low: float, output_high: float) -> str:
    """What of a law's output limits cannot be, and what would do; empty where they can."""
    if output_low >= output_high:
        return f"output_low ({output_low:g}) must be below output_high ({output_high:g}); swap or widen them"
    if action == "heat_cool" and output_low != 0.0:
        return (
            f"output_low ({output_low:g}) must be 0 where the law heats and cools: cooling has its own limit,"
            " cool_output_high"
        )
    return ""
