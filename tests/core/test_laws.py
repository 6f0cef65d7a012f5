"""Fan curves and timers by themselves: tables of cases, and what their settings refuse."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from calor import loop
from calor.design.trial import Trial
from calor.drive import pwm
from calor.law import fan_curve, timer
from calor.law.fan_curve import FanCurve
from calor.law.timer import Timer
from tests.conftest import made


def decisions(law: FanCurve, readings: list[float], dt_s: float = 1.0) -> list[float]:
    plain, state, asked = fan_curve.numbers(law), fan_curve.start(), []
    for celsius in readings:
        state, demands = fan_curve.step(plain, state, celsius, 0.0, dt_s)
        asked.append(round(float(demands.first), 6))
    return asked


@pytest.mark.parametrize(
    ("law", "readings", "expected"),
    [
        ({}, [20, 29.9, 30, 37.5, 45, 60], [0, 0, 0.3, 0.65, 1, 1]),
        ({}, [31, 29, 28.1, 28, 27.9, 29.9], [0.3 + 0.7 / 15, 0.3, 0.3, 0.3, 0, 0]),  # off only below start less hysteresis
        ({"kick_s": 2.0}, [30, 30, 30, 30], [1, 1, 0.3, 0.3]),
        ({"kick_s": 1.0, "kick_output": 0.6}, [30, 45], [0.6, 1]),
        ({"slew_per_s": 0.1}, [30, 45, 45, 30, 20], [0.3, 0.4, 0.5, 0.4, 0]),
        ({"points": ((20.0, 0.0), (30.0, 0.4), (40.0, 1.0))}, [19, 20, 25, 35, 50, 19, 17], [0, 0, 0.2, 0.7, 1, 0, 0]),
        ({"action": "heat", "start_celsius": 10.0, "full_celsius": 0.0}, [12, 10, 5, -3, 11, 12.5], [0, 0.3, 0.65, 1, 0.3, 0]),
    ],
)  # fmt: skip
def test_fan_curve(law: dict[str, object], readings: list[float], expected: list[float]) -> None:
    assert decisions(FanCurve.model_validate(law), readings) == pytest.approx(expected, abs=1e-6)


@settings(max_examples=60, deadline=None)
@given(
    start=st.floats(20, 40), width=st.floats(1, 30), floor=st.floats(0, 1), hysteresis=st.floats(0, 5),
    readings=st.lists(st.floats(0, 90), min_size=5, max_size=60),
)  # fmt: skip
def test_a_fan_curve_is_off_or_on_its_curve(
    start: float, width: float, floor: float, hysteresis: float, readings: list[float]
) -> None:
    law = FanCurve(start_celsius=start, full_celsius=start + width, floor=floor, hysteresis_celsius=hysteresis)
    for celsius, asked in zip(readings, decisions(law, readings), strict=True):
        on_curve = floor + (1 - floor) * min(max((celsius - start) / width, 0.0), 1.0)
        assert asked == pytest.approx(on_curve, abs=2e-6) or (asked == 0.0 and celsius < start)
    assert decisions(law, sorted(readings)) == sorted(decisions(law, sorted(readings)))


def test_without_hysteresis_a_fan_chatters_and_at_full_it_is_losing() -> None:
    """Common practice: chatter at the start; an alarm when it is at full for longer than a limit."""
    text = 'kind = "fan_curve"\nperiod_s = 1\nstart_celsius = 40\nfull_celsius = 50\nhysteresis_celsius = {}\nfull_alarm_s = 10'
    starts = {}
    for hysteresis in (0.0, 4.0):
        design = made(
            law=text.format(hysteresis), drive='kind = "linear"', probe='kind = "ideal"\nnoise_celsius = 0.3',
            load='kind = "lump"\nheater_watt = 0\nalways_watt = 60\nloss_w_per_k = 2.6\nfan_w_per_k = 3\nheat_capacity_j_per_k = 2000',
        )  # fmt: skip
        trace = loop.run(design, Trial(span_s=7200, start_celsius=20, ambient_celsius=20))
        running = trace.demand > 0
        starts[hysteresis] = int(np.count_nonzero(running[1:] & ~running[:-1]))
    assert starts[0.0] > 5 * max(starts[4.0], 1)
    hot = loop.run(design, Trial(span_s=1200, start_celsius=60, ambient_celsius=58))
    assert [e.text for e in hot.events if e.kind == "alarm"] == ["alarm: at full output for 10 s"]


@pytest.mark.parametrize(
    ("law", "changes"),
    [
        ({"on_s": 1.7, "off_s": 5.0}, [0.0, 1.7, 6.7, 8.4, 13.4]),
        ({"pattern": "run_then_stop", "first_s": 4.0}, [0.0, 4.0]),
        ({"pattern": "wait_then_run", "first_s": 4.0}, [4.0]),
        ({"pattern": "cold_start_then_repeat", "first_s": 3.0, "on_s": 1.0, "off_s": 2.0}, [0.0, 4.0, 6.0, 7.0, 9.0, 10.0, 12.0, 13.0]),
        ({"pattern": "cold_start_then_repeat", "first_s": 3.0, "on_s": 1.0, "off_s": 2.0, "starts_warm": True}, [0, 1, 3, 4, 6, 7, 9, 10, 12, 13]),
    ],
)  # fmt: skip
def test_timer_patterns(law: dict[str, object], changes: list[float]) -> None:
    own = Timer.model_validate(law)
    plain, state, found, before = timer.numbers(own), timer.start(), [], 0.0
    for k in range(137):
        state, demand = timer.step(plain, state, 0.1)
        if (demand > 0) != (before > 0):
            found.append(0.1 * k)
        before = demand
    assert found == pytest.approx(changes, abs=1e-6)


def test_the_share_of_a_timer() -> None:
    """5 s off with 1.7 s on is 25.4 % of the power (worked by hand), in the simulated loop and over hours."""
    assert timer.mean_output(Timer(on_s=1.7, off_s=5.0)) == pytest.approx(0.254, abs=5e-4)
    design = made(law='kind = "timer"', drive='kind = "relay"')
    trace = loop.run(design, Trial(span_s=6.7 * 3000))
    assert trace.delivered.mean() == pytest.approx(1.7 / 6.7, abs=1e-4)


@pytest.mark.parametrize(
    ("law", "says"),
    [
        ({"start_celsius": 50.0, "full_celsius": 40.0}, "must be below full_celsius"),
        ({"action": "heat"}, "must be above full_celsius"),
        ({"points": ((20.0, 0.1),)}, "at least two points"),
        ({"points": ((20.0, 0.1), (20.0, 0.2))}, "must rise in temperature"),
        ({"points": ((20.0, 0.5), (30.0, 0.2))}, "the output must rise as it warms"),
        ({"points": ((20.0, 0.5), (30.0, 1.2))}, "from 0 to 1"),
    ],
)
def test_curves_that_cannot_be(law: dict[str, object], says: str) -> None:
    with pytest.raises(ValidationError, match=says):
        FanCurve.model_validate(law)


@pytest.mark.parametrize(
    ("drive", "prescaler", "top"),
    [({}, 1, 640), ({"timer_bits": 8, "frequency_hz": 25_000.0}, 8, 80), ({"frequency_hz": 50.0}, 8, 40_000),
     ({"timer_clock_hz": 48e6, "frequency_hz": 25_000.0}, 1, 1920), ({"timer_bits": 10, "frequency_hz": 490.0}, 64, 510)],
)  # fmt: skip
def test_pwm_timing(drive: dict[str, float], prescaler: int, top: int) -> None:
    """Source: f = f_clk/(prescaler·top), worked by hand; 16 MHz at 25 kHz leaves 640 steps."""
    own = pwm.Pwm.model_validate(drive)
    found = pwm.timing(own)
    assert (found.prescaler, found.top) == (prescaler, top)
    assert found.frequency_hz == pytest.approx(own.timer_clock_hz / (prescaler * top))
    given_ = [pwm.step(pwm.numbers(own), demand, 0.0, 1.0)[0] * top for demand in np.linspace(0, 1, 777)]
    assert given_ == pytest.approx([round(g) for g in given_], abs=1e-9) and max(given_) == top


def test_a_fan_below_its_dead_band_does_not_turn() -> None:
    law = 'kind = "manual"\noutput = {}\naction = "cool"'
    shares = []
    for output in (0.1, 0.2, 0.3):
        design = made(law=law.format(output), drive='kind = "pwm"\ndead_band = 0.25')
        shares.append(float(loop.run(design, Trial(span_s=10)).delivered[0]))
    assert shares == pytest.approx([0, 0, 0.3], abs=1e-3)
    with pytest.raises(ValidationError, match=r"must be from .* with this timer"):
        pwm.Pwm(frequency_hz=0.5, timer_bits=8)


PI_LAW = 'kind = "pid"\ngain_per_celsius = 0.05\nperiod_s = 0.5\n'
SLOW = 'kind = "first_order"\nrise_celsius = 100\ntime_constant_s = 300\ndead_time_s = 10'


def test_manual_reset_takes_the_offset_of_a_p_law_away() -> None:
    """Static balance: holding 50 °C above 20 with a rise of 100 °C takes 30 %; a bias of that leaves no offset."""
    for bias, expected in ((0.0, 20 + 100 * 0.05 * 30 / (1 + 5)), (0.3, 50.0)):
        design = made(law=PI_LAW + f"bias = {bias}", drive='kind = "linear"', load=SLOW)
        assert loop.run(design, Trial(span_s=6000)).true_celsius[-1] == pytest.approx(expected, abs=0.01)


def test_slew_ramp_and_integral_band() -> None:
    base = PI_LAW + 'integral_time_s = 100\nanti_windup = "none"\n'
    plain, slewed, ramped, near = (
        loop.run(made(law=base + more, drive='kind = "linear"', load=SLOW), Trial(span_s=3000))
        for more in ("", "slew_per_s = 0.01", "ramp_celsius_per_s = 0.02", "integral_band_celsius = 8")
    )
    assert plain.demand[0] == 1.0
    assert np.abs(np.diff(slewed.demand)).max() <= 0.01 * 0.5 + 1e-12 and slewed.demand[0] == pytest.approx(0.005)
    rates = np.gradient(ramped.true_celsius, ramped.time_s)
    assert rates.max() < 0.025 and np.gradient(plain.true_celsius, plain.time_s).max() > 0.15
    assert near.true_celsius.max() < plain.true_celsius.max() - 1.0  # less wound up on the way
    for trace in (plain, slewed, ramped, near):
        assert trace.true_celsius[-1] == pytest.approx(50.0, abs=0.5)
