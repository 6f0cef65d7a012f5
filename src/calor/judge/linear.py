"""The loop as a linear system: frequency response, and the gain at which it oscillates.

The load is taken at its working point; dead time, probe and half a control step and half a window of waiting
are delays. Source: Nyquist's criterion and the phase-crossover gain, any control textbook.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import numpy.typing as npt

from calor.design.model import Design
from calor.drive.time_proportional import TimeProportional
from calor.law.pid import Pid
from calor.load import registry as loads
from calor.load.first_order import FirstOrder
from calor.load.integrating import Integrating
from calor.load.lump import STEFAN_BOLTZMANN, Lump
from calor.load.second_order import SecondOrder
from calor.load.state import LoadState, Surroundings
from calor.sense import filters
from calor.sense.filters import ExponentialFilter
from calor.units import ABSOLUTE_ZERO_CELSIUS

Complex = npt.NDArray[Any]


def waiting_s(design: Design) -> float:
    """Dead time of the whole loop beside its lags: the load's, half a step, half a window, the filter's."""
    wait_s = design.load.dead_time_s + 0.5 * design.law.period_s
    if isinstance(design.drive, TimeProportional):
        wait_s += 0.5 * design.drive.window_s
    if not isinstance(design.probe.filter, ExponentialFilter):
        wait_s += filters.delay_s(design.probe.filter, design.law.period_s)
    return float(wait_s)


def load_response(design: Design, omega: npt.NDArray[np.float64]) -> Complex:
    """°C per unit of output at angular frequency `omega` (1/s), from switch to reading, without delays."""
    s = 1j * omega
    load = design.load
    if isinstance(load, FirstOrder):
        response: Complex = load.rise_celsius / (load.time_constant_s * s + 1.0)
    elif isinstance(load, SecondOrder):
        response = load.rise_celsius / ((load.time_constant_s * s + 1.0) * (load.second_time_constant_s * s + 1.0))
    elif isinstance(load, Integrating):
        response = load.rate_celsius_per_s / s
    elif isinstance(load, Lump):
        heat, loss, at_celsius = float(load.heater_watt), load.loss_w_per_k, design.setpoint.celsius
        if load.fan_w_per_k:  # the fan's own effect at the setpoint, half on
            flow = 0.5**load.fan_exponent
            loss += load.fan_w_per_k * flow
            heat -= load.fan_w_per_k * load.fan_exponent * flow / 0.5 * (at_celsius - load.ambient_celsius)
        if load.radiating_m2:
            loss += 4.0 * STEFAN_BOLTZMANN * load.radiating_m2 * (at_celsius - ABSOLUTE_ZERO_CELSIUS) ** 3
        response = heat / (load.heat_capacity_j_per_k * s + loss)
    else:
        response = _network_response(design, s)
    response = response / (design.probe.time_constant_s * s + 1.0)
    if isinstance(design.probe.filter, ExponentialFilter):
        response = response / (design.probe.filter.time_constant_s * s + 1.0)
    return np.asarray(response)


def _network_response(design: Design, s: Complex) -> Complex:
    """Of a load of several parts: its slopes, linear around the state in which it holds the setpoint."""
    load = design.load
    module: Any = loads.KINDS[load.kind][1]
    plain, ambient = module.numbers(load), load.ambient_celsius
    first, second = (weights[0] for weights in design.output_weights())

    def slopes(place: npt.NDArray[np.float64], output: float) -> npt.NDArray[np.float64]:
        state, around = LoadState(place[0], place[1], place[2], 0.0), Surroundings(ambient, 0.0, 0.5, 0.0)
        both_slopes = module.slopes(plain, state, first * output, second * output, around)
        return np.array([both_slopes.celsius, both_slopes.source_celsius, both_slopes.store_celsius])

    def by_state(place: npt.NDArray[np.float64], output: float) -> npt.NDArray[np.float64]:
        steps = 1e-3 * np.eye(3)
        return np.column_stack([(slopes(place + d, output) - slopes(place - d, output)) / 2e-3 for d in steps])

    # the output that holds the setpoint: the first of some that comes to it, half where none does
    levels = np.linspace(0.0, 1.0, 51)
    away = [loads.settled_celsius(load, float(level), ambient) - design.setpoint.celsius for level in levels]
    crossings = np.flatnonzero(np.diff(np.sign(away)) != 0)
    output = max(float(levels[crossings[0]]) + 0.01, 0.05) if len(crossings) else 0.5
    place = np.full(3, design.setpoint.celsius)
    for _ in range(8):
        place = place - np.linalg.lstsq(by_state(place, output), slopes(place, output), rcond=None)[0]
    drive = (slopes(place, output + 1e-3) - slopes(place, output - 1e-3)) / 2e-3
    system = s[:, None, None] * np.eye(3) - by_state(place, output)
    return np.asarray(np.linalg.solve(system, np.broadcast_to(drive[:, None], (len(s), 3, 1)))[:, 0, 0])


def law_response(law: Pid, omega: npt.NDArray[np.float64]) -> Complex:
    """Demand per °C of error at angular frequency `omega`, divided by the gain."""
    s = 1j * omega
    shape: Complex = np.ones_like(s)
    if law.integral_time_s:
        shape = shape + 1.0 / (law.integral_time_s * s)
    if law.derivative_time_s:
        shape = shape + law.derivative_time_s * s / (law.derivative_time_s / law.derivative_filter * s + 1.0)
    return shape


def ultimate(design: Design) -> tuple[float, float] | None:
    """(gain per °C, period s) at which the loop with this law's times would just oscillate; None: never."""
    # imported here: it takes long to load, and the first run needs none of it
    from scipy.optimize import brentq  # type: ignore[import-untyped, unused-ignore]

    law = design.law
    if not isinstance(law, Pid):
        return None
    sign = -1.0 if law.action == "cool" else 1.0
    wait_s = waiting_s(design)

    def phase(log_omega: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
        omega = np.exp(log_omega)
        open_loop = sign * load_response(design, omega) * law_response(law, omega)
        angle: npt.NDArray[np.float64] = np.unwrap(np.angle(open_loop)) - omega * wait_s
        return angle

    grid = np.linspace(math.log(1e-6), math.log(100.0), 4000)
    angles = phase(grid)
    crossings = np.flatnonzero((angles[:-1] > -math.pi) & (angles[1:] <= -math.pi))
    if not len(crossings):
        return None
    first = int(crossings[0])
    wound = angles[first] - phase(grid[first : first + 1])[0]
    log_omega = brentq(
        lambda x: float(phase(np.array([x]))[0] + wound + math.pi), grid[first], grid[first + 1], xtol=1e-12
    )
    omega = np.array([math.exp(log_omega)])
    magnitude = float(np.abs(load_response(design, omega) * law_response(law, omega))[0])
    return 1.0 / magnitude, 2.0 * math.pi / float(omega[0])
