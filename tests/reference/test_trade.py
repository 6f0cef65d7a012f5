"""The main job against sources outside the project. Each check names its source."""

from __future__ import annotations

import math

import control
import numpy as np
import pytest

from calor import loop
from calor.judge.linear import ultimate
from calor.law.dialect import every_form
from calor.sense.points import at_celsius
from calor.sense.thermistor import Thermistor
from tests.conftest import made


def one_trial(**values: object) -> str:
    return "\n".join(f"{key} = {value}" for key, value in values.items())


@pytest.mark.parametrize(("celsius", "ohm"), [(0.0, 33_620.6), (25.0, 10_000.0), (37.5, 5_867.89), (100.0, 697.52)])
def test_thermistor_beta(celsius: float, ohm: float) -> None:
    """Source: R = R25·exp(B(1/T − 1/298.15)), the definition of beta (IEC 60539-1); values worked from it by hand."""
    assert at_celsius(Thermistor(), celsius)["ohm"] == pytest.approx(ohm, rel=2e-6)


def test_thermistor_counts_and_resolution() -> None:
    """Source: floor(v/Vref·2ⁿ), worked by hand for 10 k below 10 k on 12 bit: code 1514 at 37.5 °C, 0.0256 °C a count."""
    point = at_celsius(Thermistor(), 37.5)
    assert point["counts"] == 1514
    assert point["celsius_per_count"] == pytest.approx(0.0256, abs=5e-5)
    high_side = at_celsius(Thermistor(placed="high_side"), 37.5)
    assert high_side["counts"] == math.floor(4096 * 10_000 / (10_000 + 5_867.89))


def test_on_off_limit_cycle() -> None:
    """Source: the exponentials of first order with dead time between two thresholds, solved by hand.

    K 100, τ 600, L 30, ambient 20, thresholds 49 and 51.
    """
    design = made(
        law='kind = "on_off"\nstart_celsius = 49\nstop_celsius = 51\nperiod_s = 0.01',
        load='kind = "first_order"\nrise_celsius = 100\ntime_constant_s = 600\ndead_time_s = 30\nambient_celsius = 20',
        trial=one_trial(span_s=2400, start_celsius=20),
    )
    trace = loop.run(design, design.trial[0])
    late = trace.time_s > 1200
    assert trace.measured_celsius[late].max() == pytest.approx(54.3652, abs=0.002)
    assert trace.measured_celsius[late].min() == pytest.approx(47.5857, abs=0.002)
    starts, ends = trace.on_intervals()
    assert np.diff(np.sort(np.concatenate((starts, ends))))[-4:] == pytest.approx([131.849, 58.979] * 2, abs=0.03) or (
        np.diff(np.sort(np.concatenate((starts, ends))))[-4:] == pytest.approx([58.979, 131.849] * 2, abs=0.03)
    )


def test_proportional_only_offset() -> None:
    """Source: static balance of a P law, T = (Ta + K·Kc·r)/(1 + K·Kc) above ambient (any control textbook)."""
    gain, rise, ambient, setpoint = 0.05, 100.0, 20.0, 50.0
    design = made(
        law=f'kind = "pid"\ngain_per_celsius = {gain}',
        drive='kind = "linear"',
        load='kind = "first_order"\ntime_constant_s = 100',
        trial=one_trial(span_s=3000),
    )
    final = loop.run(design, design.trial[0]).measured_celsius[-1]
    expected = ambient + rise * gain * (setpoint - ambient) / (1.0 + rise * gain)
    assert final == pytest.approx(expected, abs=1e-6)


def test_pi_against_package_control() -> None:
    """Source: the package `control`: the same PI loop as a sampled system, stepped by its own simulator."""
    gain, ti, rise, tau, dt = 0.01, 80.0, 100.0, 120.0, 0.5
    design = made(
        setpoint="celsius = 40",
        law=f'kind = "pid"\ngain_per_celsius = {gain}\nintegral_time_s = {ti}\nperiod_s = {dt}\nanti_windup = "none"',
        drive='kind = "linear"',
        load=f'kind = "first_order"\nrise_celsius = {rise}\ntime_constant_s = {tau}\nambient_celsius = 20',
        trial=one_trial(span_s=900),
    )
    trace = loop.run(design, design.trial[0])
    assert trace.demand.min() > 0.0 and trace.demand.max() < 1.0  # nothing is at a limit: the loop is linear
    load = control.c2d(control.tf([rise], [tau, 1.0]), dt, "zoh")
    law = control.tf([gain], [1.0], dt) + control.tf([gain * dt / ti], [1.0, -1.0], dt)
    response = control.step_response(control.feedback(law * load, 1.0), T=trace.time_s)
    assert trace.measured_celsius == pytest.approx(20.0 + 20.0 * response.outputs, abs=1e-6)


def test_derivative_against_package_control() -> None:
    """Source: the package `control`: filtered derivative on the measurement, discretised backward."""
    gain, td, n, dt, tau, rise = 0.02, 20.0, 8.0, 0.5, 120.0, 60.0
    design = made(
        setpoint="celsius = 40",
        law=f'kind = "pid"\ngain_per_celsius = {gain}\nderivative_time_s = {td}\nderivative_filter = {n}\nperiod_s = {dt}',
        drive='kind = "linear"',
        load=f'kind = "first_order"\nrise_celsius = {rise}\ntime_constant_s = {tau}\nambient_celsius = 20',
        trial=one_trial(span_s=600),
    )
    trace = loop.run(design, design.trial[0])
    load = control.c2d(control.tf([rise], [tau, 1.0]), dt, "zoh")
    lag = td / n
    derivative = control.tf([gain * td / (lag + dt), -gain * td / (lag + dt)], [1.0, -lag / (lag + dt)], dt)
    inner = control.feedback(load, derivative)
    response = control.step_response(control.feedback(gain * inner, 1.0), T=trace.time_s)
    assert trace.measured_celsius == pytest.approx(20.0 + 20.0 * response.outputs, abs=1e-6)


def test_energy_balance_of_a_lump() -> None:
    """Source: energy m·c·ΔT: 6 litres of water from 20 to 38 °C with 300 W take 25.1 min (c 4186 J/kg·K), no loss."""
    design = made(
        setpoint="celsius = 38",
        law='kind = "manual"\noutput = 1.0',
        drive='kind = "linear"',
        load=f'kind = "lump"\nheater_watt = 300\nheat_capacity_j_per_k = {6 * 4186}\nloss_w_per_k = 0',
        trial=one_trial(span_s=1800, start_celsius=20),
    )
    trace = loop.run(design, design.trial[0])
    reached = np.flatnonzero(trace.true_celsius >= 38.0)[0]
    assert trace.time_s[reached] / 60.0 == pytest.approx(25.1, abs=0.03)
    stored = 6 * 4186 * (trace.true_celsius[-1] - 20.0)
    assert stored == pytest.approx(300.0 * trace.time_s[-1], rel=1e-9)


def test_dialects() -> None:
    """Source: Åström & Hägglund 2006, section 3.2; values for 0.22 /°C, 420 s, 25 s worked from its formulas."""
    gains = every_form("standard", 0.22, 420.0, 25.0)
    assert gains["parallel"] == pytest.approx(
        {"kp_per_celsius": 0.22, "ki_per_celsius_s": 5.2381e-4, "kd_s_per_celsius": 5.5}, rel=1e-5
    )
    assert gains["band"] is not None
    assert gains["band"]["proportional_band_celsius"] == pytest.approx(4.5455, abs=5e-5)
    assert gains["band"]["repeats_per_minute"] == pytest.approx(0.142857, abs=5e-7)
    series = gains["series"]
    assert series is not None
    kc, ti, td = series.values()
    assert (kc * (ti + td) / ti, ti + td, ti * td / (ti + td)) == pytest.approx((0.22, 420.0, 25.0))
    assert every_form("standard", 0.22, 90.0, 25.0)["series"] is None  # Ti < 4 Td


@pytest.mark.parametrize(("mains_hz", "steps"), [(50, 100), (60, 120)])
def test_half_cycles_of_a_zero_crossing_switch(mains_hz: int, steps: int) -> None:
    """Source: two half-cycles a period of the mains: 100 steps in 1 s at 50 Hz, 120 at 60 Hz."""
    given = set()
    for demand in np.linspace(0.0, 1.0, 4 * steps + 1):
        design = made(
            law=f'kind = "manual"\noutput = {demand}',
            drive=f'kind = "time_proportional"\nwindow_s = 1\nmains_hz = {mains_hz}',
            trial=one_trial(span_s=1),
        )
        share = loop.run(design, design.trial[0]).delivered[0]
        assert share * steps == pytest.approx(round(share * steps), abs=1e-6)
        given.add(round(share * steps))
    assert given == set(range(steps + 1))


def test_ultimate_gain() -> None:
    """Source: phase crossover of K·e^(−Ls)/(τs+1): K 100, τ 600, L 30 gives Ku 0.32056, Pu 117.663 s (worked by hand).

    And the open loop, evaluated there by the package `control`, is −1: the point of Nyquist's criterion.
    """
    design = made(
        law='kind = "pid"\ngain_per_celsius = 0.1\nperiod_s = 0.001',
        drive='kind = "linear"',
        load='kind = "first_order"\nrise_celsius = 100\ntime_constant_s = 600\ndead_time_s = 29.9995',
        trial=one_trial(span_s=1),
    )
    found = ultimate(design)
    assert found == pytest.approx((0.32056, 117.663), rel=2e-5)
    assert found is not None
    s = 2j * math.pi / found[1]
    open_loop = found[0] * control.tf([100.0], [600.0, 1.0])(s) * np.exp(-30.0 * s)
    assert open_loop == pytest.approx(-1.0, abs=1e-6)


def test_a_loop_at_its_ultimate_gain_oscillates_at_its_period() -> None:
    """Source: definition of the ultimate gain (Ziegler & Nichols 1942); the simulated loop against the linear one."""
    text = 'kind = "pid"\ngain_per_celsius = {gain}\nperiod_s = 0.1'
    blocks = {
        "drive": 'kind = "linear"',
        "load": 'kind = "first_order"\nrise_celsius = 100\ntime_constant_s = 600\ndead_time_s = 30',
        "probe": 'kind = "ideal"\ntime_constant_s = 20',
        "trial": one_trial(span_s=6000, start_celsius=48),
    }
    found = ultimate(made(law=text.format(gain=0.1), **blocks))
    assert found is not None
    gain, period_s = found
    swings = {}
    for factor in (0.9, 1.1):
        design = made(law=text.format(gain=gain * factor), **blocks)
        trace = loop.run(design, design.trial[0])
        early, late = (trace.measured_celsius[(trace.time_s > a) & (trace.time_s < a + 400)] for a in (600, 2400))
        swings[factor] = np.ptp(late) / np.ptp(early)
    # below it dies away; above it grows until the output meets its limits, and stays
    assert swings[0.9] < 0.7 and swings[1.1] > 0.9
    design = made(law=text.format(gain=gain), **blocks)
    trace = loop.run(design, design.trial[0])
    error = trace.measured_celsius - trace.measured_celsius[trace.time_s > 1000].mean()
    ups = trace.time_s[1:][(error[1:] > 0) & (error[:-1] <= 0) & (trace.time_s[1:] > 1000)]
    assert np.diff(ups).mean() == pytest.approx(period_s, rel=0.02)


@pytest.mark.parametrize("second", [60.0, 600.0, 1500.0])
def test_second_order_against_package_control(second: float) -> None:
    """Source: the package `control`: the step response of two lags in a row, with dead time, by its own simulator."""
    design = made(
        law='kind = "manual"\noutput = 0.7\nperiod_s = 2',
        drive='kind = "linear"',
        load=f'kind = "second_order"\nrise_celsius = 80\ntime_constant_s = 600\nsecond_time_constant_s = {second}\ndead_time_s = 30',
        trial=one_trial(span_s=3000, start_celsius=20),
    )
    trace = loop.run(design, design.trial[0])
    load = control.tf([80.0 * 0.7], [600.0, 1.0]) * control.tf([1.0], [second, 1.0])
    response = control.step_response(load, T=trace.time_s)
    late = np.interp(trace.time_s - 30.0, trace.time_s, response.outputs, left=0.0)
    assert trace.true_celsius == pytest.approx(20.0 + late, abs=1e-4)


def test_integrating_load_under_on_off() -> None:
    """Source: solved by hand. Rate R up, D down, dead time L, thresholds apart by H: the swing is H + R'·L + D·L with
    R' = R − D, on for (H + D·L + R'·L)/R' s and off for (H + D·L + R'·L)/D s."""
    rate, drift, dead, spread = 0.05, 0.02, 20.0, 1.0
    design = made(
        setpoint="celsius = 50",
        law=f'kind = "on_off"\nhysteresis_celsius = {spread}\nperiod_s = 0.01',
        load=f'kind = "integrating"\nrate_celsius_per_s = {rate}\ndrift_celsius_per_s = {drift}\ndead_time_s = {dead}',
        trial=one_trial(span_s=2500, start_celsius=48),
    )
    trace = loop.run(design, design.trial[0])
    late = trace.time_s > 600
    net = rate - drift
    swing = spread + net * dead + drift * dead
    assert np.ptp(trace.true_celsius[late]) == pytest.approx(swing, abs=0.003)
    starts, ends = trace.on_intervals()
    edges = np.diff(np.sort(np.concatenate((starts, ends))))[-5:-1]
    assert sorted({round(float(e), 1) for e in edges}) == pytest.approx(
        sorted({round(swing / net, 1), round(swing / drift, 1)}), abs=0.11
    )


def test_ramp_following_error_of_pi() -> None:
    """Source: final value theorem: a PI loop on a first-order load follows a ramp of v °C/s late by v·Ti/(K·Kc)."""
    gain, ti, rise, pace = 0.05, 120.0, 100.0, 0.01
    design = made(
        setpoint="celsius = 20",
        law=f'kind = "pid"\ngain_per_celsius = {gain}\nintegral_time_s = {ti}\nperiod_s = 0.5\nanti_windup = "none"',
        drive='kind = "linear"',
        load=f'kind = "first_order"\nrise_celsius = {rise}\ntime_constant_s = 300\nambient_celsius = 20',
        trial=one_trial(span_s=3000, start_celsius=20)
        + "\nevents = ["
        + ", ".join(
            f'{{ kind = "setpoint_step", at_s = {5 * k}, celsius = {20 + pace * 5 * k:.4f} }}' for k in range(600)
        )
        + "]",
    )
    trace = loop.run(design, design.trial[0])
    late = trace.time_s > 2000
    assert trace.demand[late].max() < 1.0
    error = (trace.setpoint_celsius - trace.true_celsius)[late].mean()
    assert error == pytest.approx(pace * ti / (rise * gain), rel=0.03)
