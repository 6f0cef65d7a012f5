"""Tuning against published figures, closed forms, and the package `control`."""

from __future__ import annotations

import math
import warnings
from typing import Any

import numpy as np
import pytest

from calor import loop
from calor.demo import DEMOS
from calor.design.file import read
from calor.design.trial import Trial
from calor.law.pid import Pid
from calor.tune import relay, step_test
from calor.tune.known import sampled
from calor.tune.margins import Gains, margins_of, ultimate
from calor.tune.model import Model, model_of
from calor.tune.process import process_of
from calor.tune.rules import BY_NAME, RULES, Ultimate, applied
from calor.tune.switching import longest_window_s, on_off_cycle, window_ripple_celsius
from calor.tune.waveform import exact_first_order, waveform
from tests.conftest import made

FIRST = Model("first_order", 100.0, 600.0, 0.0, 30.0, 100.0 / 600.0)
SECOND = Model("second_order", 100.0, 600.0, 60.0, 30.0, 100.0 / 600.0)
INTEGRATES = Model("integrating", math.inf, math.inf, 0.0, 30.0, 100.0 / 600.0)
LIMIT = Ultimate(0.32056, 117.663)
# worked by hand from the formulas of each source, K 100 °C, τ 600 s, L 30 s
WORKED = {
    "reaction_curve_p": (0.2, 0.0, 0.0), "reaction_curve_pi": (0.18, 100.0, 0.0), "reaction_curve_pid": (0.24, 60.0, 15.0),
    "ultimate_p": (0.16028, 0.0, 0.0), "ultimate_pi": (0.144252, 98.0525, 0.0), "ultimate_pid": (0.192336, 58.8315, 14.707875),
    "tyreus_luyben_pi": (0.100175, 258.8586, 0.0), "tyreus_luyben_pid": (0.145709, 258.8586, 18.67667),
    "cohen_coon_p": (0.203333, 0.0, 0.0), "cohen_coon_pi": (0.180833, 90.45, 0.0), "cohen_coon_pid": (0.26917, 72.313, 10.811),
    "chr_p": (0.06, 0.0, 0.0), "chr_pi": (0.07, 720.0, 0.0), "chr_pid": (0.12, 600.0, 15.0),
    "simc_pi": (0.1, 240.0, 0.0), "simc_pid": (0.125, 300.0, 48.0),
    "lambda_pi": (0.0666667, 600.0, 0.0), "lambda_pid": (0.082, 615.0, 14.63415),
    "amigo_pi": (0.06243, 251.61, 0.0), "amigo_pid": (0.092, 164.0, 14.778),
    "integrating_p": (0.2, 0.0, 0.0), "integrating_pi": (0.18, 100.0, 0.0), "integrating_pid": (0.24, 60.0, 15.0),
    "simc_integrating_pi": (0.1, 240.0, 0.0), "amigo_integrating_pi": (0.07, 402.0, 0.0), "amigo_integrating_pid": (0.09, 240.0, 15.0),
}  # fmt: skip


def test_every_rule_gives_its_worked_figures() -> None:
    assert set(WORKED) == set(BY_NAME)
    for rule in RULES:
        model = {"second_order": SECOND, "integrating": INTEGRATES}.get(rule.of, FIRST)
        one = applied(rule, model, LIMIT)
        assert one is not None
        own = (one.gains.gain_per_celsius, one.gains.integral_time_s, one.gains.derivative_time_s)
        assert own == pytest.approx(WORKED[rule.name], rel=2e-4), rule.name
        # a dead time of a twentieth is below what the old rules were made for
        assert one.in_range == (rule.range[0] <= 0.05) and bool(one.note) != one.in_range
    assert applied(BY_NAME["simc_pi"], FIRST, None, closed_s=90.0).gains.gain_per_celsius == pytest.approx(0.05)  # type: ignore[union-attr]
    assert applied(BY_NAME["ultimate_pi"], None, None) is None


def lag(period_s: float, tau_s: float, gain: float) -> Any:
    import control

    return control.ss([[-1.0 / tau_s]], [[gain / tau_s]], [[1.0]], [[0.0]])


@pytest.mark.parametrize("seed", range(30))
def test_margins_are_those_of_a_reference_library(seed: int) -> None:
    """Random loads of first and second order, PI and PID at random gains, sampled: gain and phase margin, delay margin, Ms."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        import control
    chance = np.random.default_rng(seed)
    period_s = float(chance.choice([0.5, 1.0, 2.0]))
    tau_s, second_s = float(chance.uniform(60.0, 900.0)), float(chance.choice([0.0, 12.0, 40.0]))
    steps, rise = int(chance.integers(2, 40)), float(chance.uniform(20.0, 200.0))
    sampled_load = made(
        law=f'kind = "pid"\nperiod_s = {period_s}', drive='kind = "linear"', setpoint="celsius = 25",
        load=f'kind = "first_order"\nrise_celsius = {rise}\ntime_constant_s = {tau_s}\ndead_time_s = {steps * period_s}',
        probe=f'kind = "ideal"\ntime_constant_s = {second_s}',
    )  # fmt: skip
    process = process_of(sampled_load)
    limit = ultimate(process)
    assert limit is not None
    gain = limit[0] * float(chance.uniform(0.15, 0.6))
    gains = Gains(gain, limit[1] * float(chance.uniform(0.6, 4.0)), limit[1] * float(chance.choice([0.0, 0.1])), 8.0)
    plant = lag(period_s, tau_s, rise)
    if second_s:
        plant = lag(period_s, second_s, 1.0) * plant
    z = control.tf([1.0, 0.0], [1.0], period_s)
    held = control.ss2tf(control.sample_system(plant, period_s, "zoh"))
    law = 1 + period_s / gains.integral_time_s / (z - 1)
    if gains.derivative_time_s:
        lag_s = gains.derivative_time_s / gains.derivative_filter
        law = law + gains.derivative_time_s * (z - 1) / ((lag_s + period_s) * z - lag_s)
    loop = gain * law * held / z**steps
    own = margins_of(process, gains)
    gm, pm, _, _, wcp, _ = control.stability_margins(loop, method="frd")
    ms = max(
        1.0 / abs(1.0 + complex(loop(np.exp(1j * w * period_s))))
        for w in np.geomspace(1e-4 / tau_s, math.pi / period_s * 0.999, 4000)
    )
    if not own.is_stable:
        assert gm < 1.001 or pm < 0.1
        return
    assert own.gain_margin == pytest.approx(gm, rel=0.01) and own.phase_margin_deg == pytest.approx(
        pm, rel=0.01, abs=0.1
    )
    assert own.delay_margin_s == pytest.approx(math.radians(pm) / wcp, rel=0.01) and own.ms == pytest.approx(
        ms, rel=0.01
    )


def test_the_limit_of_first_order_with_dead_time() -> None:
    """K 100, τ 600, L 30: gain 0.32056 and period 117.663 s, from ωL + atan(ωτ) = π; sampled finely enough."""
    found = ultimate(sampled(FIRST, 0.01))
    assert found == pytest.approx((0.32056, 117.663), rel=1e-3)
    # an integrating one: ω = π/2L, gain ω/rate
    assert ultimate(sampled(INTEGRATES, 0.01)) == pytest.approx((0.5 * math.pi / 30.0 * 6.0, 120.0), rel=1e-3)


def test_the_waveform_of_a_relay_is_exact() -> None:
    """K 100, τ 600, L 30, relay ±0.5: amplitude 2.43853 °C, period 117.1423 s; solved back without loss."""
    amplitude, period_s = waveform(100.0, 0.5, 600.0, 30.0)
    assert (amplitude, period_s) == pytest.approx((2.43853, 117.1423), rel=1e-5)
    assert exact_first_order(100.0, 0.5, amplitude, 0.0, period_s) == pytest.approx((600.0, 30.0), rel=1e-9)
    assert 4.0 * 0.5 / (math.pi * amplitude) == pytest.approx(0.26107, rel=1e-4)
    design = made(
        law='kind = "pid"\nperiod_s = 0.1', drive='kind = "linear"', setpoint="celsius = 70", probe='kind = "ideal"',
        load='kind = "first_order"\nrise_celsius = 100\ntime_constant_s = 600\ndead_time_s = 30',
    )  # fmt: skip
    plan = relay.planned(design, limit_celsius=20.0)
    found = relay.carried_out(design, plan)
    assert 0.5 * found.swing_celsius == pytest.approx(amplitude, rel=0.005) and found.period_s == pytest.approx(
        period_s, rel=0.005
    )
    assert (found.time_constant_s, found.dead_time_s) == pytest.approx((600.0, 30.0), rel=0.01)
    # what the describing function says, and by how much it is off, as it is told
    assert found.ultimate_gain_per_celsius == pytest.approx(0.26107, rel=0.01)
    assert found.error_share == pytest.approx(0.26107 / 0.32056 - 1.0, abs=0.01)
    assert found.took_s == pytest.approx(plan.expected_s, rel=0.15)
    assert found.swing_celsius == pytest.approx(plan.expected_swing_celsius, rel=0.05)


@pytest.mark.parametrize(
    "demo", [demo for demo in DEMOS if isinstance(read(demo.design).design.law, Pid)], ids=lambda demo: demo.design.stem
)
def test_relay_and_step_tests_take_what_was_said(demo: Any) -> None:
    """On the demos' loads, with their noise, converters and windows: swing and time beforehand, and the true limit."""
    design = read(demo.design).design
    plan = relay.planned(design)
    found = relay.carried_out(design, plan)
    assert 0.5 * plan.expected_s < found.took_s < 2.0 * plan.expected_s
    noise = 4.0 * design.probe.noise_celsius + 2.0 * plan.hysteresis_celsius
    assert found.swing_celsius <= min(plan.expected_swing_celsius * 1.3 + noise, 2.0 * plan.limit_celsius)
    true = ultimate(process_of(design))
    assert true is not None and found.true_gain_per_celsius == pytest.approx(true[0])
    told = found.true_gain_per_celsius * (1.0 + found.error_share)  # type: ignore[operator]
    assert told == pytest.approx(found.ultimate_gain_per_celsius)
    step = step_test.planned(design)
    went = step_test.carried_out(design, step)
    assert went.swing_celsius == pytest.approx(step.expected_swing_celsius, rel=0.15, abs=noise)
    assert went.swing_celsius <= 1.3 * step.limit_celsius + noise
    # as fast at first as the linear process, which has no noise
    linear = model_of(process_of(design), "first_order")
    assert went.model.rate_celsius_per_s == pytest.approx(linear.rate_celsius_per_s, rel=0.2)


def test_on_off_cycles_are_those_of_the_closed_form() -> None:
    """K 100, τ 600, L 30, from 20 °C, thresholds 49 and 51: peak 54.3652, trough 47.5857, on 58.979 s, off 131.849 s; the
    simulated loop swings so, too."""
    cycle = on_off_cycle(FIRST, 20.0, 49.0, 51.0)
    assert cycle is not None
    assert cycle[1:] == pytest.approx((54.3652, 47.5857, 58.979, 131.849), rel=1e-5)
    assert cycle.switchings_per_hour == pytest.approx(7200.0 / 190.828, rel=1e-4)
    assert cycle.contact_days(100_000) == pytest.approx(100_000 * 190.828 / 86_400.0, rel=1e-4)
    assert on_off_cycle(FIRST, 20.0, 119.0, 121.0) is None and on_off_cycle(INTEGRATES, 20.0, 49.0, 51.0) is None
    design = made(
        law='kind = "on_off"\nhysteresis_celsius = 2\nperiod_s = 0.1', drive='kind = "relay"', setpoint="celsius = 50",
        probe='kind = "ideal"', load='kind = "first_order"\nrise_celsius = 100\ntime_constant_s = 600\ndead_time_s = 30',
    )  # fmt: skip
    late = loop.run(design, Trial(span_s=3000.0)).measured_celsius[15_000:]
    assert (late.max(), late.min()) == pytest.approx((54.3652, 47.5857), abs=0.03)


def test_the_longest_window_keeps_the_ripple() -> None:
    """The formula against the simulated switch, at several shares; and the window found for a limit."""
    for output in (0.2, 0.5, 0.8):
        window_s = longest_window_s(FIRST, output, 0.5)
        assert window_s is not None and window_ripple_celsius(FIRST, output, window_s) == pytest.approx(0.5, rel=1e-6)
        design = made(
            law=f'kind = "manual"\noutput = {output}\nperiod_s = 0.1', probe='kind = "ideal"', setpoint="celsius = 50",
            drive=f'kind = "time_proportional"\nwindow_s = {round(window_s, 1)}\nswitch = "ssr_random"',
            load='kind = "first_order"\nrise_celsius = 100\ntime_constant_s = 600\ndead_time_s = 30',
        )  # fmt: skip
        late = loop.run(design, Trial(span_s=8000.0)).measured_celsius[60_000:]
        assert np.ptp(late) == pytest.approx(0.5, rel=0.05)
    assert longest_window_s(INTEGRATES, 0.5, 0.5) == pytest.approx(0.5 / (0.25 / 6.0), rel=1e-6)
