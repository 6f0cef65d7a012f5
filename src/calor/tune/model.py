"""A model small enough for rules: first or second order with dead time, or integrating, from a small simulated step.

The step is made on the process as it is sampled, around the working point and without noise; `calor.identify` fits a
model to it. Half a control step and half a window of waiting
are in its dead time.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Literal

import numpy as np

from calor.compiled import Column
from calor.errors import CalorError
from calor.identify.fit import Asked, fit_order
from calor.identify.observed import observe
from calor.load.integrating import Integrating
from calor.load.registry import AnyLoad
from calor.load.second_order import SecondOrder
from calor.loop.trace import Trace
from calor.tune.margins import ultimate
from calor.tune.process import Process

Kind = Literal["first_order", "second_order", "integrating"]
ROWS, REST_ROWS = 500, 20
STEP_SIZE = 0.05
LONGEST_STEPS = 2_000_000
TIME_CONSTANTS, PERIODS = 5.0, 5.0
"""How many of the slowest time constant, and of the loop's period at its limit, a step is followed."""


@dataclass(frozen=True)
class Model:
    """What a rule is given: rise at full output (°C), time constants and dead time (s); of an integrating one the rate.

    `rate_celsius_per_s` is how fast full output makes it rise at first: rise / time constant where it settles.
    `residual_celsius` is what the fit leaves, rms, of a step that changes the reading by `swing_celsius`.
    """

    kind: Kind
    rise_celsius: float
    time_constant_s: float
    second_time_constant_s: float
    dead_time_s: float
    rate_celsius_per_s: float
    residual_celsius: float = 0.0
    swing_celsius: float = 0.0

    @property
    def ratio(self) -> float:
        """Dead time over time constant; 0 of an integrating one."""
        return self.dead_time_s / self.time_constant_s if math.isfinite(self.time_constant_s) else 0.0


def of_load(load: AnyLoad, extra_dead_s: float = 0.0) -> Model:
    """The model that a fitted load is; what waits beside it adds to its dead time. Raises CalorError for others."""
    if isinstance(load, Integrating):
        return Model(
            "integrating", math.inf, math.inf, 0.0, load.dead_time_s + extra_dead_s, abs(load.rate_celsius_per_s)
        )
    if not hasattr(load, "rise_celsius"):
        raise CalorError(
            "model", f"a load of kind {load.kind} is no model for a rule", "", "fit order 1, 2 or integrating"
        )
    rise, tau_s = abs(float(load.rise_celsius)), float(load.time_constant_s)  # type: ignore[attr-defined]
    second = float(load.second_time_constant_s) if isinstance(load, SecondOrder) else 0.0
    kind: Kind = "second_order" if second else "first_order"
    return Model(
        kind,
        rise,
        max(tau_s, second),
        min(tau_s, second) if second else 0.0,
        load.dead_time_s + extra_dead_s,
        rise / tau_s,
    )


def step_span_s(process: Process) -> float:
    """How long a step is followed: for some periods of the loop at its limit, at most until it has settled.

    What comes after is the integral's business; over a longer step a load of several parts would be fitted where no
    law works. One that integrates is followed for long enough to see its slope.
    """
    settles_s = TIME_CONSTANTS * process.time_constant_s + 3.0 * process.dead_time_s
    if process.integrates:
        settles_s = 20.0 * (process.dead_time_s + _lag_s(process) + process.period_s)
    limit = ultimate(process)
    return settles_s if limit is None else min(settles_s, PERIODS * limit[1])


def _lag_s(process: Process) -> float:
    """The slowest lag that is no integrator, s."""
    values = np.abs(np.linalg.eigvals(process.transition))
    lags = [float(value) for value in values if 1e-12 < value < 1.0 - 1e-9]
    return -process.period_s / math.log(max(lags)) if lags else 0.0


@lru_cache(maxsize=64)
def model_of(process: Process, kind: Kind) -> Model:
    """A model of one kind, fitted to a small step of the process; once for processes that are equal, whatever the law.

    Raises CalorError where the load does not move, or has no such model.
    """
    span_s = step_span_s(process)
    steps = round(min(span_s / process.period_s, LONGEST_STEPS)) + 1
    answer = process.step(STEP_SIZE, max(steps, 40))
    every = max(1, len(answer) // ROWS)
    moved = answer[::every]
    swing = float(np.ptp(moved))
    if not swing > 1e-9:
        raise CalorError(
            "model", f"a step of {STEP_SIZE * 100:g} % of output does not move the load", f"{swing:.2g} °C",
            "give its output some effect",
        )  # fmt: skip
    # a size that is easy on bounds: ten degrees from an ambient of 20
    scale = 10.0 / swing
    # rest before it: a fit wants to see that the output changed
    moved = np.concatenate((np.zeros(REST_ROWS), moved))
    time_s: Column = np.asarray(np.arange(len(moved)) * every * process.period_s, np.float64)
    celsius: Column = np.asarray(20.0 + moved * scale)
    output, nothing = np.ones(len(moved)), np.zeros(len(moved))
    output[:REST_ROWS] = 0.0
    trace = Trace(
        time_s, celsius, nothing, nothing, celsius, np.full(len(time_s), np.nan), nothing,
        nothing, nothing, span_s=float(time_s[-1]), name="step of the model",
        recorded_output=output,
    )  # fmt: skip
    record = observe(trace, None, (), 20.0)
    order = {"first_order": "1", "second_order": "2", "integrating": "integrating"}[kind]
    fit = fit_order((record,), order, Asked(ambient=20.0, keep_back=0.0))
    by_output = STEP_SIZE * scale
    residual = float(fit.residual_rms_celsius) / scale
    # a demand is held for a control step: half of it is waited in the mean
    model = of_load(fit.load, 0.5 * process.period_s)
    if model.kind == "integrating":
        return replace(
            model, rate_celsius_per_s=model.rate_celsius_per_s / by_output, residual_celsius=residual,
            swing_celsius=swing,
        )  # fmt: skip
    rise = model.rise_celsius / by_output
    return Model(
        model.kind, rise, model.time_constant_s, model.second_time_constant_s, model.dead_time_s,
        rise / model.time_constant_s, residual, swing,
    )  # fmt: skip
