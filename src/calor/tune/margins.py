"""How far a loop is from trouble: gain, phase and delay margin and Ms, from its sampled frequency response.

The law's response is that of its own difference equations: the integral is used a step after it has grown, the
derivative is on the measurement with its filter, a predictive law's model a step after its output. Source: K. J. Åström
and T. Hägglund, Advanced PID Control (2006), section 4.3 (Ms: largest distance 1/|1 + L|); Nyquist's criterion for
stability.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from calor.law import predictive
from calor.law.predictive import Predictive
from calor.tune.process import Complex, Process


@dataclass(frozen=True)
class Gains:
    """PID gains in standard form, per °C and of full output; above 0 whether it heats or cools."""

    gain_per_celsius: float
    integral_time_s: float
    derivative_time_s: float
    derivative_filter: float = 8.0


@dataclass(frozen=True)
class Margins:
    """Gain margin (a factor), phase margin (°), delay margin (s), Ms; infinite where nothing is met. Where it is not
    stable Ms is infinite, and the others are at most what they are at the limit."""

    is_stable: bool
    gain_margin: float
    phase_margin_deg: float
    delay_margin_s: float
    ms: float


def law_response(gains: Gains, omega: npt.NDArray[np.float64], period_s: float) -> Complex:
    """Demand per °C of error at angular frequencies `omega`, 1/s."""
    back = np.exp(-1j * omega * period_s)
    shape: Complex = np.ones_like(back)
    if gains.integral_time_s > 0.0:
        shape = shape + period_s / gains.integral_time_s * back / (1.0 - back)
    if gains.derivative_time_s > 0.0:
        lag_s = gains.derivative_time_s / gains.derivative_filter
        shape = shape + gains.derivative_time_s * (1.0 - back) / (lag_s + period_s - lag_s * back)
    return gains.gain_per_celsius * shape


def predictive_response(law: Predictive, omega: npt.NDArray[np.float64]) -> Complex:
    """Demand of a predictive law per °C of error at angular frequencies `omega`, 1/s, on heating's side."""
    back = np.exp(-1j * omega * law.period_s)
    stays = math.exp(-law.period_s / law.time_constant_s)
    model = (1.0 - stays) * back / (1.0 - stays * back)
    gain = predictive.gain_per_celsius(law)
    still_to_come = law.rise_celsius * model * (1.0 - back ** predictive.delay_steps(law))
    return np.asarray(gain / (1.0 - model + gain * still_to_come))


def margins_of(process: Process, law: Gains | Predictive) -> Margins:
    """The margins of a loop of a process and PID gains, or a predictive law, around the working point."""
    omega, loop = loop_response(process, law)
    has_integral = law.integral_time_s > 0.0 if isinstance(law, Gains) else True
    return margins_from(omega, loop, has_integral, process.integrates)


def loop_response(process: Process, law: Gains | Predictive) -> tuple[npt.NDArray[np.float64], Complex]:
    """(angular frequencies in 1/s, response) of the open loop: what Nyquist's picture shows."""
    omega = process.frequencies
    asks = law_response(law, omega, process.period_s) if isinstance(law, Gains) else predictive_response(law, omega)
    return omega, _sign(process) * process.frequency_response * asks


def _sign(process: Process) -> float:
    """1 where more output makes it warmer, −1 where it makes it colder."""
    if math.isfinite(process.rise_celsius):
        return -1.0 if process.rise_celsius < 0.0 else 1.0
    return -1.0 if float((process.early + process.late)[0]) < 0.0 else 1.0


def margins_from(
    omega: npt.NDArray[np.float64], loop: Complex, has_integral: bool, process_integrates: bool
) -> Margins:
    """The margins of a loop of which the response at `omega` (1/s, up to half the sampling) is given.

    It is stable where the way of 1 + L around 0 turns by a quarter for each integrator, and no further.
    """
    size, angle = np.abs(loop), np.unwrap(np.angle(loop))
    # the angle begins where the integrators put it: within half a turn of −90° for each
    begins = -0.5 * math.pi * (has_integral + process_integrates)
    angle = angle + 2.0 * math.pi * round((begins - angle[0]) / (2.0 * math.pi))
    around = np.unwrap(np.angle(1.0 + loop))
    turned = around[-1] - around[0]
    expected = -begins if size[0] > 1.0 else -float(np.angle(1.0 + loop[0]))
    is_stable = abs(turned - expected) < 0.5 * math.pi
    gain_margin = math.inf
    for level in range(1, 2 * int(abs(angle).max() / (2.0 * math.pi)) + 3, 2):
        for k in _crossings(angle + level * math.pi):
            share = _share(angle[k] + level * math.pi, angle[k + 1] + level * math.pi)
            at = math.exp(math.log(size[k]) + share * (math.log(size[k + 1]) - math.log(size[k])))
            if at > 0.0:
                gain_margin = min(gain_margin, 1.0 / at)
    phase_deg, delay_s = math.inf, math.inf
    log_size = np.log(np.maximum(size, 1e-300))
    for k in _crossings(log_size):
        share = _share(log_size[k], log_size[k + 1])
        at_angle = angle[k] + share * (angle[k + 1] - angle[k])
        at_omega = math.exp(math.log(omega[k]) + share * math.log(omega[k + 1] / omega[k]))
        left = math.remainder(at_angle + math.pi, 2.0 * math.pi)
        phase_deg = left * 180.0 / math.pi if abs(left) < abs(phase_deg) * math.pi / 180.0 else phase_deg
        delay_s = min(delay_s, (left if left >= 0.0 else left + 2.0 * math.pi) / at_omega)
    ms = float(1.0 / np.abs(1.0 + loop).min()) if is_stable else math.inf
    if not is_stable:
        gain_margin, phase_deg, delay_s = min(gain_margin, 1.0), min(phase_deg, 0.0), 0.0
    return Margins(is_stable, gain_margin, phase_deg, delay_s, ms)


def _crossings(values: npt.NDArray[np.float64]) -> npt.NDArray[np.int64]:
    """Where values go through 0: the index before each."""
    return np.flatnonzero(np.sign(values[:-1]) * np.sign(values[1:]) < 0.0)


def _share(before: float, after: float) -> float:
    return before / (before - after)


def ultimate(process: Process) -> tuple[float, float] | None:
    """(gain per °C, period s) at which a proportional loop just oscillates; None: it never does below half sampling."""
    omega = process.frequencies
    response = _sign(process) * process.frequency_response
    angle = np.unwrap(np.angle(response))
    begins = -0.5 * math.pi if process.integrates else 0.0
    angle = angle + 2.0 * math.pi * round((begins - angle[0]) / (2.0 * math.pi)) + math.pi
    found = _crossings(angle)
    if not len(found):
        return None
    k = int(found[0])
    share = _share(float(angle[k]), float(angle[k + 1]))
    at = math.exp(math.log(omega[k]) + share * math.log(omega[k + 1] / omega[k]))
    size = float(np.abs(process.response(np.array([at])))[0])
    return 1.0 / size, 2.0 * math.pi / at
