"""What tuning knows of a load: by its model, a step test, a relay test, or a record; and what that took."""

from __future__ import annotations

import contextlib
import math
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, Literal

import numpy as np

from calor.design.model import Design
from calor.errors import CalorError
from calor.identify.fit import Asked, fit_order
from calor.identify.observed import Observed, observe
from calor.log.read import read_record
from calor.loop.trace import Trace
from calor.tune import relay, step_test
from calor.tune.cycles import cycles_of
from calor.tune.margins import ultimate
from calor.tune.model import ROWS, STEP_SIZE, Model, model_of, of_load, step_span_s
from calor.tune.process import PLACES, Process, Working, process_of
from calor.tune.rules import Ultimate
from calor.tune.waveform import exact_first_order

Method = Literal["model", "step", "relay", "record"]
METHODS: tuple[Method, ...] = ("model", "step", "relay")
"""What can be found out without a record."""
WINDOW_SHARE = 0.2
"""Cycles of a record whose period is within this share of the drive's window are the window's."""


@dataclass(frozen=True)
class Experiment:
    """A test: how it was made, what it was expected to take and took, and gain and period at the limit it tells.

    `gain_error_share` is how far the describing function is from the true gain of the simulated load; the time constant
    and dead time are those of the exact waveform; `cycles` how many settled ones a record ends with, beside them the
    gain by the model fitted to it. None: not told by this method.
    """

    method: str
    expected_s: float | None = None
    expected_swing_celsius: float | None = None
    took_s: float | None = None
    swing_celsius: float | None = None
    ultimate_gain_per_celsius: float | None = None
    ultimate_period_s: float | None = None
    true_gain_per_celsius: float | None = None
    gain_error_share: float | None = None
    time_constant_s: float | None = None
    dead_time_s: float | None = None
    output_low: float | None = None
    output_high: float | None = None
    hysteresis_celsius: float | None = None
    model_gain_per_celsius: float | None = None
    cycles: int | None = None
    note: str = ""
    trace: Trace | None = None


@dataclass(frozen=True)
class Known:
    """What rules are given: a model of first order or integrating, one of second order, gain and period at the limit;
    `process` is the linear loop that margins are of."""

    process: Process
    model: Model | None
    second: Model | None
    limit: Ultimate | None
    experiment: Experiment


def may_be_tuned(design: Design) -> None:
    """Raises CalorError where the law has nothing to tune."""
    if design.law.kind in ("timer", "code"):
        raise CalorError(
            "law",
            f"{design.law.kind} has no gains, and nothing to tune",
            "",
            "choose law kind pid, on_off or fan_curve",
        )


def known_by(design: Design, method: Method = "model", limit_celsius: float | None = None) -> Known:
    """What a method finds out about the simulated load at the design's setpoint. Raises CalorError where it cannot."""
    may_be_tuned(design)
    process = process_of(design)
    if method == "step":
        return _by_step(design, process, limit_celsius)
    if method == "relay":
        return _by_relay(design, process, limit_celsius)
    found = ultimate(process)
    limit = None if found is None else Ultimate(*found)
    model = model_of(process, "integrating" if process.integrates else "first_order")
    second = None
    if not process.integrates:
        with contextlib.suppress(CalorError):
            second = model_of(process, "second_order")
    told = Experiment(
        "model", ultimate_gain_per_celsius=limit.gain_per_celsius if limit else None,
        ultimate_period_s=limit.period_s if limit else None,
    )  # fmt: skip
    return Known(process, model, second, limit, told)


@dataclass(frozen=True)
class Planned:
    """What a test is expected to take: between which outputs it goes, for how long, how far it swings."""

    output_low: float
    output_high: float
    expected_s: float
    expected_swing_celsius: float


def planned(design: Design, method: Method, limit_celsius: float | None = None) -> Planned | None:
    """What the test of a method would take; None where there is none to be made. Raises CalorError where it cannot."""
    may_be_tuned(design)
    if method == "step":
        step = step_test.planned(design, limit_celsius=limit_celsius)
        ends = sorted((step.before, step.after))
        return Planned(ends[0], ends[1], step.expected_s, step.expected_swing_celsius)
    if method == "relay":
        test = relay.planned(design, limit_celsius=limit_celsius)
        low, high = test.middle - test.amplitude, test.middle + test.amplitude
        return Planned(low, high, test.expected_s, test.expected_swing_celsius)
    return None


def _by_step(design: Design, process: Process, limit_celsius: float | None) -> Known:
    plan = step_test.planned(design, limit_celsius=limit_celsius)
    found = step_test.carried_out(design, plan, "integrating" if process.integrates else "first_order")
    limit = _limit_of(found.model, process.period_s)
    told = Experiment(
        "step", plan.expected_s, plan.expected_swing_celsius, found.took_s, found.swing_celsius,
        limit.gain_per_celsius if limit else None, limit.period_s if limit else None,
        output_low=min(plan.before, plan.after), output_high=max(plan.before, plan.after), trace=found.trace,
    )  # fmt: skip
    return Known(process, found.model, None, limit, told)


def _by_relay(design: Design, process: Process, limit_celsius: float | None) -> Known:
    plan = relay.planned(design, limit_celsius=limit_celsius)
    found = relay.carried_out(design, plan)
    model = None
    if found.time_constant_s is not None and found.dead_time_s is not None:
        rise = abs(process.rise_celsius)
        model = Model(
            "first_order", rise, found.time_constant_s, 0.0, found.dead_time_s, rise / found.time_constant_s,
            0.0, found.swing_celsius,
        )  # fmt: skip
    limit = Ultimate(found.ultimate_gain_per_celsius, found.ultimate_period_s)
    told = Experiment(
        "relay", plan.expected_s, plan.expected_swing_celsius, found.took_s, found.swing_celsius, *limit,
        found.true_gain_per_celsius, found.error_share, found.time_constant_s, found.dead_time_s,
        plan.middle - plan.amplitude, plan.middle + plan.amplitude, plan.hysteresis_celsius, trace=found.trace,
    )  # fmt: skip
    return Known(process, model, None, limit, told)


def known_from(design: Design, records: tuple[Observed, ...], ambient: str | float = "auto") -> Known:
    """What recorded runs tell: a model fitted to them; gain and period at the limit by its settled cycles of a relay or
    an on/off law, where it ends with some, else by the model.

    Raises CalorError where there is neither.
    """
    may_be_tuned(design)
    found = cycles_of(records[-1])
    period_s, window_s = float(design.law.period_s), float(getattr(design.drive, "window_s", 0.0))
    wait_s = 0.5 * period_s + 0.5 * window_s
    if found is not None and abs(found.period_s - window_s) < WINDOW_SHARE * window_s:
        found = None  # the drive's own windows
    model = second = None
    try:
        model = of_load(fit_order(records, "auto", Asked(ambient)).load, wait_s)
        if model.kind == "second_order":
            second = model
            model = of_load(fit_order(records, "1", Asked(ambient)).load, wait_s)
    except CalorError:
        if found is None:
            raise
    best = second or model
    limit = None if best is None else _limit_of(best, period_s)
    span_s = max(float(record.time_s[-1]) for record in records)
    swing = max(float(np.nanmax(record.celsius) - np.nanmin(record.celsius)) for record in records)
    told = Experiment("record", took_s=span_s, swing_celsius=swing)
    if found is not None:
        by_model, limit = limit, Ultimate(found.ultimate_gain_per_celsius, found.period_s)
        solved = None
        if model is not None and math.isfinite(model.rise_celsius):
            d = 0.5 * (found.output_high - found.output_low)
            solved = exact_first_order(
                model.rise_celsius, d, 0.5 * found.swing_celsius, found.hysteresis_celsius, found.period_s
            )
        told = replace(
            told, took_s=found.end_s - found.begin_s, swing_celsius=found.swing_celsius,
            model_gain_per_celsius=by_model.gain_per_celsius if by_model else None,
            time_constant_s=solved[0] if solved else None, dead_time_s=solved[1] if solved else None,
            output_low=found.output_low, output_high=found.output_high, hysteresis_celsius=found.hysteresis_celsius,
            cycles=found.settled, note=found.note,
        )  # fmt: skip
    told = replace(
        told, ultimate_gain_per_celsius=limit.gain_per_celsius if limit else None,
        ultimate_period_s=limit.period_s if limit else None,
    )  # fmt: skip
    process = process_of(design) if best is None else sampled(best, period_s)
    return Known(process, model, second, limit, told)


def known_from_log(design: Design, path: Path, ambient: str | float = "auto") -> Known:
    """What a log tells, read as it is recognised. Its ambient is a temperature (°C), fit, start, or auto: its own
    column, else as the fit finds it.

    Raises CalorError where it cannot be read, or tells nothing.
    """
    record = read_record(path)
    column = record.ambient_celsius if ambient == "auto" else None
    at = ambient if isinstance(ambient, float) else None
    known = known_from(design, (observe(record.trace, column, (), at),), ambient)
    return replace(known, experiment=replace(known.experiment, trace=record.trace))


def _limit_of(model: Model, period_s: float) -> Ultimate | None:
    found = ultimate(sampled(model, period_s))
    return None if found is None else Ultimate(*found)


def sampled(model: Model, period_s: float) -> Process:
    """A model as a sampled process; half a control step, which is in its dead time, is taken out again."""
    dead_s = max(model.dead_time_s - 0.5 * period_s, 0.0)
    whole = math.floor(dead_s / period_s + 1e-9)
    rest_s = max(dead_s - whole * period_s, 0.0)
    rates = np.zeros((PLACES, PLACES))
    given = np.zeros(PLACES)
    if model.kind == "integrating":
        given[0] = model.rate_celsius_per_s
    else:
        rates[0, 0] = -1.0 / model.time_constant_s
        given[0] = model.rise_celsius / model.time_constant_s
    if model.second_time_constant_s > 0.0:
        rates[3, 0], rates[3, 3] = 1.0 / model.second_time_constant_s, -1.0 / model.second_time_constant_s
    transition, late = _held(rates, given, period_s - rest_s)
    early = transition @ _held(rates, given, rest_s)[1]
    transition, _ = _held(rates, given, period_s)
    if model.second_time_constant_s <= 0.0:
        # the reading is the temperature itself
        transition[3], late[3], early[3] = transition[0], late[0], early[0]
    return Process(
        Working(math.nan, math.nan, math.nan), period_s, dead_s, transition, early, late, whole, None,
        model.rise_celsius, model.time_constant_s,
    )  # fmt: skip


def fit_over_step(process: Process, model: Model) -> tuple[Any, Any, Any]:
    """(times in s, what a small step changes, what the model says of it, °C), as far as the model was fitted."""
    steps = max(round(step_span_s(process) / process.period_s), 40)
    every = max(1, steps // ROWS)
    sign = -1.0 if math.isfinite(process.rise_celsius) and process.rise_celsius < 0.0 else 1.0
    own = process.step(STEP_SIZE, steps)[::every]
    told = sign * sampled(model, process.period_s).step(STEP_SIZE, steps)[::every]
    return np.arange(len(own)) * every * process.period_s, own, told


def _held(rates: Any, given: Any, dt_s: float) -> tuple[Any, Any]:
    """(transition, input) of a linear system over a time with its input held. Source: any text on sampled systems."""
    from scipy.linalg import expm  # type: ignore[import-untyped, unused-ignore]

    whole = np.zeros((PLACES + 1, PLACES + 1))
    whole[:PLACES, :PLACES], whole[:PLACES, PLACES] = rates, given
    moved = expm(whole * dt_s)
    return moved[:PLACES, :PLACES].copy(), moved[:PLACES, PLACES].copy()
