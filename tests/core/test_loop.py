"""The loop: accuracy against closed forms, exact instants, events, guards."""

from __future__ import annotations

import threading
import time

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.linalg import expm

from calor import loop
from calor.design.model import Design
from calor.design.trial import Trial
from calor.drive.time_proportional import TimeProportional
from calor.load.chamber import Chamber
from calor.loop import Flag
from calor.loop.envelope import envelope, share_on
from calor.loop.simulate import new_control
from tests.conftest import made

LAST = -1


def run(design: Design, **trial: object) -> loop.Trace:
    return loop.run(design, Trial.model_validate(trial))


@pytest.mark.parametrize("period_s", [0.1, 1.0, 60.0])
@pytest.mark.parametrize("lag_s", [0.0, 0.01, 14.0, 500.0])
def test_first_order_and_probe_lag_against_closed_form(period_s: float, lag_s: float) -> None:
    """Step of K/(τs+1) seen through 1/(λs+1): exact to 0.002 °C at any control step."""
    design = made(
        law=f'kind = "manual"\noutput = 1.0\nperiod_s = {period_s}',
        drive='kind = "linear"',
        load='kind = "first_order"\nrise_celsius = 100\ntime_constant_s = 600\ndead_time_s = 33.3\nambient_celsius = 20',
        probe=f'kind = "ideal"\ntime_constant_s = {lag_s}',
    )
    trace = run(design, span_s=3600)
    t = np.maximum(trace.time_s - 33.3, 0.0)
    true = 20 + 100 * (1 - np.exp(-t / 600))
    assert np.abs(trace.true_celsius - true).max() < 0.002
    lagged = 600 * np.exp(-t / 600) - (lag_s * np.exp(-t / lag_s) if lag_s else 0.0)
    assert np.abs(trace.measured_celsius - (20 + 100 * (1 - lagged / (600 - lag_s)))).max() < 0.002


@settings(max_examples=25, deadline=None)
@given(
    capacities=st.tuples(st.floats(5, 300), st.floats(20, 2000), st.floats(50, 5000)),
    conductances=st.tuples(st.floats(0.2, 5), st.floats(0, 5), st.floats(0, 3)),
    duty=st.floats(0.05, 0.95),
    lag_s=st.floats(0, 40),
    slow_s=st.floats(0.01, 200),
)
def test_chamber_against_matrix_exponential(
    capacities: tuple[float, ...], conductances: tuple[float, ...], duty: float, lag_s: float, slow_s: float
) -> None:
    """A switched chamber with probe, its door opened, lamps lit in it, its probe wrapped: against scipy's matrix
    exponential over each stretch in which nothing changes."""
    (ch, ca, cc), (gha, gac, g) = capacities, conductances
    load = Chamber(
        heater_watt=80.0, heater_j_per_k=ch, air_j_per_k=ca, contents_j_per_k=cc, heater_to_air_w_per_k=gha,
        air_to_contents_w_per_k=gac, loss_w_per_k=g, dead_time_s=1.7, ambient_celsius=20.0,
    )  # fmt: skip
    base = made(law=f'kind = "manual"\noutput = {duty}', probe=f'kind = "ideal"\ntime_constant_s = {lag_s}')
    design = base.model_copy(update={"load": load, "drive": TimeProportional(window_s=7.0, switch="ssr_random")})
    trace = run(
        design,
        span_s=60,
        events=[
            {"kind": "door", "at_s": 20.0, "for_s": 15.0, "extra_loss_w_per_k": 4.0},
            {"kind": "heat_added", "at_s": 30.5, "for_s": 10.0, "watt": 25.0},
            {"kind": "probe_slow", "at_s": 45.0, "for_s": 8.0, "time_constant_s": slow_s},
        ],
    )

    def system(now_s: float) -> np.ndarray:
        """Heater, air, contents, probe (all above ambient), power, 1."""
        loss = g + (4.0 if 20.0 <= now_s < 35.0 else 0.0)
        lag_now_s = slow_s if 45.0 <= now_s < 53.0 else lag_s
        rates = np.zeros((6, 6))
        rates[0, [0, 1, 4]] = -gha / ch, gha / ch, 80.0 / ch
        rates[1, :3] = gha / ca, -(gha + gac + loss) / ca, gac / ca
        rates[1, 5] = 25.0 / ca if 30.5 <= now_s < 40.5 else 0.0
        rates[2, 1:3] = gac / cc, -gac / cc
        if lag_now_s > 1e-3:
            rates[3, [1, 3]] = 1 / lag_now_s, -1 / lag_now_s
        return rates

    state, now, level = np.array([0.0, 0.0, 0.0, 0.0, 0.0, 1.0]), 0.0, 0.0
    switched = dict(zip(trace.switch_s + 1.7, trace.switch_level, strict=True))
    changes = sorted({*switched, 20.0, 30.5, 35.0, 40.5, 45.0, 53.0, 1e9})
    for row, at in enumerate(trace.time_s):
        while changes[0] <= at:
            state[4] = level
            state = expm(system(now) * (changes[0] - now)) @ state
            now = changes.pop(0)
            level = switched.get(now, level)
        state[4] = level
        state, now = expm(system(now) * (at - now)) @ state, at
        assert abs(trace.true_celsius[row] - 20 - state[1]) < 0.002
        if lag_s > 1e-3:
            assert abs(trace.probe_celsius[row] - 20 - state[3]) < 0.002


def test_rows_and_exact_instants() -> None:
    """Row k is at k·period with the share delivered until the next; switching is not rounded to the step."""
    design = made(
        law='kind = "manual"\noutput = 0.333\nperiod_s = 3.0', drive='kind = "time_proportional"\nwindow_s = 10'
    )
    trace = run(design, span_s=31)
    assert trace.time_s == pytest.approx(np.arange(11) * 3.0)
    assert trace.switch_s == pytest.approx([6.67, 10, 16.67, 20, 26.67, 30])  # from a pause on
    assert trace.delivered[:5] == pytest.approx([0.0, 0.0, 2.33 / 3, 1 / 3, 0.0])
    assert trace.delivered[LAST] == pytest.approx(0.0)  # the last row lasts one second only
    assert (trace.delivered * trace.durations_s()).sum() == pytest.approx(3 * 3.33)
    assert trace.switchings() == 6


@pytest.mark.parametrize(
    ("drive", "demand", "expected"),
    [
        ('kind = "relay"', 0.51, 1.0),
        ('kind = "relay"', 0.5, 0.0),
        ('kind = "linear"', 0.337, 0.337),
        ('kind = "time_proportional"\nswitch = "relay"\nmin_pulse_s = 2', 0.19, 0.0),
        ('kind = "time_proportional"\nswitch = "relay"\nmin_pulse_s = 2', 0.81, 1.0),
        ('kind = "time_proportional"\nswitch = "relay"\nmin_pulse_s = 2', 0.25, 0.25),
        ('kind = "time_proportional"\nswitch = "ssr_random"', 0.12345, 0.12345),
        ('kind = "time_proportional"\nswitch = "ssr_zero_cross"', 0.12345, 0.123),
        ('kind = "time_proportional"', 1.0, 1.0),
        ('kind = "time_proportional"', 0.0, 0.0),
    ],
)
def test_drives_give_what_is_asked(drive: str, demand: float, expected: float) -> None:
    trace = run(made(law=f'kind = "manual"\noutput = {demand}', drive=drive), span_s=100)
    assert (trace.delivered * trace.durations_s()).sum() / 100 == pytest.approx(expected, abs=1e-9)


def test_relay_keeps_its_shortest_times() -> None:
    design = made(
        law='kind = "on_off"\nhysteresis_celsius = 0.01\nperiod_s = 0.5',
        drive='kind = "relay"\nmin_on_s = 12.3\nmin_off_s = 7.7',
        load='kind = "first_order"\ntime_constant_s = 30',
    )
    trace = run(design, span_s=900, start_celsius=50)
    starts, ends = trace.on_intervals()
    assert len(starts) > 10
    assert (ends[:-1] - starts[:-1]).min() >= 12.3 - 1e-9
    assert (starts[1:] - ends[:-1]).min() >= 7.7 - 1e-9


def test_fan_raises_the_loss() -> None:
    """A lump with equipment heat settles at Ta + P/(G + G_fan·u)."""
    load = (
        'kind = "lump"\nheater_watt = 0\nalways_watt = 180\nloss_w_per_k = 4.5\nfan_w_per_k = 11\nambient_celsius = 16'
    )
    for output, expected in ((0.0, 16 + 180 / 4.5), (1.0, 16 + 180 / 15.5)):
        design = made(law=f'kind = "manual"\noutput = {output}', drive='kind = "linear"', load=load)
        assert run(design, span_s=7200).true_celsius[LAST] == pytest.approx(expected, abs=1e-3)


def test_events_change_what_they_say() -> None:
    load = 'kind = "lump"\nheater_watt = 100\nloss_w_per_k = 2\nheat_capacity_j_per_k = 50\nambient_celsius = 20'
    design = made(law='kind = "manual"\noutput = 1.0', drive='kind = "linear"', load=load)
    cases = [
        ({"kind": "door", "extra_loss_w_per_k": 3.0}, 20 + 100 / 5),
        ({"kind": "ambient_step", "celsius": 5.0}, 5 + 50),
        ({"kind": "power_step", "power_fraction": 0.5}, 20 + 25),
        ({"kind": "mains_lost"}, 20.0),
    ]
    for event, during in cases:
        trace = run(design, span_s=2000, events=[{"at_s": 600.25, "for_s": 600, **event}])
        at = {t: trace.true_celsius[np.searchsorted(trace.time_s, t)] for t in (600, 1200, 1999)}
        assert [at[600], at[1200], at[1999]] == pytest.approx([70.0, during, 70.0], abs=0.01), event
    stepped = run(design, span_s=100, events=[{"kind": "setpoint_step", "at_s": 40, "for_s": 20, "celsius": 33}])
    assert [stepped.setpoint_celsius[k] for k in (39, 40, 59, 60)] == [50, 33, 33, 50]
    forever = run(design, span_s=100, events=[{"kind": "setpoint_step", "at_s": 40, "celsius": 33}])
    assert forever.setpoint_celsius[LAST] == 33
    lost = run(design, span_s=100, events=[{"kind": "mains_lost", "at_s": 40, "for_s": 20}])
    rows = (lost.time_s >= 40) & (lost.time_s < 60)
    assert (lost.flags[rows] == Flag.MAINS_LOST).all() and np.isnan(lost.measured_celsius[rows]).all()
    assert (lost.demand[rows] == 0).all() and (lost.delivered[rows] == 0).all()


@pytest.mark.parametrize("wiring", ["probe_open", "probe_short"])
@pytest.mark.parametrize(
    "probe", ['kind = "ideal"', 'kind = "thermistor"', 'kind = "thermistor"\nplaced = "high_side"']
)
def test_probe_fault_output(wiring: str, probe: str) -> None:
    design = made(law='kind = "pid"\nintegral_time_s = 100', probe=probe, guard="probe_fault_output = 0.25")
    trace = run(design, span_s=900, events=[{"kind": wiring, "at_s": 300, "for_s": 50}])
    rows = (trace.time_s >= 300) & (trace.time_s < 350)
    assert (trace.demand[rows] == 0.25).all() and np.isnan(trace.measured_celsius[rows]).all()
    shorted = wiring == "probe_short" and design.probe.kind == "thermistor"
    which = Flag.PROBE_SHORT if shorted else Flag.PROBE_OPEN
    assert (trace.flags[rows] == Flag.PROBE_FAULT + which).all() and not trace.flags[~rows].any()
    assert [event.kind for event in trace.events] == [wiring, "probe_fault"]
    assert np.abs(np.diff(trace.demand[340:360])).max() < 1.01  # and the derivative does not kick on return


def test_cut_out_latches_and_says_so() -> None:
    design = made(law='kind = "manual"\noutput = 1.0', guard="cut_out_celsius = 60")
    trace = run(design, span_s=3600)
    tripped = np.flatnonzero(trace.flags)
    assert (trace.measured_celsius[tripped[0] - 1] <= 60.0) and (trace.measured_celsius[tripped[0]] > 60.0)
    assert (trace.demand[tripped[0] :] == 0).all() and trace.measured_celsius[LAST] < 25  # cold, and still off
    text = next(event.text for event in trace.events if event.kind == "cut_out")
    assert "60 °C" in text and "latched" in text
    cooling = made(
        law='kind = "manual"\naction = "cool"\noutput = 1.0', load='kind = "first_order"\nrise_celsius = -30',
        guard="cut_out_celsius = 0",
    )  # fmt: skip
    cold = run(cooling, span_s=3600)
    assert cold.measured_celsius[np.flatnonzero(cold.flags)[0]] < 0.0


def test_alarms() -> None:
    """Delay, standby and deviation, on a known ramp of 0.1 °C/s through the setpoint."""
    alarms = {
        '{ kind = "high", celsius = 60, delay_s = 20 }': [420.0],
        '{ kind = "low", celsius = 30 }': [0.0],
        '{ kind = "low", celsius = 30, standby = true }': [],
        '{ kind = "deviation_high", celsius = 5 }': [351.0],
        '{ kind = "deviation_low", celsius = 5 }': [0.0],
    }
    load = 'kind = "lump"\nheater_watt = 100\nloss_w_per_k = 0\nheat_capacity_j_per_k = 1000'
    for text, expected in alarms.items():
        design = made(
            law='kind = "manual"\noutput = 1.0', drive='kind = "linear"', load=load, guard=f"alarms = [ {text} ]"
        )
        trace = run(design, span_s=600, start_celsius=20)
        assert [event.at_s for event in trace.events if event.kind == "alarm"] == pytest.approx(expected, abs=1.01), (
            text
        )


def test_laws_hold_their_hysteresis() -> None:
    """On and off happen at the thresholds of either school, heating and cooling (common practice)."""
    cases = [
        ('hysteresis_celsius = 2', 49, 51), ('hysteresis_celsius = 2\nplaced = "below"', 48, 50),
        ('hysteresis_celsius = 2\nplaced = "above"', 50, 52), ("start_celsius = 47\nstop_celsius = 49.5", 47, 49.5),
    ]  # fmt: skip
    for text, low, high in cases:
        for action in ("heat", "cool"):
            law = f'kind = "on_off"\nperiod_s = 0.1\naction = "{action}"\n{text}'
            load = 'kind = "first_order"'
            if action == "cool":
                if "start" in text:
                    law = law.replace(
                        "start_celsius = 47\nstop_celsius = 49.5", "start_celsius = 49.5\nstop_celsius = 47"
                    )
                load = 'kind = "first_order"\nrise_celsius = -60\nambient_celsius = 80'
            trace = run(made(law=law, load=load), span_s=3000)
            late = trace.measured_celsius[trace.time_s > 1000]
            assert (late.min(), late.max()) == pytest.approx((low, high), abs=0.03), (text, action)


def test_law_minimum_times_and_no_chatter() -> None:
    design = made(
        law='kind = "on_off"\nhysteresis_celsius = 0\nmin_on_s = 20\nmin_off_s = 30',
        load='kind = "first_order"\ntime_constant_s = 50',
    )
    starts, ends = run(design, span_s=2000).on_intervals()
    assert (ends[:-1] - starts[:-1]).min() >= 20 and (starts[1:] - ends[:-1]).min() >= 30


@pytest.mark.parametrize("anti_windup", ["clamp", "back_calculate", "none"])
def test_windup(anti_windup: str) -> None:
    """Both guards keep the overshoot of a saturated warm-up well below that of an unguarded integral."""
    law = 'kind = "pid"\ngain_per_celsius = 0.1\nintegral_time_s = 120\nanti_windup = "{}"'
    overshoot = {}
    for kind in (anti_windup, "none"):
        design = made(law=law.format(kind), drive='kind = "linear"', load='kind = "first_order"\nrise_celsius = 50')
        overshoot[kind] = run(design, span_s=7200).measured_celsius.max() - 50
    if anti_windup != "none":
        assert overshoot[anti_windup] < 0.5 * overshoot["none"]
    assert overshoot["none"] > 2.0


def test_setpoint_weight_does_not_depend_on_the_zero_of_the_scale() -> None:
    def demand(shift: float) -> np.ndarray:
        design = made(
            setpoint=f"celsius = {50 + shift}",
            law='kind = "pid"\ngain_per_celsius = 0.03\nintegral_time_s = 200\nsetpoint_weight = 0.4',
            drive='kind = "linear"', load=f'kind = "first_order"\nambient_celsius = {20 + shift}',
        )  # fmt: skip
        return run(design, span_s=900).demand

    assert demand(0.0) == pytest.approx(demand(200.0), abs=1e-9)
    assert demand(0.0)[0] == pytest.approx(0.03 * 0.4 * 30)


def test_seed_repeats_and_differs() -> None:
    design = made(probe='kind = "ideal"\nnoise_celsius = 0.3')
    first, again, other = (run(design, span_s=600, seed=seed).measured_celsius for seed in (4, 4, 5))
    assert (first == again).all() and (first != other).any()
    assert np.std(first - run(design, span_s=600, seed=4).probe_celsius) == pytest.approx(0.3, rel=0.1)


def test_a_long_run_can_be_stopped() -> None:
    design = made(law='kind = "on_off"\nperiod_s = 0.1')
    loop.run(design, Trial(span_s=1))
    control, outcome = new_control(), []

    def work() -> None:
        try:
            outcome.append(loop.run(design, Trial(span_s=900_000), control))
        except loop.Stopped:
            outcome.append("stopped")

    thread = threading.Thread(target=work)
    thread.start()
    end = time.monotonic() + 30
    while control[1] < 10_000 and time.monotonic() < end:
        time.sleep(0.001)
    control[0] = 1
    thread.join(30)
    assert outcome == ["stopped"] and 10_000 <= control[1] < 9_000_000


@settings(max_examples=60, deadline=None)
@given(rows=st.integers(2, 5000), begin=st.floats(0, 0.8), length=st.floats(0.05, 1), pixels=st.integers(50, 400))
def test_envelope_keeps_every_peak(rows: int, begin: float, length: float, pixels: int) -> None:
    time_s = np.arange(rows, dtype=float)
    values = np.random.default_rng(rows).normal(size=rows)
    start, end = begin * rows, min(begin + length, 1.0) * rows
    times, points = envelope(time_s, values, start, end, pixels)
    inside = (time_s >= start) & (time_s <= end)
    assert len(times) == len(points) <= max(4 * pixels + 4, 4)
    if inside.any():
        assert points.max() >= values[inside].max() and points.min() <= values[inside].min()


def test_share_on_is_exact(cabinet: Design) -> None:
    trace = loop.run(cabinet, cabinet.trial[0])
    shares = share_on(trace, 0.0, trace.span_s, 100)
    assert shares.mean() == pytest.approx(trace.delivered.mean(), abs=1e-9)
    assert shares[0] == pytest.approx(trace.delivered[:144].mean(), abs=1e-9)


def test_daily_swing_and_mains_voltage() -> None:
    """Source: first-order response to a cosine, amplitude 1/√(1 + (ωτ)²) and late by atan(ωτ)/ω; power is V²/R."""
    tau, period = 7200.0, 86_400.0
    design = made(
        law='kind = "manual"\nperiod_s = 30', drive='kind = "linear"',
        load=f'kind = "first_order"\nrise_celsius = 100\ntime_constant_s = {tau}\nambient_celsius = 10',
    )  # fmt: skip
    trace = run(design, span_s=3 * period, swing_celsius=6, warmest_at_s=50_400, start_celsius=10)
    omega = 2 * np.pi / period
    late = trace.time_s > period
    expected = 10 + 6 / np.hypot(1, omega * tau) * np.cos(omega * (trace.time_s - 50_400) - np.arctan(omega * tau))
    assert np.abs(trace.true_celsius - expected)[late].max() < 0.02
    heated = made(
        law='kind = "manual"\noutput = 0.5',
        drive='kind = "linear"',
        load='kind = "first_order"\ntime_constant_s = 10\nambient_celsius = 20',
    )
    trace = run(heated, span_s=400, events=[{"kind": "mains_voltage", "at_s": 200, "voltage_fraction": 0.9}])
    assert trace.true_celsius[LAST] == pytest.approx(20 + 50 * 0.81, abs=0.01)
    assert any(event.text == "mains 90 %" for event in trace.events)
