"""A whole control step of a chamber and the probe in it as one matrix.

While its conductances stay, the two are a linear network: the answers to each part of what is given add up, so that
many small steps of each, worked out once, make one large one that is as accurate. Source: superposition, any textbook
of linear systems.
"""

from __future__ import annotations

import numpy as np

from calor.compiled import Table, compiled
from calor.load import chamber
from calor.load.chamber import ChamberNumbers
from calor.load.state import LoadState, Surroundings, mean_slope, moved
from calor.sense import lag

SHAPE = (4, 8)


@compiled
def fill(
    matrix: Table, load: ChamberNumbers, added_j_per_k: float, extra_w_per_k: float, lag_s: float, dt_s: float
) -> None:
    """What `dt_s` does to the chamber and to a probe in its air with a lag, written into a matrix (4×8): all of it is
    linear, so many small steps make one large one.

    Rows: air, heater, contents, probe after it. Columns: these four before it, output level, second output, ambient,
    and steady heat (W); each is the answer to a unit of it alone.
    """
    loss = load.loss_w_per_k + extra_w_per_k
    rate = (load.heater_to_air_w_per_k + load.air_to_contents_w_per_k + loss) / load.air_j_per_k
    rate = max(
        rate, load.heater_to_air_w_per_k / load.heater_j_per_k, load.air_to_contents_w_per_k / load.contents_j_per_k
    )
    parts = int(np.ceil(2.0 * rate * dt_s / chamber.STEP_PER_TIME_CONSTANT)) + 8
    part_s = dt_s / parts
    for column in range(8):
        level, second = 1.0 if column == 4 else 0.0, 1.0 if column == 5 else 0.0
        alone = ChamberNumbers(
            load.heater_watt, load.heater_j_per_k, load.heater_to_air_w_per_k, load.air_j_per_k,
            load.air_to_contents_w_per_k, load.contents_j_per_k, loss, 0.0, 0.0, 1.0, load.second_watt, 0.0,
        )  # fmt: skip
        around = Surroundings(1.0 if column == 6 else 0.0, 0.0, 0.0, 1.0 if column == 7 else 0.0)
        state = LoadState(
            1.0 if column == 0 else 0.0, 1.0 if column == 1 else 0.0, 1.0 if column == 2 else 0.0, added_j_per_k
        )
        probe_celsius = 1.0 if column == 3 else 0.0
        k1 = chamber.slopes(alone, state, level, second, around)
        for _ in range(parts):
            begin_celsius, begin_slope = state.celsius, k1.celsius
            k2 = chamber.slopes(alone, moved(state, k1, 0.5 * part_s), level, second, around)
            k3 = chamber.slopes(alone, moved(state, k2, 0.5 * part_s), level, second, around)
            k4 = chamber.slopes(alone, moved(state, k3, part_s), level, second, around)
            state = moved(state, mean_slope(k1, k2, k3, k4), part_s)
            k1 = chamber.slopes(alone, state, level, second, around)
            probe_celsius = lag.step(
                lag_s, probe_celsius, begin_celsius, begin_slope, state.celsius, k1.celsius, part_s
            )
        matrix[0, column], matrix[1, column], matrix[2, column] = (
            state.celsius, state.source_celsius, state.store_celsius
        )  # fmt: skip
        matrix[3, column] = probe_celsius


@compiled
def shift(
    matrix: Table, load: ChamberNumbers, level: float, second: float, around: Surroundings
) -> tuple[LoadState, float]:
    """What outputs, ambient and steady heat add to the load's temperatures and the probe's in each such step, °C."""
    m, outside, heat = matrix, around.ambient_celsius, load.always_watt + around.heat_watt
    by = LoadState(
        m[0, 4] * level + m[0, 5] * second + m[0, 6] * outside + m[0, 7] * heat,
        m[1, 4] * level + m[1, 5] * second + m[1, 6] * outside + m[1, 7] * heat,
        m[2, 4] * level + m[2, 5] * second + m[2, 6] * outside + m[2, 7] * heat,
        0.0,
    )
    return by, m[3, 4] * level + m[3, 5] * second + m[3, 6] * outside + m[3, 7] * heat


@compiled
def step(
    matrix: Table, state: LoadState, probe_celsius: float, shift_by: LoadState, probe_shift_celsius: float
) -> tuple[LoadState, float]:
    """The load and the probe after the step that `matrix` stands for."""
    air, heater, contents, m = state.celsius, state.source_celsius, state.store_celsius, matrix
    # sums in pairs: a processor works out both at once
    after = LoadState(
        (m[0, 0] * air + m[0, 1] * heater) + (m[0, 2] * contents + shift_by.celsius),
        (m[1, 0] * air + m[1, 1] * heater) + (m[1, 2] * contents + shift_by.source_celsius),
        (m[2, 0] * air + m[2, 1] * heater) + (m[2, 2] * contents + shift_by.store_celsius),
        state.added_j_per_k,
    )
    by_load = (m[3, 0] * air + m[3, 1] * heater) + (m[3, 2] * contents + probe_shift_celsius)
    return after, by_load + m[3, 3] * probe_celsius
