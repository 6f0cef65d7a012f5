"""Load and probe from one change of heat or surroundings to the next."""

from __future__ import annotations

import numpy as np

from calor.compiled import compiled
from calor.load import registry as loads
from calor.load.registry import LoadNumbers
from calor.load.state import LoadState, Surroundings
from calor.sense import lag


@compiled
def advance(
    load: LoadNumbers,
    state: LoadState,
    lag_s: float,
    probe_celsius: float,
    level: float,
    second: float,
    around: Surroundings,
    dt_s: float,
) -> tuple[LoadState, float]:
    """Load and probe after `dt_s` in which nothing else changes, in steps the load is accurate over."""
    parts = max(1, int(np.ceil(dt_s / load.step_s)))
    part_s = dt_s / parts
    for _ in range(parts):
        start, start_slope = state.celsius, loads.slope(load, state, level, second, around)
        state = loads.step(load, state, level, second, around, part_s)
        end_slope = loads.slope(load, state, level, second, around)
        probe_celsius = lag.step(lag_s, probe_celsius, start, start_slope, state.celsius, end_slope, part_s)
    return state, probe_celsius
