"""A step test on the simulated load: from rest at the working temperature the output is put to another, and left.

How far it will swing and how long it takes is said beforehand; a model is fitted to what was read. Source: common
practice (process reaction curve).
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from calor import loop
from calor.design.model import Design
from calor.design.trial import Trial
from calor.errors import CalorError
from calor.identify.fit import Asked, fit_order
from calor.identify.observed import observe
from calor.law.pid import Pid
from calor.loop.trace import Flag, Trace
from calor.tune.model import Kind, Model, of_load, step_span_s
from calor.tune.process import Process, process_of, proportional

REST_TIME_CONSTANTS, MOST_REST_STEPS = 5.0, 500_000
BEFORE_SHARE = 0.05
"""How much of the record lies before the step."""
ORDERS: dict[Kind, str] = {"first_order": "1", "second_order": "2", "integrating": "integrating"}


@dataclass(frozen=True)
class StepTest:
    """What is to be done: the output before and after, and what it is expected to take."""

    before: float
    after: float
    limit_celsius: float
    expected_s: float
    expected_swing_celsius: float

    @property
    def size(self) -> float:
        """By how much the output changes."""
        return self.after - self.before


@dataclass(frozen=True)
class StepFound:
    """What came of it: how far it swung, the run from a little before the step on, and the model fitted to it."""

    took_s: float
    swing_celsius: float
    model: Model
    trace: Trace


def planned(design: Design, size: float | None = None, limit_celsius: float | None = None) -> StepTest:
    """A step test at the design's setpoint. Its size is chosen so that it swings by no more than the limit, four bands
    where it is left out. Raises CalorError where it cannot be done.
    """
    process = process_of(design)
    lowest = -1.0 if design.law.action == "heat_cool" else 0.0
    limit = 4.0 * design.limits.band_celsius if limit_celsius is None else limit_celsius
    up, down = 1.0 - process.at.output, process.at.output - lowest
    span_s = step_span_s(process)
    by_unit = _swing(process, 1.0, span_s)
    if not by_unit > 1e-9:
        raise CalorError(
            "step test", "the output does not move the load", f"{by_unit:.2g} °C", "give its output some effect"
        )
    room = up if up >= down else -down
    step = room * min(limit / (by_unit * abs(room)), 1.0) if size is None else size
    if not lowest - 1e-9 <= process.at.output + step <= 1.0 + 1e-9:
        raise CalorError(
            "step test: size", f"must leave the output {process.at.output:.3g} that holds the setpoint between"
            f" {lowest:g} and 1", f"{step:.3g}",
        )  # fmt: skip
    return StepTest(process.at.output, process.at.output + step, limit, span_s, by_unit * abs(step))


def _swing(process: Process, size: float, span_s: float) -> float:
    return float(np.ptp(process.step(size, max(round(span_s / process.period_s), 40))))


def carried_out(design: Design, test: StepTest, kind: Kind = "first_order") -> StepFound:
    """The step test made on the simulated load, and a model fitted. Raises CalorError where it went astray."""
    process, design = process_of(design), proportional(design)
    period_s = process.period_s
    slowest_s = 20.0 * period_s if process.integrates else process.time_constant_s
    rest_s = min(REST_TIME_CONSTANTS * slowest_s + process.dead_time_s, MOST_REST_STEPS * period_s)
    law = Pid.model_validate(
        {"kind": "pid", "action": design.law.action, "period_s": period_s, "manual_mode": True}
    )  # fmt: skip
    events = [
        {"kind": "manual", "at_s": 0.0, "for_s": rest_s, "output": test.before},
        {"kind": "manual", "at_s": rest_s, "for_s": test.expected_s + period_s, "output": test.after},
    ]
    trial = Trial.model_validate(
        {
            "name": "Step test",
            "span_s": rest_s + test.expected_s,
            "start_celsius": float(design.setpoint.celsius),
            "events": events,
        }
    )
    trace = loop.run(design.model_copy(update={"law": law}), trial)
    begin = int(np.searchsorted(trace.time_s, rest_s - BEFORE_SHARE * test.expected_s))
    if bool((trace.flags[begin:].astype(np.int64) & (Flag.CUT_OUT | Flag.PROBE_FAULT)).any()):
        raise CalorError(
            "step test", "a guard put the output off", "", "a smaller step, or a working point further from the cut-out"
        )
    part = _from(trace, begin)
    swing = float(np.ptp(_smoothed(part.measured_celsius)))
    noise = 4.0 * float(design.probe.noise_celsius)
    if swing <= noise:
        raise CalorError(
            "step test",
            f"moves the reading by {swing:.3g} °C, no more than its noise",
            "",
            "a larger step, or a filter",
        )
    # as shares of the step, from rest: before it nothing was changed
    shares = replace(part, recorded_output=np.clip((part.demand - test.before) / test.size, 0.0, 1.0))
    fit = fit_order((observe(shares),), ORDERS[kind], Asked(ambient="start", keep_back=0.0))
    whole = of_load(fit.load, 0.5 * period_s)
    model = replace(
        whole, rise_celsius=whole.rise_celsius / abs(test.size),
        rate_celsius_per_s=whole.rate_celsius_per_s / abs(test.size),
        residual_celsius=float(fit.residual_rms_celsius), swing_celsius=swing,
    )  # fmt: skip
    return StepFound(test.expected_s, swing, model, part)


def _smoothed(celsius: Any) -> Any:
    """Means of a hundredth of the rows, in which a swing is not the noise's."""
    many = max(len(celsius) // 100, 1)
    return celsius[: len(celsius) // many * many].reshape(-1, many).mean(axis=1)


def _from(trace: Trace, begin: int) -> Trace:
    """The rows of a trace from one on, as a record: with the output that was asked for."""
    part = slice(begin, None)
    nothing = np.full(len(trace.time_s[part]), np.nan)
    return Trace(
        trace.time_s[part] - trace.time_s[begin], trace.true_celsius[part], trace.probe_celsius[part],
        trace.counts[part], trace.measured_celsius[part], nothing, trace.demand[part], trace.delivered[part],
        trace.flags[part], span_s=trace.span_s - float(trace.time_s[begin]), name="step test",
        recorded_output=trace.demand[part],
    )  # fmt: skip
