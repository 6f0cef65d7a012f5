"""Self-tuning on the device: what it finds against the host's test and the true limit, and each way in which it ends."""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from calor import loop
from calor.cli import invoke
from calor.demo import DEMOS
from calor.design.file import read
from calor.design.model import Design
from calor.design.trial import Trial
from calor.errors import DesignError
from calor.firmware.check import agreement, reference
from calor.firmware.check.agreement import first_difference
from calor.firmware.check.recorded import recorded
from calor.firmware.controller.seat import seated
from calor.firmware.run import chip, host
from calor.firmware.sources.form import Form
from calor.judge.advice import advise
from calor.judge.verdict import judge
from calor.law import autotune
from calor.law.autotune import APPLIED, REASONS, RULES, Autotune
from calor.law.pid import Pid
from calor.loop import Flag, answer_row
from calor.tune import relay
from calor.tune.process import proportional
from tests.conftest import made

LOAD = 'kind = "first_order"\nrise_celsius = 100\ntime_constant_s = 200\ndead_time_s = 10'
FOUR = ("hatching_cabinet", "radio_hut_fans", "film_bath", "camera_cooler")


def bench(
    events: list[dict[str, Any]],
    law: str = "",
    tune: str = "",
    probe: str = 'kind = "ideal"',
    span_s: float = 2500.0,
    guard: str = "",
) -> Design:
    """A load that is held at 60 °C, with a law that tunes itself."""
    law = f'kind = "pid"\ngain_per_celsius = 0.03\nintegral_time_s = 150\nmanual_mode = true\n{law}\nautotune = {{ {tune} }}'
    design = made(setpoint="celsius = 60", law=law, drive='kind = "linear"', load=LOAD, probe=probe, guard=guard)
    return design.model_copy(update={"trial": (Trial.model_validate({"span_s": span_s, "events": events}),)})


def ran(design: Design) -> loop.Trace:
    return loop.run(design, design.trial[0])


@pytest.mark.parametrize("stem", FOUR)
def test_it_finds_what_the_host_finds(stem: str) -> None:
    """On four demo loads, heating and cooling, under a window or PWM, with their own noise: gain and period at the limit
    within a fifth of the host's relay test, and the loop holds the setpoint afterwards."""
    design = next(proportional(read(demo.design).design) for demo in DEMOS if demo.design.stem == stem)
    test = relay.planned(design)
    host = relay.carried_out(design, test)
    law: Any = design.law
    if not isinstance(law, Pid):
        law = Pid(action=law.action, period_s=law.period_s, gain_per_celsius=0.05, integral_time_s=300.0)
    own = Autotune(
        amplitude=min(test.amplitude, 0.5), hysteresis_celsius=test.hysteresis_celsius, rule="tyreus_luyben_pi", timeout_s=20_000.0,
    )  # fmt: skip
    design = design.model_copy(update={"law": law.model_copy(update={"autotune": own})})
    at_s, celsius = 3000.0, float(design.setpoint.celsius)
    trial = Trial.model_validate(
        {"span_s": 9000.0, "start_celsius": celsius, "events": [{"kind": "tune", "at_s": at_s}]}
    )
    trace = loop.run(design, trial)
    (found,) = trace.tunings
    assert found.result == APPLIED and found.began_s == pytest.approx(at_s, abs=law.period_s)
    gain, time, _ = RULES["tyreus_luyben_pi"]
    assert found.gain_per_celsius / gain == pytest.approx(host.ultimate_gain_per_celsius, rel=0.2)
    assert found.integral_time_s / time == pytest.approx(host.ultimate_period_s, rel=0.2)
    assert found.ended_s - at_s < 1.3 * test.expected_s + 10.0 * host.ultimate_period_s
    late = trace.measured_celsius[trace.time_s > 8000.0]
    assert np.abs(late - celsius).max() < max(4.0 * design.limits.band_celsius, 6.0 * test.hysteresis_celsius)
    during = (trace.whole_flags & Flag.TUNING) > 0
    assert during.sum() * law.period_s == pytest.approx(found.ended_s - at_s, abs=2.0 * law.period_s)


@settings(max_examples=25, deadline=None, derandomize=True)
@given(
    ratio=st.floats(0.03, 0.8), tau=st.floats(60, 2000), rise=st.floats(60, 300), held=st.floats(0.3, 0.7), amplitude=st.floats(0.1, 0.3),
    rule=st.sampled_from(sorted(RULES)), back=st.booleans(),
)  # fmt: skip
def test_against_the_exact_waveform(
    ratio: float, tau: float, rise: float, held: float, amplitude: float, rule: str, back: bool
) -> None:
    """Amplitude and period of first order with dead time under a relay are known exactly: a = K·d·(1 − e^(−L/τ)),
    P = 2τ·ln(2e^(L/τ) − 1). Source: Åström & Hägglund (1984), and any text on relay control; a control step is 1/200 of L."""
    dead = ratio * tau
    period = dead / 200.0
    design = made(
        setpoint=f"celsius = {20.0 + held * rise}", drive='kind = "linear"', probe='kind = "ideal"',
        load=f'kind = "first_order"\nrise_celsius = {rise}\ntime_constant_s = {tau}\ndead_time_s = {dead}',
        law=f'kind = "pid"\nperiod_s = {period}\ngain_per_celsius = {0.2 / (rise * ratio)}\nintegral_time_s = {tau}\n'
        f'autotune = {{ amplitude = {amplitude}, hysteresis_celsius = 0.0, cycles = 6, rule = "{rule}", timeout_s = {40 * tau} }}\n'
        + ('anti_windup = "back_calculate"' if back else ""),
    )  # fmt: skip
    size = rise * amplitude * (1.0 - math.exp(-ratio))
    cycle_s = 2.0 * tau * math.log(2.0 * math.exp(ratio) - 1.0)
    trial = Trial.model_validate(
        {"span_s": 12.0 * tau + 14.0 * cycle_s, "start_celsius": design.setpoint.celsius, "events": [{"kind": "tune", "at_s": 12.0 * tau}]}
    )  # fmt: skip
    (found,) = loop.run(design, trial).tunings
    gain, integral, derivative = RULES[rule]
    assert REASONS[found.result] == "gains applied"
    assert found.gain_per_celsius == pytest.approx(min(gain * 4.0 * amplitude / (math.pi * size), 1000.0), rel=0.06)
    assert found.integral_time_s == pytest.approx(integral * cycle_s, rel=0.06)
    assert found.derivative_time_s == pytest.approx(derivative * cycle_s, rel=0.06)


TUNE = {"kind": "tune", "at_s": 1000.0}
EVEN = "amplitude = 0.2, hysteresis_celsius = 0.1"


@pytest.mark.parametrize(
    ("reason", "tune", "events", "more"),
    [
        ("timed out", EVEN + ", timeout_s = 40", [], {}),
        ("timed out", "amplitude = 0.02, hysteresis_celsius = 30.0, timeout_s = 300", [], {}),
        ("beyond its temperature limit", EVEN + ", limit_celsius = 60.5", [], {}),
        ("hardly passes the hysteresis", "amplitude = 0.1, hysteresis_celsius = 4.0, timeout_s = 9000", [], {"span_s": 6000.0}),
        ("something disturbed it", EVEN, [{"kind": "ambient_step", "at_s": 1170.0, "celsius": 11.0}], {}),
        ("noise above the hysteresis", "amplitude = 0.2, hysteresis_celsius = 0.0", [], {"probe": 'kind = "ideal"\nnoise_celsius = 0.8'}),
        ("a probe fault", EVEN, [{"kind": "probe_open", "at_s": 1100.0, "for_s": 5.0}], {}),
        ("a probe fault, a cut-out", EVEN, [], {"guard": "cut_out_celsius = 60.6"}),
        ("set by hand", EVEN, [{"kind": "manual", "at_s": 1100.0, "for_s": 30.0, "output": 0.4}], {}),
        ("set by hand", EVEN, [{"kind": "manual", "at_s": 990.0, "for_s": 30.0, "output": 0.4}], {}),
        ("started afresh", EVEN, [{"kind": "mains_lost", "at_s": 1100.0, "for_s": 5.0}], {}),
    ],
)  # fmt: skip
def test_it_ends_with_a_reason_and_the_old_gains(
    reason: str, tune: str, events: list[dict[str, Any]], more: dict[str, Any]
) -> None:
    """In simulation and in C alike; afterwards the loop goes on as one that never tuned."""
    design = bench([TUNE, *events], tune=tune, **more)
    trace = ran(design)
    (found,) = trace.tunings
    assert reason in REASONS[found.result], REASONS[found.result]
    assert math.isnan(found.gain_per_celsius)
    assert any("the old gains stay" in event.text for event in trace.events if event.kind == "tuned")
    (card,) = [
        one for one in advise(design, design.trial[0], trace, judge(trace, design.limits)) if "Self-tuning" in one.title
    ]
    assert card.proposal is None and REASONS[found.result] in card.text
    with seated(design, "host") as seat:
        own = loop.run(design, design.trial[0], seat=seat)
    assert [one[:3] for one in own.tunings] == [one[:3] for one in trace.tunings]
    if "cut-out" not in REASONS[found.result] and "noise" not in reason:
        assert np.abs(trace.measured_celsius[-100:] - 60.0).max() < 0.6


def test_gains_are_applied_without_a_bump_and_kept(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """The output goes on from the relay's middle; the command writes the gains, and the card offers them."""
    text = (
        'format = 1\nname = "Bench"\n[setpoint]\ncelsius = 60.0\n[law]\nkind = "pid"\ngain_per_celsius = 0.02   # by feel\nintegral_time_s = 300.0\n'
        f'autotune = {{ {EVEN} }}\n[drive]\nkind = "linear"\n[load]\n{LOAD}\n[probe]\nkind = "ideal"\n'
        "[[trial]]\nspan_s = 3000.0\nevents = [ { kind = \"tune\", at_s = 1500.0 } ]\n"
    )  # fmt: skip
    file, kept = tmp_path / "bench.toml", tmp_path / "kept.toml"
    file.write_text(text)
    assert invoke(["run", str(file), "--keep-tuned", str(kept), "--json"]) == 0
    (said,) = json.loads(capsys.readouterr().out)["tuning"]
    design = read(file).design
    trace = ran(design)
    at = round(said["ended_s"])
    assert said["applied"] and said["result"] == "applied"
    assert abs(trace.demand[at] - 0.4) < 0.03 and np.abs(np.diff(trace.demand[at : at + 20])).max() < 0.05
    after = read(kept).design
    assert isinstance(after.law, Pid) and "# by feel" in kept.read_text()
    assert after.law.gain_per_celsius == pytest.approx(said["gain_per_celsius"], rel=1e-3)
    cards = advise(design, design.trial[0], trace, judge(trace, design.limits))
    (card,) = [one for one in cards if one.title == "Self-tuning has found gains."]
    assert card.proposal is not None and card.proposal.law.integral_time_s == after.law.integral_time_s  # type: ignore[attr-defined]
    # a restart forgets them, other settings put in go before them; a trial without the event has nothing to keep
    plain = after.model_copy(update={"trial": (Trial(span_s=100.0),)})
    (tmp_path / "plain.toml").write_text(text.replace('{ kind = "tune", at_s = 1500.0 }', ""))
    assert not ran(plain).tunings
    assert invoke(["run", str(tmp_path / "plain.toml"), "--keep-tuned", str(kept)]) == 2
    assert "no event of kind tune" in capsys.readouterr().err


@pytest.mark.parametrize(
    ("law", "says"),
    [
        ("autotune = { amplitude = 0.6 }", "goes further than the output, 0 to 1; give 0.5 at most"),
        ("autotune = { amplitude = 0.3 }\noutput_high = 0.5", "give 0.25 at most"),
        ("autotune = { limit_celsius = 50.05 }", "must be above the setpoint and the relay's hysteresis, 50.1"),
        ('autotune = { limit_celsius = 55 }\naction = "cool"', "must be below the setpoint"),
        ("autotune = { cycles = 0 }", "cycles"),
        ('autotune = { rule = "guess" }', "tyreus_luyben_pi"),
        ("autotune = { }\ngain_sets = [ { at_celsius = 40, gain_per_celsius = 0.1 } ]", "one set of gains"),
    ],
)  # fmt: skip
def test_settings_that_cannot_be(law: str, says: str) -> None:
    with pytest.raises(DesignError, match=says):
        made(law=f'kind = "pid"\n{law}')


def test_an_event_needs_a_law_that_tunes_itself() -> None:
    with pytest.raises(DesignError, match=r"give a pid law a \[law.autotune\]"):
        made(law='kind = "pid"', trial='events = [ { kind = "tune", at_s = 5 } ]')


@settings(max_examples=200, deadline=None, derandomize=True)
@given(st.floats(1e-6, 1e3), st.floats(0.0, 0.9))
def test_the_root_is_the_root(size: float, share: float) -> None:
    """From the amplitude down to the root of a² − ε² with ε up to 1/1.1 of it: to rounding."""
    epsilon = share * size
    value = (size - epsilon) * (size + epsilon)
    assert autotune.root_of(value, size) == pytest.approx(math.sqrt(value), rel=1e-12)


@pytest.mark.parametrize("form", [Form(), Form(fixed=True, table=False)], ids=["float", "fixed"])
def test_chips_tune_themselves_as_the_host(form: Form) -> None:
    """A whole self-tuning, its event among the recorded inputs: every chip and the host to the bit, and the
    reference too."""
    design = bench([TUNE], tune=EVEN, span_s=1400.0)
    record = recorded(design, design.trial[0])
    own = host.rows(design, record.given, form=form)
    assert own[-1, answer_row.STATUS] // answer_row.TUNING_FROM == APPLIED and own[-1, answer_row.TUNED_GAIN] > 0.0
    expected = reference.rows(design, record.given, record.readings, form=form)
    assert expected is not None
    assert first_difference(record, agreement.without_ticks(own), expected, "host, reference") is None
    expected = agreement.plain_rows(own, 1)
    for target in chip.TARGETS.values():
        answers = chip.run(design, target, record.given, counted=1, form=form)
        assert (expected.view(np.uint32) == answers.rows.view(np.uint32)).all(), target.name
