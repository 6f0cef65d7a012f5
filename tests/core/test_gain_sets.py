"""Gains at several setpoints, cycles read from a record, and what a law without gains has to choose."""

from __future__ import annotations

import json
import math
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from calor import loop
from calor.cli import invoke
from calor.demo import FOLDER
from calor.design.file import read
from calor.design.trial import Trial
from calor.errors import CalorError
from calor.identify.observed import observe
from calor.judge.verdict import judge
from calor.law.pid import Pid
from calor.tune.choices import choices
from calor.tune.cycles import cycles_of
from calor.tune.gain_sets import found_at, with_sets
from calor.tune.known import known_by, known_from
from calor.tune.relay import carried_out, planned
from calor.tune.waveform import waveform
from tests.conftest import made

FAN = 'kind = "lump"\nheater_watt = 0\nalways_watt = 120\nheat_capacity_j_per_k = 400\nloss_w_per_k = 0.6\nfan_w_per_k = 6'
LOAD = 'kind = "first_order"\nrise_celsius = 100\ntime_constant_s = 600\ndead_time_s = 30'


def test_wax_that_melts_wants_other_gains_than_wax_that_has_melted(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """While it melts, at 58 °C, it takes several times the heat for a degree; those gains are none above."""
    kept = tmp_path / "sets.toml"
    words = ["tune", str(FOLDER / "wax_melter.toml"), "--sets", "60, 75, 90", "--rule", "simc_pi"]
    assert invoke([*words, "--out", str(kept), "--json"]) in (0, 1)
    sets = json.loads(capsys.readouterr().out)["gain_sets"]
    assert [one["at_celsius"] for one in sets] == [60.0, 75.0, 90.0]
    assert sets[0]["gain_per_celsius"] > 3.0 * sets[1]["gain_per_celsius"] and sets[1]["ms_of_first"] is None
    assert all(one["stable"] and one["ms"] < 1.8 and one["rule"] == "simc_pi" for one in sets)
    law = read(kept).design.law
    assert isinstance(law, Pid) and law.gains_by == "interpolated"
    assert [one.at_celsius for one in law.gain_sets] == [60.0, 75.0, 90.0]
    assert law.gain_sets[0].gain_per_celsius == pytest.approx(sets[0]["gain_per_celsius"], rel=1e-3)
    assert "# wax, not water" in kept.read_text()
    assert invoke(words) in (0, 1) and "gain sets by SIMC, PI" in capsys.readouterr().out


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (["--sets", "30"], "takes 2 to 6 setpoints (received 30)"),
        (["--sets", "30,31,32,33,34,35,36"], "takes 2 to 6 setpoints"),
        (["--sets", "30,warm"], "--sets: takes setpoints in °C"),
        (["--sets", "30,500"], "no output holds 500 °C"),
        (["--sets", "30,40", "--rule", "simc_pi", "--rule", "amigo_pi"], "one --rule for all sets"),
    ],
)
def test_sets_that_cannot_be(words: list[str], says: str, capsys: pytest.CaptureFixture[str]) -> None:
    assert invoke(["tune", str(FOLDER / "hatching_cabinet.toml"), *words]) == 2
    assert says in capsys.readouterr().err


def test_sets_go_where_the_law_takes_them() -> None:
    design = made(law='kind = "pid"\nautotune = {}', drive='kind = "relay"', load=LOAD)
    found = found_at(design, (60.0, 40.0), "simc_pi")
    assert [one.celsius for one in found] == [40.0, 60.0]  # sorted
    with pytest.raises(CalorError, match="autotune finds one set of gains"):
        with_sets(design, found)
    plain = with_sets(made(drive='kind = "relay"', load=LOAD), found)
    assert isinstance(plain.law, Pid) and len(plain.law.gain_sets) == 2 and plain.drive.kind == "time_proportional"


def observed(law: str, drive: str = 'kind = "linear"', span_s: float = 7200.0, **more: Any) -> Any:
    design = made(
        setpoint="celsius = 60", law=law, drive=drive, load=LOAD, probe='kind = "ideal"\nnoise_celsius = 0.02', **more
    )
    trace = loop.run(design, Trial(span_s=span_s))
    return design, observe(replace(trace, recorded_output=trace.delivered), None, (), 20.0)


def test_a_recorded_relay_test_tells_what_the_test_told() -> None:
    """The trace of a relay test, taken as a record: the same gain and period; the exact waveform of first order, a =
    Kd(1 − e^(−L/τ)) and P = 2τ·ln(2e^(L/τ) − 1), solved back to τ and L (Åström & Hägglund 1984)."""
    design = made(
        setpoint="celsius = 60", law='kind = "pid"', drive='kind = "linear"', load=LOAD, probe='kind = "ideal"'
    )
    test = planned(design, amplitude=0.3, limit_celsius=20.0)
    told = carried_out(design, test)
    record = observe(replace(told.trace, recorded_output=told.trace.delivered), None, (), 20.0)
    cycles = cycles_of(record)
    assert cycles is not None and cycles.settled >= 2 and not cycles.note
    assert cycles.ultimate_gain_per_celsius == pytest.approx(told.ultimate_gain_per_celsius, rel=0.03)
    assert cycles.period_s == pytest.approx(told.ultimate_period_s, rel=0.02)
    assert cycles.output_high - cycles.output_low == pytest.approx(0.6, abs=0.01)
    size, period_s = waveform(100.0, 0.3, 600.0, 30.5)
    assert 0.5 * cycles.swing_celsius == pytest.approx(size, rel=0.05)
    assert cycles.period_s == pytest.approx(period_s, rel=0.05)
    known = known_from(design, (record,), 20.0)
    assert known.experiment.time_constant_s == pytest.approx(600.0, rel=0.1)
    assert known.experiment.dead_time_s == pytest.approx(30.5, rel=0.1)


def test_settled_cycles_of_an_on_off_law() -> None:
    """Of the demo's kind: the last cycles count; gain within the describing function's error of the true one."""
    design, record = observed('kind = "on_off"\nhysteresis_celsius = 1.0', 'kind = "relay"')
    known = known_from(design, (record,), 20.0)
    test, true = known.experiment, known_by(design).limit
    assert true is not None and test.cycles == 6 and test.ultimate_gain_per_celsius is not None
    assert 0.55 < test.ultimate_gain_per_celsius / true.gain_per_celsius < 1.1
    assert test.ultimate_period_s == pytest.approx(true.period_s, rel=0.4)
    assert test.model_gain_per_celsius == pytest.approx(0.32, rel=0.1)
    assert test.hysteresis_celsius == pytest.approx(0.5, abs=0.1)


@pytest.mark.parametrize(
    ("law", "drive", "span_s"),
    [
        ('kind = "pid"\ngain_per_celsius = 0.05\nintegral_time_s = 300', 'kind = "linear"', 7200.0),
        ('kind = "on_off"', 'kind = "relay"', 500.0),
        ('kind = "manual"\noutput = 0.4', 'kind = "linear"', 3600.0),
    ],
)
def test_what_is_no_cycle_is_none(law: str, drive: str, span_s: float) -> None:
    """A law that gives shares, one that has not switched often enough, and one that does not switch."""
    assert cycles_of(observed(law, drive, span_s)[1]) is None


def test_cycles_that_change_are_not_settled() -> None:
    """The ambient moves while it switches: only the last ones alike count; a gap takes its cycle out."""
    _, record = observed('kind = "on_off"\nhysteresis_celsius = 1.0', 'kind = "relay"')
    whole = cycles_of(record)
    assert whole is not None
    gap = (whole.end_s - 2.5 * whole.period_s, whole.end_s - 2.4 * whole.period_s)
    part = cycles_of(replace(record, gaps_s=(gap,)))
    assert part is not None and part.settled == 2


@pytest.mark.parametrize(
    ("law", "drive", "load", "key"),
    [
        ('kind = "on_off"\nhysteresis_celsius = 2.0', 'kind = "relay"', LOAD, "hysteresis_celsius"),
        ('kind = "on_off"\nstart_celsius = 49\nstop_celsius = 51', 'kind = "relay"', LOAD, "stop_celsius"),
        ('kind = "stages"', 'kind = "relay"', LOAD, "hysteresis_celsius"),
        ('kind = "fan_curve"\nstart_celsius = 40\nfull_celsius = 60', 'kind = "pwm"', FAN, "full_celsius"),
        ('kind = "fan_curve"\npoints = [[40, 0.3], [50, 0.6], [60, 1.0]]', 'kind = "pwm"', FAN, "points"),
    ],
)
def test_choices_of_a_law_without_gains(law: str, drive: str, load: str, key: str) -> None:
    """From the narrowest width on: a hysteresis swings further and switches less, a fan is quieter and warmer; the
    design's own is among them as it is."""
    design = made(setpoint="celsius = 50", law=law, drive=drive, load=load)
    trial = Trial(span_s=14_400.0)
    found = choices(design, trial)
    assert len(found) >= 5 and [one.width_celsius for one in found] == sorted(one.width_celsius for one in found)
    own = next(one for one in found if one.factor == 1.0)
    assert own.design == design and own.verdict == judge(loop.run(design, trial), design.limits)
    widest, narrowest = found[-1], found[0]
    assert getattr(widest.design.law, key) != getattr(design.law, key)
    if "fan" in law:
        assert widest.noise_db is not None and narrowest.noise_db is not None and widest.noise_db < narrowest.noise_db
        assert widest.peak_celsius > narrowest.peak_celsius  # type: ignore[operator]
        # fan laws: 50 dB for ten times the speed (common practice); a fan that changes is louder than a steady one
        assert 50.0 * math.log10(widest.mean_output) <= widest.noise_db + 1e-9
    else:
        metrics = [one.verdict.metrics for one in found]
        assert metrics[-1].settled_ripple_celsius > metrics[0].settled_ripple_celsius  # type: ignore[operator]
        assert metrics[-1].switchings_per_hour < metrics[0].switchings_per_hour
        assert found[-1].contact_days > found[0].contact_days  # type: ignore[operator]


def test_choices_by_the_command(capsys: pytest.CaptureFixture[str]) -> None:
    assert invoke(["tune", str(FOLDER / "radio_hut.toml"), "--json"]) in (0, 1)
    found = json.loads(capsys.readouterr().out)["choices"]
    assert [one["factor"] for one in found].count(1.0) == 1 and all(one["contact_days"] > 100.0 for one in found)
    assert invoke(["tune", str(FOLDER / "radio_hut_fans.toml")]) in (0, 1)
    assert "start to full of a fan" in capsys.readouterr().out
    with pytest.raises(CalorError, match="no hysteresis and no curve"):
        choices(made(law='kind = "pid"'), Trial())
