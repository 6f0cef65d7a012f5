"""How long a design's own load takes to its target at full output, and what holds it there: worked out on the load.

So that what a formula of one lump leaves out is in it: radiation, evaporation, melting and boiling, heat that is always
there, the element that is warmed first.
"""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np

from calor.load import registry as loads
from calor.load.registry import AnyLoad
from calor.loop.response import Reading, respond

ROWS = 2_000
LONGEST_S = 3e7
SURE = 1e-3
"""A target this far (°C) below where it settles is reached late, but it is."""


class Place(NamedTuple):
    """From where to where, in what ambient (°C), in air of what relative humidity."""

    start_celsius: float
    target_celsius: float
    ambient_celsius: float
    humidity: float = 0.6


def with_watt(load: AnyLoad, watt: float) -> AnyLoad:
    """The load with another heater."""
    return load.model_copy(update={"heater_watt": watt})  # type: ignore[attr-defined, no-any-return]


def warm_up_s(load: AnyLoad, place: Place) -> float:
    """Time from start to target at full output, dead time and all, s; infinite where it is never reached."""
    settles = loads.settled_celsius(load, 1.0, place.ambient_celsius)
    if place.target_celsius > settles - SURE and place.target_celsius > place.start_celsius:
        return math.inf
    capacity = loads.heat_capacity_j_per_k(load) or 1.0
    watt = max(abs(getattr(load, "heater_watt", 1.0)), 1e-6)
    horizon_s = max(2.0 * capacity * abs(place.target_celsius - place.start_celsius) / watt, 10.0) + load.dead_time_s
    while horizon_s < LONGEST_S:
        time_s = np.linspace(0.0, horizon_s, ROWS)
        celsius = _answer(load, place, time_s)
        rows = np.flatnonzero(celsius >= place.target_celsius)
        if len(rows) and rows[0] > 0:
            row = int(rows[0])
            return float(np.interp(place.target_celsius, celsius[row - 1 : row + 1], time_s[row - 1 : row + 1]))
        if len(rows):
            return 0.0
        horizon_s *= 3.0
    return math.inf


def _answer(load: AnyLoad, place: Place, time_s: Any) -> Any:
    out = np.empty(len(time_s))
    edges, full = np.array([-1e18, 0.0]), np.array([0.0, 1.0])
    respond(
        loads.numbers(load), loads.start(place.start_celsius, load), Reading(0.0, 0.0), place.humidity, time_s,
        np.full(len(time_s), place.ambient_celsius), edges, full, np.zeros(2), out,
    )  # fmt: skip
    return out


def watt_for(load: AnyLoad, place: Place, time_s: float) -> float:
    """Heater that reaches the target in so long, W; infinite where none up to a hundred times the load's own does."""
    low, high = 0.0, max(abs(float(getattr(load, "heater_watt", 0.0))), 1.0)
    while warm_up_s(with_watt(load, high), place) > time_s:
        low, high = high, 2.0 * high
        if high > 1e6:
            return math.inf
    for _ in range(40):
        middle = 0.5 * (low + high)
        low, high = (middle, high) if warm_up_s(with_watt(load, middle), place) > time_s else (low, middle)
    return high


def _settles_celsius(load: AnyLoad, watt: float, place: Place) -> float:
    return loads.settled_celsius(with_watt(load, watt), 1.0, place.ambient_celsius)


def holding_watt(load: AnyLoad, place: Place) -> float:
    """Power of the heater that holds the target, W; 0 where it holds itself."""
    if _settles_celsius(load, 0.0, place) >= place.target_celsius:
        return 0.0
    low, high = 0.0, 1.0
    while _settles_celsius(load, high, place) < place.target_celsius:
        low, high = high, 4.0 * high
        if high > 1e7:
            return math.inf
    for _ in range(60):
        middle = 0.5 * (low + high)
        low, high = (middle, high) if _settles_celsius(load, middle, place) < place.target_celsius else (low, middle)
    return high
