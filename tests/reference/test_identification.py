"""Fits beside independent references: closed forms by SciPy, step responses by `control`, an integrator of other equations."""

from __future__ import annotations

import control
import numpy as np
import pytest
from scipy.integrate import solve_ivp
from scipy.optimize import curve_fit

from calor.identify.fit import Asked, fit_order, fit_own_load
from calor.identify.observed import observe
from tests.conftest import made
from tests.records import trace_of


def test_a_first_order_step_as_curve_fit_has_it() -> None:
    """scipy.optimize.curve_fit of the closed form on the same rows: the same numbers, and intervals of the same size."""
    time_s = np.arange(0.0, 1500.0, 5.0)

    def closed(t, rise, tau, dead):  # type: ignore[no-untyped-def]
        return 20.0 + 0.5 * rise * (1.0 - np.exp(-np.maximum(t - dead, 0.0) / tau))

    celsius = closed(time_s, 80.0, 400.0, 42.0) + np.random.default_rng(3).normal(0.0, 0.1, len(time_s))
    best, covariance = curve_fit(closed, time_s, celsius, p0=(60.0, 300.0, 30.0))
    fit = fit_order(
        (observe(trace_of(time_s, celsius, np.full(len(time_s), 0.5)), known_ambient_celsius=20.0),), "1", Asked(20.0)
    )
    for key, value, error in zip(
        ("rise_celsius", "time_constant_s", "dead_time_s"), best, np.sqrt(np.diag(covariance)), strict=True
    ):
        number = fit.number(key)
        # ours frees the first temperature as well, which costs a little
        assert number.value == pytest.approx(value, abs=2.5 * error)
        assert 0.5 * (number.high - number.low) == pytest.approx(1.97 * error, rel=0.6)


def test_a_step_response_of_control() -> None:
    """A second-order record by control.step_response: rise 60, lags 300 and 45 s; its dead time 12 s as a shift."""
    time_s = np.arange(0.0, 3000.0, 3.0)
    system = control.tf([60.0], [300.0 * 45.0, 345.0, 1.0])
    _, response = control.step_response(system, time_s)
    celsius = 21.0 + np.interp(time_s - 12.0, time_s, response, left=0.0)
    noise = np.random.default_rng(1).normal(0.0, 0.02, len(time_s))
    fit = fit_order((observe(trace_of(time_s, celsius + noise, np.ones(len(time_s)))),), "2", Asked())
    for key, value in (("rise_celsius", 60.0), ("time_constant_s", 300.0), ("second_time_constant_s", 45.0)):
        assert fit.number(key).value == pytest.approx(value, rel=0.03)
    assert fit.load.ambient_celsius == pytest.approx(21.0, abs=0.05)


def test_a_record_by_another_integrator() -> None:
    """A lump with radiation-free loss, integrated by solve_ivp from its equation: C·dT/dt = P·u − G·(T − Ta)."""
    power, loss, capacity, ambient = 250.0, 1.7, 2400.0, 18.0
    time_s = np.arange(0.0, 7200.0, 4.0)

    def given(t):  # type: ignore[no-untyped-def]
        return 1.0 if (t // 900.0) % 2 == 0 else 0.2

    solved = solve_ivp(
        lambda t, y: [(power * given(t) - loss * (y[0] - ambient)) / capacity], (0.0, 7200.0), [ambient], t_eval=time_s,
        max_step=2.0, rtol=1e-9, atol=1e-9,
    )  # fmt: skip
    celsius = solved.y[0] + np.random.default_rng(2).normal(0.0, 0.05, len(time_s))
    trace = trace_of(time_s, celsius, np.array([given(t) for t in time_s]))
    design = made(load='kind = "lump"\nheater_watt = 250\nloss_w_per_k = 1.0\nheat_capacity_j_per_k = 4000')
    own = fit_own_load((observe(trace),), design.load, ("loss_w_per_k", "heat_capacity_j_per_k"), Asked(ambient), 0.6)
    assert own.is_told
    assert own.number("loss_w_per_k").value == pytest.approx(loss, rel=0.01)
    assert own.number("heat_capacity_j_per_k").value == pytest.approx(capacity, rel=0.01)
    black = fit_order((observe(trace),), "1", Asked(ambient))
    assert black.number("rise_celsius").value == pytest.approx(power / loss, rel=0.01)
    assert black.number("time_constant_s").value == pytest.approx(capacity / loss, rel=0.01)
