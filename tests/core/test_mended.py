"""Self-tuning in cooling's range, what a tuned design may be written as, steps of hot loads, boiling dry, calibration."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from calor import loop
from calor.cli import invoke
from calor.demo import DEMOS
from calor.design.file import parse, read
from calor.design.switched import switched
from calor.design.trial import Trial
from calor.errors import DesignError
from calor.firmware.check import agreement
from calor.firmware.run import host
from calor.judge.advice import advise
from calor.judge.verdict import judge
from calor.law.on_off import OnOff, along_with
from calor.tune.known import known_by
from calor.tune.predictive import row_of
from tests.conftest import PROBES, made

BOTH = 'kind = "pid"\naction = "heat_cool"\nperiod_s = 1\ngain_per_celsius = 0.05\nintegral_time_s = 200'
BOTH_LOAD = (
    'kind = "first_order"\nrise_celsius = 60\nsecond_rise_celsius = -60\ntime_constant_s = 200\ndead_time_s = 10'
)


@pytest.mark.parametrize("ratio", [1.0, 2.5, 0.4])
def test_self_tuning_in_coolings_range_finds_heatings_gain(ratio: float) -> None:
    """The load is alike on both sides, so that the relay finds one gain; cooling's is the ratio times what is set."""
    gains = {}
    for setpoint, ambient in ((40.0, 20.0), (0.0, 20.0)):
        design = made(
            setpoint=f"celsius = {setpoint}", law=BOTH + f"\ncool_gain_ratio = {ratio}\nautotune = {{ amplitude = 0.2 }}",
            load=BOTH_LOAD, drive='kind = "linear"', probe=PROBES["thermistor"],
        )  # fmt: skip
        events = [{"kind": "tune", "at_s": 300}]
        trial = Trial.model_validate(
            {"span_s": 4000, "start_celsius": setpoint, "ambient_celsius": ambient, "events": events}
        )
        trace = loop.run(design, trial)
        gains[setpoint] = trace.tunings[0].gain_per_celsius
        record = agreement.recorded(design, trial)
        rows = host.rows(design, record.given)
        from calor.firmware.check import reference

        reference = reference.rows(design, record.given, record.readings)
        assert agreement.first_difference(record, agreement.without_ticks(rows), reference, "host, reference") is None
    assert gains[0.0] * ratio == pytest.approx(gains[40.0], rel=0.1)


def test_a_predictive_law_is_neither_compared_nor_written_where_it_cannot_obey(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """A trial sets the output by hand, for which that law has no mode."""
    text = DEMOS[3].design.read_text(encoding="utf-8").replace('kind = "pid"', 'kind = "pid"\nmanual_mode = true', 1)
    by_hand = text.replace("events = [", 'events = [ { at_s = 600, for_s = 60, kind = "manual", output = 0.5 },', 1)
    place, out = tmp_path / "hand.toml", tmp_path / "out.toml"
    place.write_text(by_hand)
    assert invoke(["tune", str(place), "--rule", "predictive", "--out", str(out)]) == 2
    assert "no manual mode" in capsys.readouterr().err and not out.exists()
    design = read(place).design
    assert row_of(design, design.trial[:1], known_by(design)) is None
    assert invoke(["tune", str(place), "--rule", "all", "--json", "--out", str(out)]) in (0, 1)
    assert "predictive" not in {row["rule"] for row in json.loads(capsys.readouterr().out)["rules"]}
    assert invoke(["check", str(out)]) == 0
    place.write_text(text)
    assert invoke(["tune", str(place), "--rule", "predictive", "--out", str(out), "--force"]) in (0, 1)
    assert invoke(["check", str(out)]) == 0 and 'kind = "predictive"' in out.read_text()


def test_no_card_offers_a_gain_where_gain_sets_are_in_force() -> None:
    law = 'kind = "pid"\ngain_per_celsius = {gain}\nintegral_time_s = 300\nperiod_s = 1\n{sets}'
    sets = "gain_sets = [ {{ at_celsius = 40, gain_per_celsius = {gain}, integral_time_s = 300 }}, {{ at_celsius = 60, gain_per_celsius = {gain}, integral_time_s = 300 }} ]"
    for gain in (0.3, 0.25):
        for own in ("", sets.format(gain=gain)):
            design = made(
                law=law.format(gain=gain, sets=own),
                drive='kind = "linear"',
                limits="recovery_s = 30",
                load='kind = "first_order"\nrise_celsius = 100\ntime_constant_s = 600\ndead_time_s = 30',
            )
            trial = Trial.model_validate(
                {"span_s": 7200, "events": [{"kind": "ambient_step", "at_s": 4000, "celsius": 0}]}
            )
            trace = loop.run(design, trial)
            cards = advise(design, trial, trace, judge(trace, design.limits))
            changes: list[Any] = [card.proposal.law for card in cards if card.proposal is not None]
            offered = [one for one in changes if one.kind == "pid" and one.gain_per_celsius != gain]
            assert not own or not offered, (gain, [card.title for card in cards])
            assert own or offered, "without gain sets it does"


def test_the_place_of_a_hysteresis_goes_with_one_output() -> None:
    with pytest.raises(DesignError, match='placed = "below" goes with one output'):
        made(law='kind = "on_off"\naction = "heat_cool"\nplaced = "below"')
    below = OnOff(placed="below")
    assert along_with(below, "action", "heat_cool") == {"action": "heat_cool", "placed": "centred"}


@pytest.mark.parametrize(
    ("load", "trial", "heat_watt"),
    [
        ("heat_capacity_j_per_k = 5\nloss_w_per_k = 0.01\nradiating_m2 = 0.02", {"start_celsius": 2500}, 0.0),
        ("heat_capacity_j_per_k = 5\nloss_w_per_k = 0.01\nradiating_m2 = 0.02", {"events": [{"kind": "heat_added", "at_s": 20, "watt": 200_000}]}, 2e5),
        ("heat_capacity_j_per_k = 50\nradiating_m2 = 0.05", {"start_celsius": 20, "events": [{"kind": "contents_added", "at_s": 5, "heat_capacity_j_per_k": 500, "celsius": 2900}]}, 0.0),
    ],
    ids=["starts hot", "200 kW on 5 J/K", "put in hot"],
)  # fmt: skip
def test_a_hot_load_is_integrated_finely_enough(load: str, trial: dict[str, Any], heat_watt: float) -> None:
    """Against the Stefan–Boltzmann law solved by scipy to 1e-9."""
    from scipy.integrate import solve_ivp

    design = made(
        law='kind = "manual"\noutput = 0\nperiod_s = 1',
        drive='kind = "linear"',
        load=f'kind = "lump"\nheater_watt = 1\n{load}',
    )
    trace = loop.run(design, Trial.model_validate({"span_s": 60, **trial}))
    own: Any = design.load
    put_in = next((one for one in trial.get("events", []) if one["kind"] == "contents_added"), None)
    at_s = trial["events"][0]["at_s"] if "events" in trial else 0

    def slope(time_s: float, celsius: Any) -> Any:
        extra = heat_watt if time_s >= at_s else 0.0
        lost = own.loss_w_per_k * (celsius - 20.0) + 5.670374419e-8 * own.radiating_m2 * (
            (celsius + 273.15) ** 4 - 293.15**4
        )
        capacity = own.heat_capacity_j_per_k + (put_in["heat_capacity_j_per_k"] if put_in and time_s >= at_s else 0.0)
        return (extra - lost) / capacity

    begin = float(trial.get("start_celsius", 20.0))
    if put_in:
        begin = (begin * own.heat_capacity_j_per_k + put_in["celsius"] * put_in["heat_capacity_j_per_k"]) / (
            own.heat_capacity_j_per_k + put_in["heat_capacity_j_per_k"]
        )
    times = trace.time_s[trace.time_s >= at_s]
    exact = solve_ivp(slope, (at_s, 60), [begin], t_eval=times, method="LSODA", rtol=1e-9, atol=1e-9).y[0]
    got = trace.true_celsius[trace.time_s >= at_s]
    assert np.abs(got[1:] - exact[1:]).max() < 1e-3 * max(np.abs(exact).max(), 100.0)


def test_it_boils_dry_only_when_it_does_and_again_after_refilling() -> None:
    kettle = 'kind = "liquid"\nmass_kg = 0.05\nheater_watt = 2000\nelement_j_per_k = 50\nelement_to_liquid_w_per_k = 100\nvessel_j_per_k = 20'
    design = made(law='kind = "manual"\noutput = 1\nperiod_s = 1', drive='kind = "linear"', load=kettle)

    def told(**trial: Any) -> list[tuple[str, float]]:
        trace = loop.run(design, Trial.model_validate(trial))
        return [(event.kind, event.at_s) for event in trace.events if event.kind in ("dry", "boils")]

    once = told(span_s=150)
    assert [kind for kind, _ in once] == ["boils", "dry"]
    refill = {"kind": "contents_added", "at_s": 150, "heat_capacity_j_per_k": 209.0, "celsius": 20}
    twice = told(span_s=320, events=[refill])
    assert [kind for kind, _ in twice] == ["boils", "dry", "boils", "dry"] and twice[3][1] > 150
    # steam that is let off at once is no dry kettle
    assert told(span_s=20, start_celsius=130) == [("boils", 1.0)]
    hot = {"kind": "contents_added", "at_s": 2, "heat_capacity_j_per_k": 300.0, "celsius": 150}
    assert [kind for kind, _ in told(span_s=8, events=[hot])] == ["boils"]


def test_every_trip_of_the_cut_out_is_listed() -> None:
    design = made(
        law='kind = "manual"\noutput = 1\nperiod_s = 1',
        drive='kind = "linear"',
        guard="cut_out_celsius = 60",
        load='kind = "first_order"\nrise_celsius = 80\ntime_constant_s = 60',
    )
    events = [{"kind": "mains_lost", "at_s": 400, "for_s": 100}, {"kind": "stalled", "at_s": 700, "for_s": 20}]
    trace = loop.run(design, Trial.model_validate({"span_s": 900, "events": events}))
    trips = [event.at_s for event in trace.events if event.kind == "cut_out"]
    assert len(trips) == 2 and trips[0] < 400 < 500 < trips[1] < 700


def test_a_probe_that_lags_in_a_fault_warms_slowly() -> None:
    """Heat on the probe alone, of a probe without lag of its own that has become slow."""
    design = made(law='kind = "manual"\noutput = 0\nperiod_s = 1', drive='kind = "linear"')
    events = [
        {"kind": "probe_slow", "at_s": 0, "time_constant_s": 100},
        {"kind": "heat_added", "at_s": 10, "watt": 0.06, "on": "probe", "probe_w_per_k": 0.003},
    ]
    trace = loop.run(design, Trial.model_validate({"span_s": 400, "start_celsius": 20, "events": events}))
    after = trace.time_s - 10.0
    expected = 20.0 + 20.0 * (1.0 - np.exp(-np.maximum(after, 0.0) / 100.0))
    assert np.abs(trace.probe_celsius - expected).max() < 0.05


def test_modules_in_parallel_carry_their_current_each() -> None:
    text = DEMOS[6].design.read_text(encoding="utf-8")
    amperes = [
        switched(parse(text.replace("max_ampere = 4.5", f"max_ampere = 4.5\nparallel = {n}"))).ampere for n in (1, 3)
    ]
    assert amperes == [4.5, 13.5]


@pytest.mark.parametrize(
    ("probe", "reading", "is_read"),
    [
        ("thermistor", 37.0, True),
        ("thermistor", 900.0, False),
        ("rtd", 2000.0, False),
        ("digital", 400.0, False),
        ("analog voltage", 500.0, False),
    ],
)
def test_a_calibration_point_that_the_probe_cannot_read_is_refused(probe: str, reading: float, is_read: bool) -> None:
    text = PROBES[probe] + f"\ncalibration = [ {{ true_celsius = {reading}, reading_celsius = {reading} }} ]"
    if is_read:
        made(probe=text)
        return
    with pytest.raises(DesignError, match=f"a reading of {reading:g} °C, which this probe cannot read"):
        made(probe=text)
