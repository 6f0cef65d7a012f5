"""What guards, alarms, faults and restarts do to laws and drives: in simulation, and in C to the bit."""

from __future__ import annotations

import itertools
import subprocess
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from calor import loop
from calor.design.model import Design
from calor.design.trial import Trial
from calor.errors import CalorError
from calor.firmware.check.agreement import check, reference_difference
from calor.firmware.check.recorded import recorded
from calor.firmware.run import host
from calor.firmware.run.exchange import inputs
from calor.firmware.sources.form import Form
from calor.firmware.sources.generate import generate
from calor.law.pid import Pid, along_with
from calor.loop import Flag, answer_row
from calor.loop.trace import Trace
from tests.conftest import made

LAG = 'kind = "first_order"\nrise_celsius = 100\ntime_constant_s = 300'
BOTH = 'kind = "first_order"\nrise_celsius = 60\nsecond_rise_celsius = -40\ntime_constant_s = 100\nambient_celsius = 45'
LINEAR = 'kind = "linear"'
FAULT = ({"kind": "probe_open", "at_s": 300, "for_s": 5},)


def ran(design: Design, **trial: Any) -> Trace:
    return loop.run(design, Trial.model_validate({"span_s": 600.0, **trial}))


def demands(trace: Trace, output: int = 0) -> Any:
    return trace.outputs[output].demand if trace.outputs else trace.demand


# gains that change


SETS = """gain_sets = [ { at_celsius = 60, gain_per_celsius = 0.02, integral_time_s = 300 },
  { at_celsius = 70, gain_per_celsius = 0.06, integral_time_s = 300 } ]"""


@pytest.mark.parametrize("weight", [0.0, 0.4, 1.0])
@pytest.mark.parametrize("by", ["nearest", "interpolated"])
def test_another_gain_set_moves_the_output_by_its_own_gain_only(weight: float, by: str) -> None:
    """From rest at 64 the setpoint goes to 66: the demand moves by gain · weight · 2 °C, whatever was held back."""
    law = f'kind = "pid"\nsetpoint_weight = {weight}\ngains_by = "{by}"\n{SETS}'
    trace = ran(
        made(law=law, drive=LINEAR, load=LAG, setpoint="celsius = 64"), span_s=9000.0,
        events=({"kind": "setpoint_step", "at_s": 6000, "celsius": 66},),
    )  # fmt: skip
    gain = 0.06 if by == "nearest" else 0.02 + 0.6 * 0.04
    assert trace.demand[6000] - trace.demand[5999] == pytest.approx(gain * weight * 2.0, abs=1e-4)
    assert trace.true_celsius[6000:].max() < 66.3 and trace.true_celsius[-1] == pytest.approx(66.0, abs=0.02)


def test_a_p_law_rests_at_one_place_whatever_its_first_reading() -> None:
    law = 'kind = "pid"\nsetpoint_weight = 0.3\ngain_per_celsius = 0.1'
    rests = [
        ran(
            made(law=law, drive=LINEAR, load=LAG, setpoint="celsius = 64"), span_s=4000.0, start_celsius=start
        ).true_celsius[-1]
        for start in (20.0, 60.0, 90.0)
    ]
    # T = Ta + K·g·(r − T), from which T = (20 + 10·64)/11
    assert rests == pytest.approx([660.0 / 11.0] * 3, abs=1e-3)


def test_cooling_has_times_of_its_own() -> None:
    """While it cools the integral grows with cooling's time, by the equation; while it heats with heating's."""
    law = 'kind = "pid"\naction = "heat_cool"\ngain_per_celsius = 0.05\nintegral_time_s = 1000\ncool_integral_time_s = 50\ncool_gain_per_celsius = 0.02'
    design = made(
        law=law, drive=LINEAR, load='kind = "integrating"\nrate_celsius_per_s = 0\nsecond_rate_celsius_per_s = 0'
    )
    for start, gain, time_s in ((49.0, 0.05, 1000.0), (51.0, 0.02, 50.0)):
        trace = ran(design, span_s=20.0, start_celsius=start)
        output = 0 if start < 50.0 else 1
        # the first step does not know yet that it cools
        steps = np.diff(demands(trace, output))[1:]
        assert steps == pytest.approx(np.full(len(steps), gain * 1.0 / time_s), rel=1e-9)
    for wrong in (
        'action = "heat"\ncool_integral_time_s = 5',
        'action = "heat_cool"\ncool_gain_ratio = 2\ncool_gain_per_celsius = 1',
    ):
        with pytest.raises(CalorError, match="cool_"):
            made(law=f'kind = "pid"\n{wrong}')


def test_cooling_has_one_gain_however_it_is_given() -> None:
    law = Pid(action="heat_cool", cool_gain_per_celsius=0.02, cool_integral_time_s=9.0)
    for key, value, gain, ratio in (("cool_gain_ratio", 2.0, None, 2.0), ("cool_gain_per_celsius", 0.3, 0.3, 1.0)):
        own = law.model_copy(update=along_with(law, key, value))
        assert (own.cool_gain_per_celsius, own.cool_gain_ratio) == (gain, ratio)
    heats = Pid.model_validate({**law.model_dump(), **along_with(law, "action", "heat")})
    assert heats.cool_gain_per_celsius is None and heats.cool_integral_time_s is None


def test_limits_hold_from_the_first_step_and_by_hand() -> None:
    law = 'kind = "pid"\noutput_low = 0.3\noutput_high = 0.8\nslew_per_s = 0.01\nmanual_mode = true'
    trace = ran(
        made(law=law, drive=LINEAR, load=LAG), events=({"kind": "manual", "at_s": 300, "for_s": 50, "output": 1.0},)
    )
    assert trace.demand.min() == 0.3 and trace.demand[0] == 0.3 and trace.demand.max() == 0.8
    assert (trace.demand[300:350] == 0.8).all() and np.abs(np.diff(trace.demand[350:])).max() <= 0.01 + 1e-12


# a probe fault


def test_after_a_fault_slew_and_minimum_times_count_from_what_was_given() -> None:
    slewing = ran(
        made(law='kind = "pid"\nslew_per_s = 0.02\ngain_per_celsius = 0.5', drive=LINEAR, load=LAG), events=FAULT
    )
    assert slewing.demand[299] > 0.2 and (slewing.demand[300:305] == 0.0).all()
    assert np.diff(slewing.demand[304:]).max() <= 0.02 + 1e-12
    on_off = made(
        law='kind = "on_off"\nmin_off_s = 60\nhysteresis_celsius = 1', drive=LINEAR, load=LAG, setpoint="celsius = 95"
    )
    trace = ran(on_off, events=FAULT)
    assert (trace.demand[:60] == 0.0).sum() >= 59 and trace.demand[
        60:299
    ].all()  # switched on: nobody knows since when it is off
    assert not trace.demand[300:360].any() and trace.demand[361:].all()
    lost = ran(on_off, events=({"kind": "mains_lost", "at_s": 300, "for_s": 5},))
    assert not lost.demand[300:364].any() and lost.demand[366:].all()


@pytest.mark.parametrize("event", ["mains_lost", "stalled"])
def test_a_relay_keeps_its_minimum_off_time_over_a_restart(event: str) -> None:
    design = made(
        law='kind = "manual"\noutput = 1.0', drive='kind = "relay"\nmin_off_s = 90', load=LAG, guard="watchdog_s = 4"
    )
    trace = ran(design, events=({"kind": event, "at_s": 300, "for_s": 20},))
    back = 320.0 if event == "mains_lost" else 304.0
    assert not trace.delivered[:90].any() and trace.delivered[90:300].all()
    off = trace.switch_s[(trace.switch_level == 0.0) & (trace.switch_s > 0)]
    on = trace.switch_s[trace.switch_level > 0.0]
    assert on.tolist() == pytest.approx([90.0, back + 90.0]) and off[-1] == pytest.approx(
        300.0 if event == "mains_lost" else 304.0
    )


def test_a_timer_goes_on_and_a_fan_has_its_kick_after_a_fault() -> None:
    timer = made(law='kind = "timer"\non_s = 7\noff_s = 5\nperiod_s = 1', drive=LINEAR, load=LAG)
    whole, broken = ran(timer), ran(timer, events=FAULT)
    assert (whole.demand[305:] == broken.demand[305:]).all() and not broken.demand[300:305].any()
    fan = made(
        law='kind = "fan_curve"\nstart_celsius = 30\nfull_celsius = 90\nfloor = 0.3\nkick_s = 3', drive=LINEAR,
        load='kind = "lump"\nheater_watt = 0\nfan_w_per_k = 1\nalways_watt = 60\nloss_w_per_k = 1\nambient_celsius = 20',
    )  # fmt: skip
    trace = ran(fan, span_s=3000.0, events=({"kind": "probe_open", "at_s": 2000, "for_s": 5},))
    assert trace.demand[1999] < 0.9 and (trace.demand[2005:2008] == 1.0).all() and trace.demand[2009] < 0.9


@pytest.mark.parametrize(
    ("law", "load", "fault_output", "given"),
    [
        ('kind = "stages"', LAG, 0.3, (0.3, 0.3)),
        ('kind = "stages"', LAG, 1.0, (1.0, 1.0)),
        ('kind = "pid"\naction = "heat_cool"', BOTH, -0.4, (0.0, 0.4)),
        ('kind = "on_off"\naction = "heat_cool"', BOTH, 0.7, (0.7, 0.0)),
        ('kind = "on_off"\naction = "heat_cool"', BOTH, -0.2, (0.0, 0.2)),
        (
            'kind = "fan_curve"\nsecond_on_celsius = 50',
            'kind = "lump"\nfan_w_per_k = 1\nsecond_fan_w_per_k = 1\nheater_watt = 0',
            0.6,
            (0.6, 0.6),
        ),
    ],
)
def test_a_fault_reaches_every_output(law: str, load: str, fault_output: float, given: tuple[float, float]) -> None:
    design = made(law=law, drive=LINEAR, load=load, guard=f"probe_fault_output = {fault_output}")
    trace = ran(design, events=FAULT)
    assert [demands(trace, output)[302] for output in (0, 1)] == pytest.approx(given)


def test_guards_that_do_not_go_with_the_law_are_refused() -> None:
    for law, guard, key in (
        ('kind = "pid"', "probe_fault_output = -0.2", "probe_fault_output"),
        ('kind = "pid"', "cut_out_low_celsius = 5", "cut_out_low_celsius"),
        ('kind = "pid"\naction = "heat_cool"', "cut_out_low_celsius = 70\ncut_out_celsius = 60", "cut_out_low_celsius"),
    ):
        with pytest.raises(CalorError, match=key):
            made(law=law, guard=guard)


# at once


@pytest.mark.parametrize(
    "drive",
    ['kind = "time_proportional"\nwindow_s = 600', 'kind = "relay"\nmin_on_s = 400', LINEAR, 'kind = "pwm"'],
)
@pytest.mark.parametrize(
    ("guard", "events"),
    [
        ("cut_out_celsius = 72", ()),
        ('alarms = [ { kind = "high", celsius = 72, trips = true } ]', ()),
        ("", ({"kind": "probe_open", "at_s": 200, "for_s": 1000},)),
    ],
)
@pytest.mark.parametrize("law", ['kind = "manual"\noutput = 1.0', 'kind = "on_off"\nmin_on_s = 500'])
def test_a_guard_acts_at_once(drive: str, guard: str, events: tuple[Any, ...], law: str) -> None:
    """From the reading that is the cause to the pin no time passes, however long a window or a minimum on time is."""
    trace = ran(
        made(law=law, drive=drive, load=LAG, guard=guard, setpoint="celsius = 110"), span_s=900.0, events=events
    )
    cause = np.flatnonzero(trace.whole_flags & (Flag.CUT_OUT | Flag.PROBE_FAULT))[0]
    assert trace.delivered[cause - 1] == 1.0 and not trace.delivered[cause:].any()
    assert trace.true_celsius.max() < 73.0


def test_a_fault_output_is_given_from_a_window_of_its_own() -> None:
    design = made(
        law='kind = "manual"\noutput = 1.0', drive='kind = "time_proportional"\nwindow_s = 100\nswitch = "ssr_random"', load=LAG,
        guard="probe_fault_output = 0.25",
    )  # fmt: skip
    trace = ran(design, events=({"kind": "probe_open", "at_s": 333, "for_s": 200},))
    assert trace.switch_s[:5].tolist() == pytest.approx([0.0, 358.0, 433.0, 458.0, 533.0])


# alarms


def test_a_rise_is_found_wherever_it_begins() -> None:
    """5.2 °C in 52 s, begun at any second, is above 5 °C in 60 s; 5.2 °C in 75 s is not. Common practice: a rate alarm
    looks back from each reading."""
    for begin in range(300, 361, 7):
        for rises, watt in ((True, 0.1), (False, 5.2 / 75.0)):
            end = round(5.2 / watt)
            law = 'kind = "manual"\noutput = 0.0'
            load = 'kind = "lump"\nheat_capacity_j_per_k = 1000\nloss_w_per_k = 0\nambient_celsius = 20'
            events = ({"kind": "heat_added", "at_s": begin, "for_s": end, "watt": watt * 1000.0},)
            alarm = 'alarms = [ { kind = "rate_of_rise", celsius = 5, delay_s = 60 } ]'
            trace = ran(made(law=law, drive=LINEAR, load=load, guard=alarm), events=events)
            assert bool(trace.alarms.any()) == rises, (begin, rises)


@pytest.mark.parametrize(
    ("law", "load", "start", "expected"),
    [
        # one of three stages on is not full demand
        (
            'kind = "stages"\nstages = [{on_offset_celsius=-1},{on_offset_celsius=-20},{on_offset_celsius=-40}]',
            LAG,
            45.0,
            False,
        ),
        (
            'kind = "stages"\nstages = [{on_offset_celsius=-1},{on_offset_celsius=-20},{on_offset_celsius=-40}]',
            LAG,
            5.0,
            True,
        ),
        # all that its limit lets it ask is
        ('kind = "pid"\noutput_high = 0.6', LAG, 5.0, True),
        ('kind = "pid"\naction = "heat_cool"\ncool_output_high = 0.5', BOTH, 80.0, True),
        ('kind = "on_off"\naction = "heat_cool"', BOTH, 20.0, True),
    ],
)
def test_loop_break_looks_at_every_output(law: str, load: str, start: float, expected: bool) -> None:
    """Nothing moves in a load without power; what the law asks of all its outputs decides, and the event is told."""
    dead = {"kind": "power_step", "at_s": 0, "power_fraction": 0.0}
    still = {"kind": "ambient_step", "at_s": 0, "celsius": start}
    guard = 'alarms = [ { kind = "loop_break", celsius = 1, delay_s = 60, trips = true } ]'
    trace = ran(made(law=law, drive=LINEAR, load=load, guard=guard), start_celsius=start, events=(dead, still))
    told = [event.at_s for event in trace.events if event.kind == "alarm"]
    assert told == ([60.0] if expected else []) and bool(trace.whole_flags.any()) == expected


def test_standby_begins_again_with_a_new_setpoint() -> None:
    guard = 'alarms = [ { kind = "deviation_low", celsius = 3, standby = true } ]'
    law = 'kind = "pid"\ngain_per_celsius = 0.2\nintegral_time_s = 300'
    steps = (
        {"kind": "setpoint_step", "at_s": 3000, "celsius": 70},
        {"kind": "power_step", "at_s": 6000, "power_fraction": 0.2},
    )
    told = [
        e.at_s
        for e in ran(made(law=law, drive=LINEAR, load=LAG, guard=guard), span_s=8000.0, events=steps).events
        if e.kind == "alarm"
    ]
    assert len(told) == 1 and 6000.0 < told[0] < 6200.0  # not on the way to the new setpoint, but when the load falls
    ramp = 'kind = "program"\nsegments = [ { to_celsius = 60, rate_celsius_per_min = 3, soak_s = 3000 } ]'
    weak = 'kind = "lump"\nheater_watt = 20\nheat_capacity_j_per_k = 1000\nloss_w_per_k = 0.2'
    behind = ran(made(law=law, drive=LINEAR, load=weak, guard=guard, setpoint=ramp), span_s=3000.0)
    assert [e for e in behind.events if e.kind == "alarm"]  # a ramp is no new setpoint: falling behind it is told


def test_a_law_that_heats_and_cools_is_cut_out_on_both_sides() -> None:
    law, guard = (
        'kind = "pid"\naction = "heat_cool"\ngain_per_celsius = 0.1',
        "cut_out_celsius = 70\ncut_out_low_celsius = 30",
    )
    for celsius, word in ((120.0, "above 70 °C"), (-60.0, "below 30 °C")):
        trace = ran(made(law=law, drive=LINEAR, load=BOTH, guard=guard), start_celsius=50.0, span_s=1200.0,
                    events=({"kind": "ambient_step", "at_s": 100, "celsius": celsius},))  # fmt: skip
        text = next(event.text for event in trace.events if event.kind == "cut_out")
        assert word in text and not demands(trace)[-1] and not demands(trace, 1)[-1]


# a firmware that hangs


def test_what_happens_outside_goes_on_while_the_firmware_hangs() -> None:
    law, load = 'kind = "manual"\noutput = 0.5', 'kind = "first_order"\nrise_celsius = 100\ntime_constant_s = 1'
    hangs = {"kind": "stalled", "at_s": 100, "for_s": 200}
    beside = (
        {"kind": "power_step", "at_s": 150, "for_s": 20, "power_fraction": 0.5}, {"kind": "output_stuck_off", "at_s": 200, "for_s": 20},
        {"kind": "output_stuck_on", "at_s": 240, "for_s": 20},
    )  # fmt: skip
    trace = ran(made(law=law, drive=LINEAR, load=load), events=(hangs, *beside))
    assert [trace.delivered[k] for k in (110, 155, 180, 205, 230, 245, 270)] == [0.5, 0.25, 0.5, 0.0, 0.5, 1.0, 0.5]
    assert trace.true_celsius[215] == pytest.approx(20.0, abs=0.01)
    # mains lost and back resets it
    reset = ran(
        made(law='kind = "pid"', drive=LINEAR, load=load),
        events=(hangs, {"kind": "mains_lost", "at_s": 150, "for_s": 10}),
    )
    assert (reset.whole_flags[120] & Flag.STALLED) and not (reset.whole_flags[160:] & Flag.STALLED).any()


def test_alarms_are_those_of_the_firmware_while_it_hangs_and_after() -> None:
    guard = 'watchdog_s = 30\nalarms = [ { kind = "probe_fault", celsius = 0 }, { kind = "high", celsius = 60, latch = true } ]'
    hot = {"kind": "setpoint_step", "at_s": 0, "for_s": 900, "celsius": 65}
    design = made(
        law='kind = "pid"\ngain_per_celsius = 0.5\nintegral_time_s = 200', drive=LINEAR, load=LAG, guard=guard
    )
    trace = ran(design, span_s=4000.0, events=(hot, {"kind": "stalled", "at_s": 2500, "for_s": 100}))
    raised = trace.alarms.astype(int)
    assert not (raised & 1).any()  # the probe was whole all the time
    assert (raised[2000:2530] & 2).all() and not (raised[2531:] & 2).any()  # latched until the watchdog's restart
    assert [event.text for event in trace.events if event.kind == "alarm"] == ["alarm high, 60 °C"]


def test_the_check_gives_an_ideal_probe_its_reading_once() -> None:
    """Before filter and checks: filtered twice, the C would be told to differ from the simulation."""
    probe = 'kind = "ideal"\nnoise_celsius = 0.1\nfilter = { kind = "exponential", time_constant_s = 5 }'
    design = made(law='kind = "pid"\nintegral_time_s = 200', drive=LINEAR, load=LAG, probe=probe)
    trial = Trial.model_validate({"span_s": 900.0, "seed": 5, "events": FAULT})
    record = recorded(design, trial)
    apart = reference_difference(design, record, host.rows(design, record.given))
    assert apart["measured_celsius"] < 1e-4 and apart["other_decisions_fraction"] == 0.0


# the C says the same


CHECKED: dict[str, tuple[str, str, str, str]] = {
    "sets": (f'kind = "pid"\nsetpoint_weight = 0.4\nslew_per_s = 0.05\ngains_by = "interpolated"\n{SETS}', 'kind = "time_proportional"\nwindow_s = 7', LAG, "probe_fault_output = 0.3"),
    "sets, nearest, ramp": (f'kind = "pid"\nsetpoint_weight = 0.0\nramp_celsius_per_s = 0.05\nanti_windup = "back_calculate"\n{SETS}', LINEAR, LAG, ""),
    "cooling": ('kind = "pid"\naction = "heat_cool"\ngain_per_celsius = 0.1\nintegral_time_s = 90\nsetpoint_weight = 0.5\ncool_integral_time_s = 0\ncool_derivative_time_s = 4\nmanual_mode = true', LINEAR, BOTH, "probe_fault_output = -0.3\ncut_out_low_celsius = -20"),
    "cooling, back": ('kind = "pid"\naction = "heat_cool"\ngain_per_celsius = 0.1\nintegral_time_s = 90\ncool_integral_time_s = 30\nslew_per_s = 0.1\ndead_zone = 0.1\nanti_windup = "back_calculate"', LINEAR, BOTH, 'alarms = [ { kind = "loop_break", celsius = 2, delay_s = 40, trips = true } ]'),
    "on/off": ('kind = "on_off"\nmin_off_s = 30\nmin_on_s = 20', 'kind = "relay"\nmin_on_s = 40\nmin_off_s = 25', LAG, 'probe_fault_output = 1.0\nalarms = [ { kind = "rate_of_rise", celsius = 9, delay_s = 37, hysteresis_celsius = 2 }, { kind = "deviation_low", celsius = 2, standby = true } ]'),
    "on/off both": ('kind = "on_off"\naction = "heat_cool"\nmin_off_s = 30', LINEAR, BOTH, "probe_fault_output = -0.9\ncut_out_celsius = 90"),
    "stages": ('kind = "stages"\nstage_delay_s = 7\nmin_off_s = 11\nrotation = "each_start"', LINEAR, LAG, 'probe_fault_output = 0.8\nalarms = [ { kind = "loop_break", celsius = 2, delay_s = 20 } ]'),
    "timer": ('kind = "timer"\npattern = "cold_start_then_repeat"\nfirst_s = 299\non_s = 7\noff_s = 5', 'kind = "time_proportional"\nwindow_s = 3.3\nmains_hz = 60', LAG, "probe_fault_output = 0.1"),
    "fan": ('kind = "fan_curve"\nkick_s = 3\nslew_per_s = 0.02\nsecond_on_celsius = 45', LINEAR, 'kind = "lump"\nheater_watt = 0\nfan_w_per_k = 1\nsecond_fan_w_per_k = 1\nalways_watt = 80\nheat_capacity_j_per_k = 200', "probe_fault_output = 0.6"),
}  # fmt: skip
WEATHER = (
    *FAULT, {"kind": "setpoint_step", "at_s": 350, "celsius": 66}, {"kind": "probe_open", "at_s": 420, "for_s": 40},
    {"kind": "mains_lost", "at_s": 500, "for_s": 8}, {"kind": "power_step", "at_s": 560, "for_s": 200, "power_fraction": 0.1},
    {"kind": "setpoint_step", "at_s": 620, "for_s": 100, "celsius": 40},
)  # fmt: skip


@pytest.mark.parametrize("name", CHECKED)
def test_the_c_says_the_same(name: str) -> None:
    law, drive, load, guard = CHECKED[name]
    by_hand = ({"kind": "manual", "at_s": 700, "for_s": 20, "output": -0.4},) if "manual_mode" in law else ()
    probe = 'kind = "thermistor"\nnoise_celsius = 0.02'
    setpoint = (
        ""
        if "gain_sets" not in law
        else 'kind = "day_night"\nday_celsius = 66\nnight_celsius = 63\nday_begins_s = 28900\nclock_at_start_s = 28600'
    )
    trial = Trial.model_validate({"span_s": 900.0, "seed": 4, "events": [*WEATHER, *by_hand]})
    design = made(law=law, drive=drive, load=load, guard=guard, probe=probe, setpoint=setpoint or "celsius = 50")
    design = design.model_copy(update={"trial": (trial,)})
    said = check(design, targets=())
    assert said["targets"][0]["bit_equal"] and said["reference"]["bit_equal"], said
    record = recorded(design, trial)
    assert (host.rows(design, record.given, host.SANITIZER_FLAGS) == host.rows(design, record.given)).all()
    if setpoint:
        return  # a time of day does not fit Q16.16
    fixed, plain = (
        answer_row.demands(host.rows(design, record.given, form=form))
        for form in (Form(fixed=True, table=True), Form())
    )
    assert np.median(np.abs(fixed - plain)) < 5e-3 and np.mean(np.abs(fixed - plain) > 0.02) < 0.03


HOURS_S = 4.0 * 3600.0
LONG_TIMES: dict[str, tuple[dict[str, str], int]] = {
    "on/off": (
        {
            "law": f'kind = "on_off"\nhysteresis_celsius = 2\nperiod_s = 0.1\nmin_off_s = {HOURS_S}',
            "drive": 'kind = "linear"',
        },
        0,
    ),
    "stages": (
        {
            "law": f'kind = "stages"\nhysteresis_celsius = 2\nperiod_s = 0.1\nmin_off_s = {HOURS_S}',
            "drive": 'kind = "linear"',
        },
        0,
    ),
    "relay": (
        {
            "law": 'kind = "on_off"\nhysteresis_celsius = 2\nperiod_s = 0.1',
            "drive": f'kind = "relay"\nmin_off_s = {HOURS_S}',
        },
        answer_row.ticks_at(0),
    ),
    "alarm": (
        {
            "law": 'kind = "manual"\nperiod_s = 0.1',
            "guard": f'alarms = [ {{ kind = "low", celsius = 40, delay_s = {HOURS_S} }} ]',
        },
        answer_row.ALARMS,
    ),
    "stuck": (
        {"law": 'kind = "manual"\nperiod_s = 0.1', "probe": f'kind = "thermistor"\nchecks = {{ stuck_s = {HOURS_S} }}'},
        answer_row.FLAGS,
    ),
}


@pytest.mark.parametrize("name", LONG_TIMES)
def test_hours_are_counted_to_the_step(name: str) -> None:
    """In single precision 0.1 s added up by itself is 37 s off after four hours: 370 steps."""
    own, column = LONG_TIMES[name]
    design = made(**{"probe": 'kind = "thermistor"', **own})
    steps = round(HOURS_S / 0.1)
    given = inputs(design, np.full(steps + 400, 2500.0))
    rows = host.rows(design, given)
    changed = int(np.flatnonzero(rows[:, column or answer_row.demand_at(0)] != 0.0)[0])
    assert abs(changed - steps) <= 1


CHECKS = ("low_celsius = 0", "high_celsius = 90", "fastest_celsius_per_s = 2", "stuck_s = 60", "reversed_celsius = 5")


@pytest.mark.parametrize("probe", ["thermistor", "thermocouple", "digital"])
def test_any_checks_build(probe: str, tmp_path: Path) -> None:
    """Each set of checks by itself: no parameter, setting or name is left over."""
    for form in (Form(), Form(constant=True)):
        for many in range(1, len(CHECKS) + 1):
            for chosen in itertools.combinations(CHECKS, many):
                design = made(probe=f'kind = "{probe}"\nchecks = {{ {", ".join(chosen)} }}')
                sources = generate(design, form=form)
                sources.put(tmp_path)
                command = [*host.compiler(), *host.STRICT_FLAGS, "-fsyntax-only", f"{sources.prefix}_probe.c"]
                done = subprocess.run(command, capture_output=True, text=True, check=False, cwd=tmp_path)
                assert done.returncode == 0, (chosen, done.stderr)
