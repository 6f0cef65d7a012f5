"""A relay test on the simulated load: what it would take and how far it would swing, then what was found.

The output is switched between two levels about the one that holds the working temperature, by the reading and a
hysteresis, through the design's own probe, filter and drive. Source: K. J. Åström and T. Hägglund, "Automatic tuning of
simple regulators", Automatica 20 (1984); the exact waveform of first order with dead time follows from its solution.
"""

from __future__ import annotations

import ctypes
import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import numpy.typing as npt

from calor import loop
from calor.design.model import Design
from calor.design.trial import Trial
from calor.errors import CalorError
from calor.loop import answer_row
from calor.loop import seat as seats
from calor.loop.trace import Trace
from calor.sense import reading
from calor.sense import registry as probes
from calor.sense.checks import NO_FAULT
from calor.tune.margins import ultimate
from calor.tune.process import Process, process_of, proportional
from calor.tune.waveform import exact_first_order, has_shape

CYCLES, SETTLING = 3, 2
"""Periods that are measured, and those before that are left to settle."""
LONGER = 4
MOST_STEPS = 2_000_000


@dataclass(frozen=True)
class RelayTest:
    """What is to be done: half the distance of the two outputs, hysteresis (°C), and how far it may swing (°C)."""

    amplitude: float
    hysteresis_celsius: float
    limit_celsius: float
    middle: float
    expected_s: float
    expected_swing_celsius: float


@dataclass(frozen=True)
class RelayFound:
    """What came of it: swing (peak to peak, °C), time it took, and gain and period at the limit by the describing
    function, which is off by `error_share` of the true gain.

    `time_constant_s` and `dead_time_s` are of first order, solved from the exact waveform; None where it has another
    shape. `trace` is the run up to the last cycle.
    """

    took_s: float
    swing_celsius: float
    period_s: float
    ultimate_gain_per_celsius: float
    ultimate_period_s: float
    true_gain_per_celsius: float | None
    error_share: float | None
    time_constant_s: float | None
    dead_time_s: float | None
    trace: Trace


def default_hysteresis_celsius(design: Design) -> float:
    """Above the reading's noise and its resolution, so that neither switches it."""
    noise = 3.0 * float(design.probe.noise_celsius)
    at = float(design.setpoint.celsius)
    plain = probes.numbers(design.probe)
    count = 0.0
    if probes.has_converter(design.probe):
        near = (
            reading.exact_counts.python(plain, at, 0)
            if hasattr(reading.exact_counts, "python")
            else reading.exact_counts(plain, at, 0)
        )
        beside = reading.exact_counts(plain, at + 0.1, 0)
        count = 0.1 / abs(beside - near) if beside != near else 0.0
    return float(max(noise, 1.5 * count, 1e-4))


def planned(
    design: Design, amplitude: float | None = None, hysteresis_celsius: float | None = None,
    limit_celsius: float | None = None,
) -> RelayTest:  # fmt: skip
    """A relay test at the design's setpoint, with what it is expected to take.

    The amplitude is chosen so that it swings by no more than the limit, four bands where it is left out. Raises
    CalorError where it cannot be done.
    """
    process = process_of(design)
    lowest = -1.0 if design.law.action == "heat_cool" else 0.0
    room = min(process.at.output - lowest, 1.0 - process.at.output)
    if not room > 0.0:
        raise CalorError(
            "relay test",
            "the output that holds the setpoint is at its end, so that it cannot be switched about it",
            f"{process.at.output:.3g}",
            "choose a working point in between",
        )
    epsilon = default_hysteresis_celsius(design) if hysteresis_celsius is None else hysteresis_celsius
    limit = 4.0 * design.limits.band_celsius if limit_celsius is None else limit_celsius
    if 2.0 * epsilon >= limit:
        raise CalorError(
            "relay test: hysteresis", f"is as wide as it may swing ({limit:.3g} °C), to stand above the noise",
            f"{epsilon:.3g} °C", "less noise or a filter, a finer converter, or a wider limit",
        )  # fmt: skip
    d = room if amplitude is None else amplitude
    if d > room + 1e-9:
        raise CalorError(
            "relay test: amplitude",
            f"may be at most {room:.3g} about the output {process.at.output:.3g} that holds the setpoint",
            f"{d:.3g}",
        )
    expected = _expected(process, d, epsilon)
    if expected is None:
        raise CalorError(
            "relay test", "the load does not come to oscillate", "", "take the step test, or a smaller hysteresis"
        )
    if amplitude is None:
        for _ in range(6):
            if expected[1] <= limit:
                break
            d *= max(limit / expected[1], 0.1) * 0.97
            again = _expected(process, d, epsilon)
            if again is None:
                break
            expected = again
    if expected[1] <= 2.2 * epsilon and d >= room - 1e-9:
        raise CalorError(
            "relay test: hysteresis",
            f"is as wide as the load swings ({expected[1]:.3g} °C)",
            f"{epsilon:.3g} °C",
            "less noise or a filter, a finer converter, or the step test",
        )
    return RelayTest(d, epsilon, limit, process.at.output, expected[0], expected[1])


def _expected(process: Process, d: float, epsilon: float) -> tuple[float, float] | None:
    """(duration in s, swing in °C) of a relay on the linear process; None where it never comes to cycles."""
    limit = ultimate(process)
    if limit is None:
        return None
    sign = -1.0 if (process.late + process.early)[0] < 0.0 else 1.0
    guess_s = limit[1] * (SETTLING + CYCLES) * 4.0
    if not process.integrates:
        # a wide hysteresis is crossed at the load's own pace
        guess_s = max(guess_s, 8.0 * process.time_constant_s)
    steps = min(int(guess_s / process.period_s) + 10, MOST_STEPS)
    x = np.zeros(len(process.late))
    queue = [0.0] * (process.delay_steps + 2)
    high, ups, y = True, [], np.zeros(steps)
    for k in range(steps):
        y[k] = sign * x[-1]
        if high and y[k] > epsilon:
            high = False
        elif not high and y[k] < -epsilon:
            high = True
            ups.append(k)
            if len(ups) > SETTLING + CYCLES:
                break
        queue.append(d if high else -d)
        x = (
            process.transition @ x
            + process.late * queue[-1 - process.delay_steps]
            + process.early * queue[-2 - process.delay_steps]
        )
    if len(ups) < SETTLING + 2:
        return None
    begin, end = ups[-2], ups[-1]
    per_s = (end - begin) * process.period_s
    duration_s = ups[0] * process.period_s + (SETTLING + CYCLES) * per_s
    return duration_s, float(np.ptp(y[begin:end]))


class _Relay:
    """The relay in the law's seat: reads as the design's firmware does, and switches."""

    def __init__(self, design: Design, test: RelayTest) -> None:
        self.test, self.sign = test, -1.0 if design.law.action == "cool" else 1.0
        self.setpoint = float(design.setpoint.celsius)
        self.probe = probes.numbers(design.probe)
        self.memory = reading.new_memory(self.probe)
        self.period_s = float(design.law.period_s)
        self.high, self.step_number, self.beyond_s = True, 0, math.inf
        self.measured = self.setpoint
        self.ups: list[int] = []
        self.width = answer_row.width(len(design.outputs))
        self.both = design.law.action == "heat_cool"

    def answer(self, given: Any, row: Any) -> None:
        """One control step: the reading, and what is asked for."""
        celsius, fault = reading.step(self.probe, self.memory, float(given[seats.COUNTS]), self.period_s)
        row[:] = 0.0
        row[answer_row.SETPOINT] = self.setpoint
        if fault == NO_FAULT:
            self.measured = float(celsius)
            away = self.sign * (self.measured - self.setpoint)
            if self.high and away > self.test.hysteresis_celsius:
                self.high = False
            elif not self.high and away < -self.test.hysteresis_celsius:
                self.high = True
                self.ups.append(self.step_number)
            if abs(away) > self.test.limit_celsius and self.ups and self.beyond_s == math.inf:
                self.beyond_s = self.step_number * self.period_s
        row[answer_row.MEASURED] = self.measured
        output = self.test.middle + (self.test.amplitude if self.high else -self.test.amplitude)
        if self.beyond_s < math.inf:
            output = 0.0 if not self.both else self.test.middle
        row[answer_row.demand_at(0)] = max(output, 0.0)
        if self.both:
            row[answer_row.demand_at(1)] = max(-output, 0.0)
        self.step_number += 1


def carried_out(design: Design, test: RelayTest) -> RelayFound:
    """The relay test made on the simulated load. Raises CalorError where it comes to no cycles, or beyond its limit."""
    design = proportional(design)
    span_s = 1.3 * test.expected_s
    for _ in range(LONGER):
        relay = _Relay(design, test)
        trace = _run(design, relay, span_s)
        if relay.beyond_s < math.inf:
            raise CalorError(
                "relay test", f"went beyond its limit of {test.limit_celsius:.3g} °C from the setpoint after"
                f" {relay.beyond_s:.0f} s, and was ended", "", "a smaller amplitude, or a wider limit",
            )  # fmt: skip
        if len(relay.ups) > SETTLING + CYCLES:
            return _found(design, test, relay, trace)
        span_s *= 2.0
    if not relay.ups:
        raise CalorError(
            "relay test",
            f"the relay never switched back within {span_s / 2.0:.0f} s",
            "",
            "a larger amplitude, less hysteresis, or a working point within reach",
        )
    raise CalorError(
        "relay test",
        f"came to {len(relay.ups)} cycles within {span_s / 2.0:.0f} s",
        "",
        "a larger amplitude, or less hysteresis",
    )


def _run(design: Design, relay: _Relay, span_s: float) -> Trace:
    trial = Trial(name="Relay test", span_s=span_s, start_celsius=float(design.setpoint.celsius), seed=1)
    whole = answer_row.width(4)

    @ctypes.CFUNCTYPE(None, ctypes.c_void_p, ctypes.c_void_p, ctypes.c_void_p)  # type: ignore[untyped-decorator, unused-ignore]
    def step(state: Any, given: Any, row: Any) -> None:
        del state
        seen = np.ctypeslib.as_array(ctypes.cast(given, ctypes.POINTER(ctypes.c_float)), (len(seats.GIVEN),))
        answer = np.ctypeslib.as_array(ctypes.cast(row, ctypes.POINTER(ctypes.c_float)), (whole,))
        relay.answer(seen, answer)

    address = ctypes.cast(step, ctypes.c_void_p).value or 0
    return loop.run(design, trial, seat=seats.seat_of(address, 0))


def _found(design: Design, test: RelayTest, relay: _Relay, trace: Trace) -> RelayFound:
    ups = relay.ups[: SETTLING + CYCLES + 1]
    begin, end = ups[-1 - CYCLES], ups[-1]
    per_s = (end - begin) * relay.period_s / CYCLES
    celsius = trace.measured_celsius[begin:end]
    swing = float(
        np.mean(
            [np.ptp(trace.measured_celsius[a:b]) for a, b in zip(ups[-1 - CYCLES : -1], ups[-CYCLES:], strict=True)]
        )
    )
    a, d, epsilon = 0.5 * swing, test.amplitude, test.hysteresis_celsius
    gain = 4.0 * d / (math.pi * math.sqrt(max(a * a - epsilon * epsilon, 1e-12)))
    process = process_of(design)
    limit = ultimate(process)
    true_gain = None if limit is None else limit[0]
    solved = None if process.integrates else exact_first_order(abs(process.rise_celsius), d, a, epsilon, per_s)
    if solved is not None:
        top = abs(process.rise_celsius) * d
        if not has_shape(solved, top, epsilon, relay.sign * celsius, relay.period_s, per_s):
            solved = None
    kept = trace.time_s <= end * relay.period_s
    return RelayFound(
        end * relay.period_s, swing, per_s, gain, per_s, true_gain,
        None if true_gain is None else gain / true_gain - 1.0,
        None if solved is None else solved[0], None if solved is None else solved[1], _cut(trace, kept),
    )  # fmt: skip


def _cut(trace: Trace, kept: npt.NDArray[np.bool_]) -> Trace:
    """The rows of a trace that are kept, from its start on."""
    count = int(kept.sum())
    columns = {
        name: getattr(trace, name)[:count]
        for name in (
            "time_s",
            "true_celsius",
            "probe_celsius",
            "counts",
            "measured_celsius",
            "setpoint_celsius",
            "demand",
            "delivered",
            "flags",
            "alarms",
        )
        if getattr(trace, name) is not None and len(getattr(trace, name)) == trace.steps
    }
    return replace(trace, outputs=(), power_watt=None, span_s=float(trace.time_s[count - 1]), **columns)
