"""C of laws with several outputs, setpoints that move, outputs set by hand, and guards that trip: as the Python decides."""

from __future__ import annotations

import subprocess
from typing import Any

import numpy as np
import pytest
from hypothesis import Phase, given, settings
from hypothesis import strategies as st

from calor import loop
from calor.design.event import TUNE
from calor.design.model import Design
from calor.design.trial import Trial
from calor.firmware.run import host
from calor.firmware.run.exchange import TUNES, Answers, answers_from, inputs
from calor.firmware.sources import generate
from calor.loop import Flag
from calor.loop.conditions import AMBIENT, HAND, SIGNAL, timeline
from calor.loop.found_events import alarm_rows
from tests.conftest import made

SPAN_S = 2400.0
PROBE = 'kind = "thermistor"\nnoise_celsius = 0.2'
SSR = 'kind = "time_proportional"\nwindow_s = 4'
RELAY = 'kind = "relay"\nmin_on_s = 4\nmin_off_s = 3'
LINEAR = 'kind = "linear"'
BOTH_WAYS = 'kind = "first_order"\nrise_celsius = 60\nsecond_rise_celsius = -50\ntime_constant_s = 120\ndead_time_s = 5\nambient_celsius = 40'
COLD = 'kind = "first_order"\nrise_celsius = -40\ntime_constant_s = 120\ndead_time_s = 5\nambient_celsius = 70'
PI = 'kind = "pid"\ngain_per_celsius = 0.08\nintegral_time_s = 60\nperiod_s = 0.5'
WEATHER = [
    {"kind": "ambient_step", "at_s": 700, "celsius": 62}, {"kind": "ambient_step", "at_s": 1500, "celsius": 30},
    {"kind": "probe_open", "at_s": 400, "for_s": 20},
]  # fmt: skip
BY_HAND = [
    *WEATHER, {"kind": "manual", "at_s": 900, "for_s": 90, "output": 0.8}, {"kind": "manual", "at_s": 1700, "for_s": 60, "output": 0.1},
]  # fmt: skip
CASES: dict[str, dict[str, Any]] = {
    "two stages": {"law": 'kind = "stages"\nperiod_s = 0.5\nhysteresis_celsius = 2', "drive": RELAY},
    "four stages, cooling, delayed, rotating": {
        "law": 'kind = "stages"\naction = "cool"\nperiod_s = 0.5\nstage_delay_s = 20\nmin_on_s = 6\nmin_off_s = 9\nrotation = "each_start"\n'
        "stages = [ { on_offset_celsius = 0.5, share = 0.4 }, { on_offset_celsius = 1, off_offset_celsius = 0.4, share = 0.2 },"
        " { on_offset_celsius = 2, share = 0.2 }, { on_offset_celsius = 3, off_offset_celsius = 2.5, share = 0.2 } ]",
        "drive": 'kind = "relay"', "load": COLD,
    },
    "on/off both ways": {"law": 'kind = "on_off"\naction = "heat_cool"\nperiod_s = 0.5\nhysteresis_celsius = 1\ndead_zone_celsius = 3', "drive": RELAY},
    "pid both ways, dead zone, two drives": {
        "law": PI + '\naction = "heat_cool"\ndead_zone = 0.2\ncool_gain_ratio = 0.5\ncool_output_high = 0.7', "drive": SSR, "second_drive": RELAY,
    },
    "pid both ways, overlap, PWM": {
        "law": PI + '\naction = "heat_cool"\ndead_zone = -0.1', "drive": 'kind = "pwm"\ntimer_bits = 10\nfrequency_hz = 100', "second_drive": LINEAR,
    },
    "predictive, long dead time": {
        "law": 'kind = "predictive"\nperiod_s = 0.5\nrise_celsius = 60\ntime_constant_s = 300\ndead_time_s = 18\nclosed_loop_s = 60\noutput_high = 0.9',
        "drive": SSR, "guard": "probe_fault_output = 0.4",
    },
    "tunes itself": {
        "law": PI + "\nderivative_time_s = 4\nsetpoint_weight = 0.6\nautotune = { amplitude = 0.25, hysteresis_celsius = 1.2, cycles = 1, timeout_s = 900 }",
        "drive": SSR, "events": [{"kind": "tune", "at_s": 500}, {"kind": "tune", "at_s": 1400}],
    },
    "tunes itself, both ways, led back": {
        "law": PI + '\naction = "heat_cool"\nanti_windup = "back_calculate"\nmanual_mode = true\ncool_integral_time_s = 40\n'
        'autotune = { amplitude = 0.4, hysteresis_celsius = 1.2, cycles = 1, rule = "tyreus_luyben_pid", limit_celsius = 70 }',
        "drive": LINEAR, "events": [{"kind": "tune", "at_s": 500}, {"kind": "manual", "at_s": 1500, "for_s": 60, "output": -0.4}],
    },
    "predictive both ways": {
        "law": 'kind = "predictive"\naction = "heat_cool"\nperiod_s = 0.5\nrise_celsius = 60\ncool_rise_celsius = 25\ntime_constant_s = 300\n'
        "dead_time_s = 3\nclosed_loop_s = 40\ncool_output_high = 0.7",
        "drive": LINEAR,
    },
    "by hand": {"law": PI + "\nmanual_mode = true\nslew_per_s = 0.2", "drive": SSR, "events": BY_HAND},
    "by hand, both ways, led back": {
        "law": PI + '\nmanual_mode = true\naction = "heat_cool"\nanti_windup = "back_calculate"', "drive": LINEAR,
        "events": [*BY_HAND, {"kind": "manual", "at_s": 1200, "for_s": 30, "output": -0.5}],
    },
    "by hand, without an integral": {"law": 'kind = "pid"\ngain_per_celsius = 0.1\nperiod_s = 0.5\nmanual_mode = true', "drive": LINEAR, "events": BY_HAND},
    "gain sets, nearest, on a program": {
        "law": PI + "\ngain_sets = [ { at_celsius = 42, gain_per_celsius = 0.02, integral_time_s = 90 },"
        " { at_celsius = 55, gain_per_celsius = 0.1, integral_time_s = 40, derivative_time_s = 3 } ]",
        "drive": SSR,
        "setpoint": 'kind = "program"\nsegments = [ { to_celsius = 45, rate_celsius_per_min = 2, soak_s = 200 },'
        " { to_celsius = 60, ramp_s = 300, soak_s = 100 }, { to_celsius = 42 } ]",
    },
    "gain sets, in between, program twice, held back": {
        "law": PI + '\ngains_by = "interpolated"\ngain_sets = [ { at_celsius = 42, gain_per_celsius = 0.02, integral_time_s = 0 },'
        " { at_celsius = 50, gain_per_celsius = 0.1, integral_time_s = 40 }, { at_celsius = 58, gain_per_celsius = 0.05, integral_time_s = 50 } ]",
        "drive": SSR, "noise": "0.05",
        "setpoint": 'kind = "program"\nhold_back_celsius = 2\ntimes = 2\nend = "fall_to"\nend_celsius = 44\n'
        "segments = [ { to_celsius = 50, rate_celsius_per_min = 3, soak_s = 300 }, { to_celsius = 60, soak_s = 100 } ]",
    },
    "program that ends off": {
        "law": PI, "drive": SSR, "setpoint": 'kind = "program"\nend = "off"\nsegments = [ { to_celsius = 55, ramp_s = 600, soak_s = 300.2 } ]',
    },
    "day and night": {
        "law": PI, "drive": SSR,
        "setpoint": 'kind = "day_night"\nday_celsius = 52\nnight_celsius = 44\nday_begins_s = 900\nnight_begins_s = 85900\nclock_at_start_s = 85500',
    },
    "dew point": {
        "law": PI, "drive": SSR, "events": [],
        "setpoint": 'kind = "follow"\noffset_celsius = 3\nlow_limit_celsius = 8', "trial": {"humidity": 0.8, "swing_celsius": 8.0, "swing_period_s": 1800.0},
    },
    "ambient and a distance": {"law": PI, "drive": SSR, "setpoint": 'kind = "follow"\nsignal = "ambient"\noffset_celsius = -5', "load": BOTH_WAYS},
    "fan of a difference, second fan": {
        "law": 'kind = "fan_curve"\nperiod_s = 0.5\nfollows = "difference"\nstart_celsius = 3\nfull_celsius = 9\nhysteresis_celsius = 1\n'
        "second_on_celsius = 6\nsecond_off_celsius = 4",
        "drive": 'kind = "pwm"\ntimer_bits = 8\nfrequency_hz = 100\nidle_output = 0.2\nsupply_switch = true', "second_drive": 'kind = "relay"\nactive_low = true',
        "load": 'kind = "lump"\nheater_watt = 0\nalways_watt = 60\nheat_capacity_j_per_k = 400\nloss_w_per_k = 2.5\nfan_w_per_k = 6\nsecond_fan_w_per_k = 4',
    },
    "an alarm that trips, active low": {
        "law": PI + "\nbias = 0.5", "drive": SSR + "\nactive_low = true",
        "guard": 'alarms = [ { kind = "rate_of_rise", celsius = 6, delay_s = 10 }, { kind = "high", celsius = 56, delay_s = 5, trips = true } ]',
        "trial": {"ambient_celsius": 40.0}, "noise": "0.02",
    },
}  # fmt: skip


def design_of(case: str) -> Design:
    own = {key: value for key, value in CASES[case].items() if key not in ("events", "trial", "noise")}
    probe = PROBE.replace("0.2", CASES[case].get("noise", "0.2"))
    return made(**{"load": BOTH_WAYS, "probe": probe, **own})


def compared(design: Design, trial: Trial, flags: tuple[str, ...] = ("-O2",)) -> tuple[loop.Trace, Answers]:
    """A run, and the C on what its probe gave and on what else it looked at."""
    trace = loop.run(design, trial)
    around = timeline(design, trial)
    rows = around.values[np.searchsorted(around.at_s, trace.time_s + 1e-9, side="right") - 1]
    other = rows[:, SIGNAL] if design.setpoint.kind == "follow" else rows[:, AMBIENT]
    given_ = inputs(design, trace.counts, other, rows[:, HAND])
    given_["calls"] = np.where(np.diff(rows[:, TUNE], prepend=0.0) > 0.0, TUNES, 0)
    return trace, answers_from(host.rows(design, given_, flags))


def assert_alike(design: Design, trace: loop.Trace, answer: Answers) -> None:
    """Every output's demand, decision by decision, and the setpoint; what a threshold's rounding does is let pass."""
    demands = np.array([output.demand for output in trace.outputs] or [trace.demand])
    assert np.abs(answer.setpoint_celsius - trace.setpoint_celsius).max() < 2e-3
    apart = np.abs(answer.demands - demands).max(axis=0)
    assert np.count_nonzero(apart > 3e-3) <= (0 if design.law.kind in ("pid", "predictive", "fan_curve") else 2), (
        apart.argmax()
    )
    known = int(Flag.PROBE_FAULT | Flag.CUT_OUT | Flag.PROBE_OPEN | Flag.PROBE_SHORT)
    assert ((answer.flags & known) == (trace.flags.astype(int) & known)).all()


@pytest.mark.parametrize("case", CASES)
def test_c_decides_as_python(case: str) -> None:
    design, extra = design_of(case), CASES[case]
    trial = Trial.model_validate(
        {"span_s": SPAN_S, "seed": 5, "events": extra.get("events", WEATHER), **extra.get("trial", {})}
    )
    trace, answer = compared(design, trial)
    assert_alike(design, trace, answer)
    delivered = [output.delivered for output in trace.outputs] or [trace.delivered]
    for number, given_ in enumerate(delivered):
        assert given_.max() > 0.0 or design.guard.alarms, number  # each output is used
        drive = design.drive_of(number)
        if drive.kind in ("relay", "time_proportional"):
            ticks = round(0.5 / generate.tick_s(design))
            # a minimum time that ends within a step: the tick nearest to its end
            assert answer.all_ticks[number].sum() / ticks / trace.steps == pytest.approx(given_.mean(), abs=4e-3)
    clean = compared(design, trial.model_copy(update={"span_s": 500.0}), host.SANITIZER_FLAGS)[1]
    assert (clean.demands == answer.demands[:, : clean.demands.shape[1]]).all()
    if "trips" in case:
        assert any("tripped by an alarm" in event.text for event in trace.events) and answer.demand[-1] == 0.0


def test_code_grows_only_by_what_a_design_uses() -> None:
    """The C of a plain law says nothing of stages, programs, hands or second outputs."""
    text = "".join(generate.generate(made(law=PI, drive=SSR, probe=PROBE)).files.values())
    words = ("stage", "program", "hand_output", "second_drive", "split", "gain_sets", "signal", "o2_")
    assert not [word for word in words if word in text]
    sizes = {case: sum(map(len, generate.generate(design_of(case)).files.values())) for case in CASES}
    assert sizes["two stages"] < sizes["four stages, cooling, delayed, rotating"]


@settings(max_examples=24, deadline=None, derandomize=True)
@given(
    kind=st.sampled_from(["stages", "both ways", "program", "on/off", "fan"]), seed=st.integers(0, 999), zone=st.floats(-0.3, 0.6), ratio=st.floats(0.2, 4),
    offsets=st.lists(st.floats(0.1, 6), min_size=1, max_size=4, unique=True), hysteresis=st.floats(0.2, 4), delay=st.sampled_from([0.0, 7.0, 40.0]),
    rotates=st.booleans(), heats=st.booleans(), manual=st.booleans(), rate=st.floats(0.5, 20), soak=st.floats(0, 300), hold_back=st.one_of(st.none(), st.floats(1, 8)),
)  # fmt: skip
def test_any_of_them_in_c(
    kind: str, seed: int, zone: float, ratio: float, offsets: list[float], hysteresis: float, delay: float, rotates: bool,
    heats: bool, manual: bool, rate: float, soak: float, hold_back: float | None,
) -> None:  # fmt: skip
    """Random stages, splits and programs: the same decisions, but where a threshold falls on a rounding."""
    base = made(load=BOTH_WAYS, probe='kind = "thermistor"\nnoise_celsius = 0.1', drive=LINEAR)
    side = -1.0 if heats else 1.0
    law: dict[str, Any] = {
        "kind": "stages", "period_s": 0.5, "action": "heat" if heats else "cool", "stages": [{"on_offset_celsius": side * away} for away in sorted(offsets)],
        "hysteresis_celsius": hysteresis, "stage_delay_s": delay, "rotation": "each_start" if rotates else "none",
    }  # fmt: skip
    setpoint: dict[str, Any] = {"kind": "hold", "celsius": 50.0}
    action = "heat" if heats else "cool"
    if kind == "on/off":
        law = {
            "kind": "on_off", "period_s": 0.5, "action": "heat_cool" if rotates else action, "hysteresis_celsius": hysteresis, "min_on_s": delay,
            "min_off_s": 2 * delay, "dead_zone_celsius": ratio, "placed": "centred" if rotates else ("above", "below", "centred")[seed % 3],
        }  # fmt: skip
    elif kind == "fan":
        law = {
            "kind": "fan_curve", "period_s": 0.5, "action": action, "start_celsius": 48.0, "full_celsius": 48.0 + side * 3 * ratio, "floor": min(soak / 300, 0.9),
            "hysteresis_celsius": hysteresis, "kick_s": delay, "slew_per_s": rate / 40 if rotates else 0.0, "second_on_celsius": 50.0 + side * hysteresis,
        }  # fmt: skip
    elif kind != "stages":
        law = {
            "kind": "pid", "period_s": 0.5, "action": "heat_cool", "gain_per_celsius": 0.1, "integral_time_s": 50.0, "dead_zone": zone,
            "cool_gain_ratio": ratio, "manual_mode": manual,
        }  # fmt: skip
    if kind == "program":
        parts = [
            {"to_celsius": 52.0, "rate_celsius_per_min": rate, "soak_s": soak},
            {"to_celsius": 41.0, "ramp_s": 3 * soak, "soak_s": 10.0},
        ]
        setpoint = {"kind": "program", "segments": parts, "hold_back_celsius": hold_back, "times": 0}
    design = Design.model_validate({**dict(base), "law": law, "setpoint": setpoint})
    hand = (
        [{"kind": "manual", "at_s": 500, "for_s": 50, "output": -0.4}]
        if kind in ("both ways", "program") and manual
        else []
    )
    trial = Trial.model_validate({"span_s": 1500, "seed": seed, "start_celsius": 45.0, "events": [*WEATHER, *hand]})
    trace, answer = compared(design, trial)
    demands = np.array([output.demand for output in trace.outputs] or [trace.demand])
    apart = np.abs(answer.demands - demands).max(axis=0)
    assert np.count_nonzero(apart > 5e-3) <= 0.005 * trace.steps


ALARM = st.fixed_dictionaries(
    {
        "kind": st.sampled_from(["high", "low", "deviation_high", "deviation_low", "in_band", "out_of_band", "probe_fault", "loop_break", "rate_of_rise"]),
        "celsius": st.floats(0.5, 6), "hysteresis_celsius": st.floats(0, 2), "delay_s": st.floats(0.3, 40), "latch": st.booleans(), "standby": st.booleans(),
    }
)  # fmt: skip


@settings(max_examples=16, deadline=None, derandomize=True, phases=(Phase.generate,))
@given(
    guards=st.lists(ALARM, min_size=1, max_size=5), seed=st.integers(0, 999), cool=st.booleans(), fault_output=st.floats(0, 1),
    pattern=st.sampled_from(["", "repeat", "run_then_stop", "wait_then_run", "cold_start_then_repeat"]), on=st.floats(0.5, 30), off=st.floats(0, 60), first=st.floats(0, 300),
    drive=st.sampled_from(["relay", "time_proportional", "pwm", "linear"]), shortest=st.floats(0, 9), window=st.floats(1, 30), low=st.booleans(), band=st.floats(0, 0.3),
)  # fmt: skip
def test_any_guard_drive_and_timer_in_c(
    guards: list[dict[str, Any]], seed: int, cool: bool, fault_output: float, pattern: str, on: float, off: float, first: float,
    drive: str, shortest: float, window: float, low: bool, band: float,
) -> None:  # fmt: skip
    """Random alarms under a random drive and law: each alarm's bit, each demand, and what the switch made of it."""
    side = "cool" if cool else "heat"
    law: dict[str, Any] = {
        "kind": "pid",
        "action": side,
        "period_s": 0.5,
        "gain_per_celsius": 0.1,
        "integral_time_s": 60.0,
    }
    if pattern:
        law = {
            "kind": "timer",
            "action": side,
            "period_s": 0.5,
            "pattern": pattern,
            "on_s": on,
            "off_s": off,
            "first_s": first,
        }
    drives: dict[str, dict[str, Any]] = {
        "relay": {"min_on_s": shortest, "min_off_s": shortest / 2, "active_low": low},
        "time_proportional": {"window_s": window, "switch": "relay" if low else "ssr_random", "min_pulse_s": min(shortest, window / 3)},
        "pwm": {"timer_bits": 10, "frequency_hz": 100.0, "dead_band": band}, "linear": {},
    }  # fmt: skip
    for alarm in guards:
        alarm["celsius"] += 50.0 if alarm["kind"] == "high" else 40.0 if alarm["kind"] == "low" else 0.0
    base = made(load=COLD if cool else BOTH_WAYS, probe='kind = "thermistor"\nnoise_celsius = 0.1')
    design = Design.model_validate(
        {
            **dict(base),
            "law": law,
            "drive": {"kind": drive, **drives[drive]},
            "guard": {"alarms": guards, "probe_fault_output": fault_output},
        }
    )
    trace, answer = compared(design, Trial.model_validate({"span_s": 900, "seed": seed, "events": WEATHER}))
    apart = np.abs(answer.demand - trace.demand)
    assert np.count_nonzero(apart > 3e-3) <= (0 if not pattern else 3), design.law
    for number, alarm in enumerate(design.guard.alarms):
        in_c = (answer.alarms >> number) & 1 > 0
        # a threshold's rounding may start a delay a step later, and a latch one of the two for good
        differ = np.count_nonzero(alarm_rows(alarm, design, trace) != in_c)
        assert differ <= (3 + 2 * alarm.delay_s / 0.5 if not alarm.latch else 4 + 2 * alarm.delay_s / 0.5), alarm
    if drive in ("relay", "time_proportional"):
        ticks = round(0.5 / generate.tick_s(design))
        assert answer.on_ticks.sum() / ticks / trace.steps == pytest.approx(trace.delivered.mean(), abs=6e-3)
    elif drive == "pwm":
        top = generate.pwm.timing(design.drive).top
        # the pin is given what was asked; what a fan makes of a duty in its dead band is the simulation's
        differ = np.abs(answer.on_ticks - np.round(trace.demand * top)) > 1
        assert np.count_nonzero(differ) <= (0 if not pattern else 3)


def test_a_lock_holds_in_c_and_a_knob_turns_the_setpoint(tmp_path: Any) -> None:
    for locked in (True, False):
        design = made(
            setpoint=f"celsius = 50\nhigh_limit_celsius = 70\nlocked = {str(locked).lower()}",
            law=PI,
            drive=LINEAR,
            knob="low_celsius = 30\nhigh_celsius = 60",
        )
        sources = generate.generate(design)
        main = '#include "untitled_thermostat.h"\nint main(void) { untitled_state s; untitled_init(&s, &untitled_defaults); bool taken = untitled_set_setpoint(&s, 60.0f); return (taken ? 1 : 0) + (untitled_set_setpoint(&s, 71.0f) ? 2 : 0) + (s.setpoint_celsius > 55.0f ? 4 : 0); }\n'
        for name, text in {**sources.files, "main.c": main}.items():
            (tmp_path / name).write_text(text)
        subprocess.run(
            [
                *host.compiler(),
                "-std=c99",
                tmp_path / "main.c",
                *(tmp_path / name for name in sources.built),
                "-o",
                tmp_path / "lock",
            ],
            check=True,
        )
        assert subprocess.run([tmp_path / "lock"], check=False).returncode == (0 if locked else 5)
        turned = loop.run(
            design,
            Trial.model_validate({"span_s": 100, "events": [{"kind": "knob_turned", "at_s": 50, "to_fraction": 1.0}]}),
        )
        assert turned.setpoint_celsius[-1] == (50.0 if locked else 60.0)
