"""What every load has: three temperatures at most, and what it stands in."""

from __future__ import annotations

from typing import NamedTuple

from calor.compiled import compiled


class LoadState(NamedTuple):
    """Temperatures in °C, or how fast they change in °C/s.

    `celsius` is the place where the probe sits: air, liquid, body, cold side. `source_celsius` is what heats or cools
    it: element, hot side, the first of two lags. `store_celsius` is what hangs on it: contents, the plate between two
    stages; of a liquid its enthalpy over its heat capacity. `added_j_per_k` is the heat capacity of what was put in
    since the start, less what has boiled away.
    """

    celsius: float
    source_celsius: float
    store_celsius: float
    added_j_per_k: float


class Surroundings(NamedTuple):
    """What the load stands in: ambient (°C), a loss beside its own (W/K), the air's relative humidity (0 to 1), and
    heat from outside (W)."""

    ambient_celsius: float
    extra_w_per_k: float
    humidity: float
    heat_watt: float


@compiled
def mixed(celsius: float, j_per_k: float, added_j_per_k: float, added_celsius: float) -> float:
    """The temperature of two heat capacities put together."""
    return (celsius * j_per_k + added_celsius * added_j_per_k) / (j_per_k + added_j_per_k)


@compiled
def moved(state: LoadState, by: LoadState, dt_s: float) -> LoadState:
    """The temperatures after `dt_s` at a steady slope."""
    return LoadState(
        state.celsius + dt_s * by.celsius,
        state.source_celsius + dt_s * by.source_celsius,
        state.store_celsius + dt_s * by.store_celsius,
        state.added_j_per_k,
    )


@compiled
def mean_slope(k1: LoadState, k2: LoadState, k3: LoadState, k4: LoadState) -> LoadState:
    """The mean of four slopes as Runge and Kutta weigh them."""
    sixth = 1.0 / 6.0
    return LoadState(
        sixth * (k1.celsius + 2.0 * (k2.celsius + k3.celsius) + k4.celsius),
        sixth * (k1.source_celsius + 2.0 * (k2.source_celsius + k3.source_celsius) + k4.source_celsius),
        sixth * (k1.store_celsius + 2.0 * (k2.store_celsius + k3.store_celsius) + k4.store_celsius),
        0.0,
    )
