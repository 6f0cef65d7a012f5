"""A load from a record: true numbers come back where they are told, and are said not to be where they are not."""

from __future__ import annotations

import json
import math
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from calor import loop
from calor.cli import invoke
from calor.demo import DEMOS
from calor.design.file import read
from calor.errors import LogError
from calor.identify.fit import Asked, fit_order, fit_own_load
from calor.identify.observed import observe
from calor.identify.outcome import Fit
from calor.identify.report import probe_of, weights_of
from calor.identify.task import Probe
from calor.log.read import read_record
from calor.loop.simulate import Stopped
from calor.loop.trace import Flag, Trace
from tests.conftest import made
from tests.records import as_csv, recorded, trace_of

TRUE = {"rise_celsius": 100.0, "time_constant_s": 600.0, "dead_time_s": 30.0}


def fitted(trace: Trace, order: str = "1", ambient: str | float = "auto", **asked: Any) -> Fit:
    known = ambient if isinstance(ambient, float) else None
    return fit_order((observe(trace, known_ambient_celsius=known),), order, Asked(ambient, **asked))


@pytest.mark.parametrize("seed", [11, 12])
@pytest.mark.parametrize("ambient", [20.0, "fit"])
@pytest.mark.parametrize(
    ("kind", "span_s", "before_s", "not_told"),
    [
        ("step", 3600, 0, {}),
        ("step", 600, 0, {}),
        ("step", 210, 0, {20.0: "slope", "fit": "slope"}),
        ("on_off", 3600, 0, {}),
        ("on_off", 3600, 3600, {"fit": "slope"}),
        ("pi", 3600, 0, {}),
        ("pi and a step", 3600, 3600, {}),
    ],
)
def test_what_is_told_is_within_two_percent(
    kind: str, span_s: float, before_s: float, not_told: dict[Any, str], ambient: float | str, seed: int
) -> None:
    fit = fitted(recorded(kind, span_s, seed, before_s=before_s), ambient=ambient)
    for key, value in TRUE.items():
        number = fit.number(key)
        if number.is_told:
            assert number.value == pytest.approx(value, rel=0.02), key
        assert number.low <= number.value <= number.high
    assert fit.is_told == (ambient not in not_told)
    assert not_told.get(ambient, "") in fit.only
    if not fit.is_told:
        # the slope is told to a percent or two where rise and time constant are not
        assert float(fit.only.split(": ")[1].split()[0]) == pytest.approx(100.0 / 600.0, rel=0.03)


def test_second_order_and_what_first_order_makes_of_it() -> None:
    trace = recorded("on_off", 3600, 3, late_s=60.0, dead_s=10.0)
    second = fitted(trace, "2")
    assert second.is_told
    for key, value in {"rise_celsius": 100.0, "time_constant_s": 600.0, "second_time_constant_s": 60.0}.items():
        assert second.number(key).value == pytest.approx(value, rel=0.02)
    assert second.number("dead_time_s").value == pytest.approx(10.0, abs=0.4)
    first = fitted(trace, "1")
    assert first.residual_rms_celsius > 10.0 * second.residual_rms_celsius and first.residual_autocorrelation > 0.95
    assert any("long waves" in warning for warning in first.warnings)
    assert fitted(trace, "auto").load.kind == "second_order"
    assert fitted(recorded("on_off", 3600, 3), "auto").load.kind == "first_order"


def test_integrating_is_recommended_where_nothing_bends() -> None:
    time_s = np.arange(0.0, 900.0, 2.0)
    output = ((time_s // 120) % 2 == 0).astype(float)
    heat = np.concatenate(([0.0], np.cumsum(np.interp(time_s - 20.0, time_s, output, left=0.0))[:-1])) * 2.0
    noise = np.random.default_rng(1).normal(0.0, 0.05, len(time_s))
    fit = fitted(trace_of(time_s, 30.0 + 0.05 * heat - 0.01 * time_s + noise, output), "auto")
    assert fit.load.kind == "integrating" and fit.is_told and "slope" in fit.why
    assert fit.number("rate_celsius_per_s").value == pytest.approx(0.05, rel=0.02)
    assert fit.number("drift_celsius_per_s").value == pytest.approx(0.01, rel=0.05)


def test_the_probe_is_in_the_model() -> None:
    trace = recorded("on_off", 3600, 5, probe_s=15.0)
    without, within = fitted(trace), fitted(trace, probe=Probe(15.0))
    assert within.number("dead_time_s").value == pytest.approx(30.0, rel=0.02)
    assert without.number("dead_time_s").value > 40.0
    assert probe_of(
        made(probe='kind = "ideal"\ntime_constant_s = 3\nfilter = { kind = "mean", readings = 5 }')
    ) == Probe(3.0, 0.0, 2.0)


def test_several_records_together_gaps_and_what_is_left_out() -> None:
    """Each record and each stretch has a start of its own; a door that is left out does no harm."""
    first, second = recorded("step", 1200, 1), recorded("on_off", 2400, 2, ambient=25.0)
    second = replace(
        second,
        measured_celsius=np.where((second.time_s > 1500) & (second.time_s < 1700), 30.0, second.measured_celsius),
    )
    hole = (second.time_s < 600) | (second.time_s > 800)
    flags = np.where(second.time_s == second.time_s[hole][second.time_s[hole] > 800][0], float(Flag.GAP), 0.0)
    second = replace(second, flags=flags)
    second = trace_of(second.time_s[hole], second.measured_celsius[hole], second.delivered[hole])
    second = replace(second, flags=flags[hole])
    records = (observe(first), observe(second, left_out=((1495.0, 1705.0),)))
    fit = fit_order(records, "1", Asked())
    assert fit.stretches == 4 and fit.is_told
    for key, value in TRUE.items():
        assert fit.number(key).value == pytest.approx(value, rel=0.02)
    spoilt = fit_order((observe(second),), "1", Asked())
    assert spoilt.suspect is not None and not spoilt.is_told
    assert spoilt.suspect[1] == pytest.approx(1500.0, abs=60.0)


KEYS = ("loss_w_per_k", "contents_j_per_k", "heater_watt")
CABINET = {"loss_w_per_k": 1.25, "contents_j_per_k": 1350.0, "heater_watt": 57.0}
"""What the log of the cabinet was made with (tools/make_demo_logs.py)."""


def test_three_keys_of_the_cabinet() -> None:
    design, record = read(DEMOS[0].design).design, read_record(DEMOS[0].log)  # type: ignore[arg-type]
    asked = Asked(20.4, probe_of(design), weights=weights_of(design))
    observed = observe(record.trace, None, ((4975.0, 5400.0),), 20.4)
    fit = fit_own_load((observed,), design.load, KEYS, asked, 0.6)
    for key, value in CABINET.items():
        assert fit.number(key).value == pytest.approx(value, rel=0.04)
    assert fit.residual_rms_celsius < 0.1 and fit.share_before == 0.5
    # all powers and capacities can be scaled together: none of them is told, and it is said which
    every = (*KEYS, "air_j_per_k", "heater_j_per_k", "heater_to_air_w_per_k", "air_to_contents_w_per_k")
    mixed = fit_own_load((observed,), design.load, every, asked, 0.6)
    assert not any(mixed.number(key).is_told for key in KEYS) and mixed.condition > 1e5
    assert "hold one of them" in mixed.only and "heater_watt" in mixed.only
    with pytest.raises(LogError, match=r"load.weight: is no number of a load of kind chamber"):
        fit_own_load((observed,), design.load, ("weight",), asked, 0.6)


@pytest.mark.parametrize(
    ("load", "action", "keys"),
    [
        (
            'kind = "lump"\nheater_watt = 200\nloss_w_per_k = 2.0\nheat_capacity_j_per_k = 900',
            "heat",
            ("loss_w_per_k", "heat_capacity_j_per_k"),
        ),
        ('kind = "liquid"\nmass_kg = 1.0\nheater_watt = 300', "heat", ("mass_kg",)),
        ('kind = "thermoelectric"', "cool", ("cold_j_per_k",)),
    ],
)
def test_any_kind_of_own_load(load: str, action: str, keys: tuple[str, ...]) -> None:
    """A run of another load of the kind, fitted from the design's: its numbers come back."""
    law = f'kind = "on_off"\naction = "{action}"\nhysteresis_celsius = 3\nperiod_s = 2'
    design = made(load=load, law=law, setpoint=f"celsius = {50 if action == 'heat' else 8}")
    true = {key: 1.15 * getattr(design.load, key) for key in keys}
    other = design.model_copy(update={"load": design.load.model_copy(update=true)})
    run = loop.run(other, other.trial[0].model_copy(update={"span_s": 5400.0}))
    trace = trace_of(run.time_s, np.round(run.measured_celsius, 2), run.delivered)
    fit = fit_own_load((observe(trace),), design.load, keys, Asked(20.0, weights=weights_of(design)), 0.6)
    assert fit.is_told
    for key, value in true.items():
        assert fit.number(key).value == pytest.approx(value, rel=0.02)


def test_a_very_long_record_is_thinned_and_says_so() -> None:
    short = recorded("on_off", 7200, 8)
    time_s = np.arange(0.0, 7200.0, 0.05)
    rows = np.searchsorted(short.time_s, time_s + 1e-9, side="right") - 1
    celsius = np.interp(time_s, short.time_s, short.measured_celsius)
    fit = fitted(trace_of(time_s, celsius, short.delivered[rows]))
    assert fit.rows <= 20_000 and any("144 000 rows thinned" in warning for warning in fit.warnings)
    for key, value in TRUE.items():
        assert fit.number(key).value == pytest.approx(value, rel=0.02)


@pytest.mark.parametrize(
    ("change", "says"),
    [
        (lambda t: replace(t, recorded_output=None), "no column of the output"),
        (lambda t: replace(t, recorded_output=np.zeros(t.steps)), "its output is off throughout|does not move"),
        (lambda t: trace_of(t.time_s[900:], t.measured_celsius[900:], np.ones(900)), "its output never changes"),
        (lambda t: replace(t, measured_celsius=np.full(t.steps, 21.5)), "its temperature does not move"),
        (
            lambda t: replace(t, measured_celsius=21.0 + np.random.default_rng(1).normal(0, 0.1, t.steps)),
            "does not move",
        ),
        (lambda t: trace_of(t.time_s[:3], t.measured_celsius[:3], t.delivered[:3]), "too few readings"),
    ],
)
def test_what_a_record_lacks_is_said(change: Any, says: str) -> None:
    with pytest.raises(LogError, match=says):
        observe(change(recorded("on_off", 3600, 1)))


def test_a_record_of_another_load_tells_nothing() -> None:
    trace = recorded("on_off", 3600, 1)
    wander = 40.0 + np.cumsum(np.random.default_rng(2).normal(0.0, 0.3, trace.steps))
    fit = fitted(replace(trace, measured_celsius=wander), "auto")
    assert not any(number.is_told for number in fit.numbers)
    assert fit.only.startswith("nothing") and any("does not explain" in warning for warning in fit.warnings)


def test_a_fit_is_stopped() -> None:
    def stop(share: float) -> None:
        raise Stopped

    with pytest.raises(Stopped):
        fitted(recorded("step", 600, 1), watch=stop)


@pytest.mark.long
def test_coverage_of_the_intervals() -> None:
    """Over 200 records, of white noise and of noise that follows itself, the 95 % interval holds the truth 85 to 99 %."""
    held: dict[str, list[bool]] = {}
    for seed in range(200):
        trace = recorded("on_off", 1800, seed, noise=0.05 if seed % 2 else 0.0)
        if seed % 2 == 0:
            chance = np.random.default_rng(seed)
            noise = np.zeros(trace.steps)
            for k in range(1, trace.steps):
                noise[k] = 0.7 * noise[k - 1] + chance.normal(0.0, 0.05)
            trace = replace(trace, measured_celsius=trace.measured_celsius + noise)
        fit = fitted(trace, ambient=20.0, keep_back=0.0)
        for key, value in TRUE.items():
            number = fit.number(key)
            held.setdefault(key, []).append(number.low <= value <= number.high)
    for key, hits in held.items():
        assert 0.85 <= float(np.mean(hits)) <= 0.99, (key, np.mean(hits))


def test_from_the_command_line(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """A fit as JSON, and as a design whose first trial draws the model's answer to the record."""
    log, place = tmp_path / "bath.csv", tmp_path / "bath.toml"
    trace = recorded("on_off", 3600, 4)
    log.write_text(as_csv(trace), encoding="utf-8")
    assert invoke(["fit", str(log), "--order", "1", "--ambient", "20", "--out", str(place), "--json"]) == 0
    data = json.loads(capsys.readouterr().out)
    assert data["model"]["kind"] == "first_order" and data["only"] is None and data["told"] == dict.fromkeys(TRUE, True)
    low, high = data["interval_95"]["rise_celsius"]
    assert low < data["model"]["rise_celsius"] < high and data["rows"] == 1800 and data["stretches"] == 1
    assert data["residual_rms_celsius"] == pytest.approx(0.05, rel=0.1) and data["kept_back_rms_celsius"] < 0.07
    design = read(place).design
    run = loop.run(design, design.trial[0])
    answer = np.interp(trace.time_s, run.time_s, run.measured_celsius)
    assert math.sqrt(np.mean((answer - trace.measured_celsius) ** 2)) < 0.06
    assert invoke(["fit", str(log), "--order", "1", "--leave-out", "210:3600", "--json"]) == 1
    assert "slope" in json.loads(capsys.readouterr().out)["only"]
    assert (
        invoke(["fit", str(log), "--load", str(place), "--free", "rise_celsius", "time_constant_s", "--ambient", "20"])
        == 0
    )
    assert "rise_celsius" in capsys.readouterr().out
    for words, says in (
        (["--ambient", "warm"], "takes a temperature"), (["--leave-out", "20"], "begin and end"), (["--order", "3"], "takes integrating"),
        (["--free", "rise_celsius"], "--load DESIGN"), (["--output", "none"], "no column of the output"), (["--keep-back", "2"], "share"),
        (["--load", str(place), "--free", "weight"], "is no number of a load"), (["--out", "x.csv"], "name of a .toml"),
    ):  # fmt: skip
        assert invoke(["fit", str(log), *words]) == 2
        said = capsys.readouterr().err
        assert says in said and said.count("\n") <= 2 and "Traceback" not in said
