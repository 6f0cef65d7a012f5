"""Corners in which figures were once wrong: each computed beside from its equation, or from a balance."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from pydantic import ValidationError
from scipy.integrate import solve_ivp

from calor import loop
from calor.cli import invoke
from calor.design.switched import switched
from calor.design.trial import Trial
from calor.drive import driver as drivers
from calor.errors import CalorError
from calor.judge.metrics import measure, settled_stretch_s, together
from calor.loop import Flag
from calor.moist_air import saturation_pascal
from tests.conftest import made

FULL = 'kind = "manual"\noutput = 1.0'
OFF = 'kind = "manual"\noutput = 0.0'


def run_of(load: str, law: str = OFF, **trial: object) -> loop.Trace:
    design = made(load=load, law=law, drive='kind = "linear"')
    return loop.run(design, Trial.model_validate({"span_s": 600.0, **trial}))


@pytest.mark.parametrize(
    "load",
    [
        'kind = "first_order"\nrise_celsius = 0\nsecond_rise_celsius = -20\ntime_constant_s = 60',
        'kind = "second_order"\nrise_celsius = 0\nsecond_rise_celsius = -20\ntime_constant_s = 60\nsecond_time_constant_s = 5',
        'kind = "integrating"\nrate_celsius_per_s = 0\nsecond_rate_celsius_per_s = -0.02',
    ],
)
def test_a_second_output_acts_without_the_first(load: str) -> None:
    law = 'kind = "pid"\naction = "heat_cool"\ngain_per_celsius = 1.0'
    trace = loop.run(made(load=load, law=law, drive='kind = "linear"', setpoint="celsius = 5"), Trial(span_s=900))
    assert trace.true_celsius[-1] < 12.0


@pytest.mark.parametrize("watt", [20_000.0, 60_000.0])
def test_a_radiating_lump_as_an_integrator_has_it(watt: float) -> None:
    """C·dT/dt = P − G·(T − Ta) − σ·A·(T⁴ − Ta⁴) up to 1700 °C and beyond, by solve_ivp from the equation."""
    trace = run_of(
        f'kind = "lump"\nheater_watt = {watt}\nheat_capacity_j_per_k = 2000\nloss_w_per_k = 2\nradiating_m2 = 0.02', FULL, span_s=1200.0
    )  # fmt: skip
    sigma = 5.670374419e-8
    solved = solve_ivp(
        lambda t, y: [(watt - 2.0 * (y[0] - 20.0) - sigma * 0.02 * ((y[0] + 273.15) ** 4 - 293.15**4)) / 2000.0],
        (0.0, 1199.0), [20.0], t_eval=trace.time_s, rtol=1e-10, atol=1e-8,
    )  # fmt: skip
    assert trace.true_celsius.max() > 1600.0
    assert np.abs(trace.true_celsius - solved.y[0]).max() < 0.01


LUMP = 'kind = "lump"\nheater_watt = 0\nloss_w_per_k = 0\nheat_capacity_j_per_k = 1000\nambient_celsius = 20'


@pytest.mark.parametrize(
    ("events", "ends"),
    [
        ([(0.0, 1000.0, 60.0)], 40.0),  # at the very start
        ([(100.0, 1000.0, 60.0), (100.0, 2000.0, 80.0)], (20_000 + 60_000 + 160_000) / 4000),  # two at one instant
        ([(0.0, 500.0, 50.0), (0.0, 500.0, 10.0), (50.0, 2000.0, 50.0)], (20_000 + 25_000 + 5_000 + 100_000) / 4000),
        ([(100.0, 1000.0, 50.0), (100.0, 1000.0, 50.0), (100.0, 1000.0, 20.0)], (20_000 + 100_000 + 20_000) / 4000),
    ],
)
def test_what_is_put_in_mixes_by_its_heat(events: list[tuple[float, float, float]], ends: float) -> None:
    made_of = [{"kind": "contents_added", "at_s": at, "heat_capacity_j_per_k": c, "celsius": t} for at, c, t in events]
    assert run_of(LUMP, events=tuple(made_of)).true_celsius[-1] == pytest.approx(ends, abs=1e-6)
    chamber = 'kind = "chamber"\nloss_w_per_k = 0\nheater_watt = 0\nheater_j_per_k = 1\nair_j_per_k = 1\ncontents_j_per_k = 998\nheater_to_air_w_per_k = 1\nair_to_contents_w_per_k = 1'  # fmt: skip
    assert run_of(chamber, events=tuple(made_of)).true_celsius[-1] == pytest.approx(ends, abs=0.05)


def test_a_trial_without_a_start_begins_at_the_ambient_of_its_first_instant(tmp_path: Path) -> None:
    csv = tmp_path / "air.csv"
    csv.write_text("time_s,air\n0,4.5\n600,8.5\n", encoding="utf-8")
    assert run_of(LUMP, ambient_csv=str(csv)).true_celsius[0] == pytest.approx(4.5)
    assert run_of(LUMP, ambient_csv=str(csv), start_celsius=30.0).true_celsius[0] == 30.0
    # warmest at noon: at midnight it is as cold as it gets
    assert run_of(LUMP, swing_celsius=6.0, warmest_at_s=43_200.0).true_celsius[0] == pytest.approx(14.0)
    assert run_of(LUMP).true_celsius[0] == 20.0


def delivered(load: str, events: list[dict[str, object]]) -> float:
    return float(run_of(load, FULL, events=tuple(events)).delivered[300])


@pytest.mark.parametrize("order", [1, -1])
def test_supply_events_at_once_multiply(order: int) -> None:
    """80 % of the power and 90 % of the voltage: 0.8 · 0.81; a current goes with the voltage, its heat with the square."""
    events: list[dict[str, object]] = [
        {"kind": "power_step", "at_s": 100.0, "power_fraction": 0.8}, {"kind": "mains_voltage", "at_s": 200.0, "voltage_fraction": 0.9},
    ]  # fmt: skip
    assert delivered(LUMP, events[::order]) == pytest.approx(0.8 * 0.81)
    assert delivered('kind = "thermoelectric"', events[::order]) == pytest.approx(0.8**0.5 * 0.9)
    lost: dict[str, object] = {"kind": "mains_lost", "at_s": 250.0, "for_s": 100.0}
    assert delivered(LUMP, [lost, *events][::order]) == 0.0
    nothing: dict[str, object] = {"kind": "power_step", "at_s": 100.0, "power_fraction": 0.0}
    assert delivered(LUMP, [nothing, events[1]][::order]) == 0.0


def test_an_event_leaves_the_water_in_the_air() -> None:
    """Warmer by an event the same water is a lower relative humidity: evaporation as from a trial with that air."""
    load = 'kind = "liquid"\nheater_watt = 0\nmass_kg = 1\nloss_w_per_k = 0\nsurface_m2 = 0.1\nambient_celsius = 20'
    step = {"kind": "ambient_step", "at_s": 0.0, "celsius": 35.0}
    stepped = run_of(load, humidity=0.8, start_celsius=40.0, events=(step,))
    relative = 0.8 * float(saturation_pascal(20.0)) / float(saturation_pascal(35.0))
    same = run_of(load, humidity=relative, ambient_celsius=35.0, start_celsius=40.0)
    assert stepped.true_celsius[-1] == pytest.approx(same.true_celsius[-1], abs=1e-6)


WAX = 'kind = "liquid"\nmelts_at_celsius = 58\nloss_w_per_k = 0\nelement_j_per_k = 0.01\nelement_to_liquid_w_per_k = 50\nj_per_kg_k = 2500\nlatent_j_per_kg = 190000\n'


def test_latent_heat_is_not_lost_when_something_is_put_in() -> None:
    """2 kg at 70 °C, 3000 J/K at 10 °C: by the balance of enthalpy 59.0 °C, in the middle of melting over 4 °C."""
    put_in = {"kind": "contents_added", "at_s": 100.0, "heat_capacity_j_per_k": 3000.0, "celsius": 10.0}
    load = WAX + "mass_kg = 2\nmelts_over_celsius = 4\nheater_watt = 0\nambient_celsius = 70"
    heat = 5000.0 * 70.0 + 2 * 190_000.0 + 3000.0 * 10.0
    melted = (heat - 8000.0 * 56.0) / (8000.0 + 95_000.0)  # above 56 °C each degree takes 8000 + 95 000 J
    assert run_of(load, events=(put_in,)).true_celsius[-1] == pytest.approx(56.0 + melted, abs=1e-3)
    assert 56.0 + melted == pytest.approx(59.0, abs=0.1)


@pytest.mark.parametrize("period_s", [0.2, 1.0, 5.0])
def test_melting_takes_as_long_however_long_the_steps(period_s: float) -> None:
    """0.1 kg, 200 W, melts over 0.5 °C from 20 °C: (0.1·2500·(57.75 − 20) + 19 000 + …)/200 = 142.8 s to 58.25 °C."""
    load = WAX + "mass_kg = 0.1\nmelts_over_celsius = 0.5\nheater_watt = 200\nambient_celsius = 20"
    design = made(load=load, law=FULL + f"\nperiod_s = {period_s}", drive='kind = "linear"')
    trace = loop.run(design, Trial(span_s=300))
    over_s = (250.0 * (58.25 - 20.0) + 19_000.0) / 200.0
    through = float(np.interp(60.0, trace.true_celsius, trace.time_s))
    assert through == pytest.approx(over_s + 250.0 * 1.75 / 200.0, abs=0.05 + 0.02 * period_s)


@pytest.mark.parametrize(("altitude_m", "boils"), [(0.0, 100.0), (1500.0, 95.0), (3000.0, 89.9)])
def test_water_boils_where_the_air_lets_it(altitude_m: float, boils: float) -> None:
    """A covered pot of 1 kg with 1 kW: to the boiling point (handbook: 95.0 °C at 1500 m, 89.9 at 3000), then steam."""
    load = f'kind = "liquid"\nmass_kg = 1\nheater_watt = 1000\nloss_w_per_k = 0\naltitude_m = {altitude_m}\nelement_to_liquid_w_per_k = 50'
    trace = run_of(load, FULL, span_s=4000.0)
    assert trace.true_celsius[1000] == pytest.approx(boils, abs=0.3)
    events = {event.kind: event.at_s for event in trace.events}
    warm_s = 4186.0 * (boils - 20.0) / 1000.0 + 150.0 * (boils + 20.0 - 20.0) / 1000.0
    assert events["boils"] == pytest.approx(warm_s, rel=0.03)
    # 95 % of it leave with 2257 kJ/kg
    assert events["dry"] == pytest.approx(events["boils"] + 0.95 * 2.257e6 / 1000.0, rel=0.02)
    assert trace.true_celsius[-1] > boils + 50.0


@pytest.mark.parametrize("two_stages", [False, True])
def test_a_current_also_works_against_the_seebeck_voltage(two_stages: bool) -> None:
    """What goes in as electricity comes out at the sink: P = q_h − q_c at rest, so P = G·(T_h − T_a) − q_c."""
    load = f'kind = "thermoelectric"\nalways_watt = 2\nloss_w_per_k = 0.1\ntwo_stages = {str(two_stages).lower()}\nmax_ampere = 3'
    trace = run_of(load, FULL.replace("1.0", "1.0\naction = 'cool'"), span_s=20_000.0)
    alpha, ohm, k, ampere, into = 0.05, 2.0, 0.5, 3.0, 2.0 + 0.1 * (20.0 - float(trace.true_celsius[-1]))
    cold = float(trace.true_celsius[-1]) + 273.15
    above = cold + (alpha * ampere * cold - 0.5 * ampere**2 * ohm - into) / k  # where the first stage gives its heat
    watt = ampere**2 * ohm + alpha * ampere * (above - cold)
    if two_stages:
        carried = into + watt
        hot = above + (2 * alpha * ampere * above - ampere**2 * ohm - carried) / (2 * k)
        watt += 2 * ampere**2 * ohm + 2 * alpha * ampere * (hot - above)
    assert trace.power_watt is not None
    assert trace.power_watt[-1] == pytest.approx(watt, rel=1e-4)
    assert watt > 1.1 * (3.0 if two_stages else 1.0) * ampere**2 * ohm


def test_a_steady_second_fan_takes_the_cube() -> None:
    load = 'kind = "lump"\nheater_watt = 0\nalways_watt = 300\nfan_w_per_k = 4\nfan_watt = 10\nsecond_fan_w_per_k = 4\nsecond_fan_watt = 20'
    law = 'kind = "pid"\naction = "heat_cool"\nmanual_mode = true'
    events = ({"kind": "manual", "at_s": 0.0, "output": -0.5},)
    design = made(load=load, law=law, drive='kind = "linear"')
    trace = loop.run(design, Trial.model_validate({"span_s": 300.0, "events": events}))
    second = trace.outputs[1].delivered[-1]
    assert second > 0.1 and trace.power_watt is not None
    assert trace.power_watt[-1] == pytest.approx(20.0 * second**3)


def disturbed(*events: dict[str, object], span_s: float = 4000.0) -> loop.Trace:
    load = 'kind = "first_order"\nrise_celsius = 100\ntime_constant_s = 60'
    design = made(load=load, law='kind = "pid"\ngain_per_celsius = 0.1\nintegral_time_s = 60', drive='kind = "linear"')
    return loop.run(design, Trial.model_validate({"span_s": span_s, "events": events}))


def test_disturbances_that_overlap_are_one() -> None:
    """A short one within a long one: both recover from the long one's end; nothing of either counts as settled."""
    outer = {"kind": "ambient_step", "at_s": 1000.0, "for_s": 1200.0, "celsius": 0.0}
    inner = {"kind": "power_step", "at_s": 1500.0, "for_s": 100.0, "power_fraction": 0.4}
    trace = disturbed(outer, inner)
    assert together(trace.disturbances) == [(1000.0, 2200.0)]
    recovery = measure(trace, 0.5).recovery_s
    alone = measure(disturbed(outer), 0.5).recovery_s
    assert recovery[0] == recovery[1] == alone[0] and recovery[0] is not None
    begin_s, end_s = settled_stretch_s(trace)
    assert not any(event.begins_s < end_s and event.recovers_from_s > begin_s for event in trace.disturbances)
    assert (measure(trace, 0.5).settled_ripple_celsius or 9.0) < 0.1
    later = {"kind": "power_step", "at_s": 3000.0, "for_s": 50.0, "power_fraction": 0.5}
    assert together(disturbed(outer, inner, later).disturbances) == [(1000.0, 2200.0), (3000.0, 3050.0)]


def test_heating_and_cooling_do_not_make_up_for_one_another() -> None:
    law = 'kind = "pid"\naction = "heat_cool"\nmanual_mode = true'
    design = made(load='kind = "lump"\nsecond_watt = -50', law=law, drive='kind = "linear"')
    events = (
        {"kind": "manual", "at_s": 0.0, "output": 0.5, "for_s": 100.0},
        {"kind": "manual", "at_s": 100.0, "output": -0.5},
    )
    trace = loop.run(design, Trial.model_validate({"span_s": 200.0, "events": events}))
    heat, cool = (float(output.delivered.mean()) for output in trace.outputs)
    assert heat > 0.1 and cool > 0.1 and measure(trace, 0.5).on_fraction == pytest.approx(heat + cool)


def test_a_replay_heeds_alarms_that_trip() -> None:
    guard = 'alarms = [ { kind = "high", celsius = 60, trips = true } ]'
    design = made(law='kind = "manual"\noutput = 0.7', guard=guard)
    trace = loop.run(design, Trial(span_s=900.0))
    assert trace.true_celsius.max() > 60.0 and trace.demand[-1] == 0.0
    again = loop.replay(design, trace)
    assert again.demand[: trace.steps] == pytest.approx(trace.demand) and (again.flags.astype(int) & Flag.TRIPPED).any()


def test_convert_prints_what_was_asked_for(capsys: pytest.CaptureFixture[str]) -> None:
    words = ["convert", "--gain", "0.2", "--ti", "50", "--td", "25"]
    assert invoke([*words, "--to", "parallel", "--json"]) == 0
    assert list(json.loads(capsys.readouterr().out)) == ["parallel"]
    assert invoke([*words, "--to", "series", "--json"]) == 2
    assert "not possible" in capsys.readouterr().err


@pytest.mark.parametrize(
    ("load", "target", "watt"),
    [
        ('kind = "lump"\nheater_watt = 2000\nheat_capacity_j_per_k = 500\nloss_w_per_k = 0.5\nradiating_m2 = 0.05', 900, None),
        ('kind = "lump"\nheater_watt = 100\nheat_capacity_j_per_k = 900\nloss_w_per_k = 1\nalways_watt = 20', 70, 30.0),
        ('kind = "liquid"\nmass_kg = 2\nheater_watt = 500\nsurface_m2 = 0.06\nloss_w_per_k = 1', 60, 0.0),
        (WAX.replace("loss_w_per_k = 0", "loss_w_per_k = 1.5").replace("0.01", "20") + "mass_kg = 1\nheater_watt = 300\nmelts_over_celsius = 4\nboils_at_celsius = 400", 75, 1.5 * 55),
    ],
)  # fmt: skip
def test_a_heater_is_sized_on_the_load_itself(
    load: str, target: float, watt: float | None, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """The time is that of a run at full output; where radiation is stronger it is never reached, and that is said."""
    place = tmp_path / "design.toml"
    text = f'[setpoint]\ncelsius = {target}\n[law]\nkind = "manual"\noutput = 1.0\n[drive]\nkind = "linear"\n[load]\n{load}\n[probe]\nkind = "ideal"\n'
    place.write_text(text, encoding="utf-8")
    assert invoke(["size", str(place), "--json"]) == 0
    data = json.loads(capsys.readouterr().out)
    trace = run_of(load, FULL, span_s=20_000.0)
    reached = np.flatnonzero(trace.true_celsius >= target)
    if watt is None:
        assert data["time_s"] is None and not len(reached) and data["holding_watt"] > 4000.0
        return
    assert data["time_s"] == pytest.approx(float(trace.time_s[reached[0]]), abs=1.5)
    assert data["final_celsius"] == pytest.approx(float(trace.true_celsius[-1]), abs=0.3)
    assert data["holding_watt"] > watt if watt == 0.0 else data["holding_watt"] == pytest.approx(watt, rel=1e-3)
    assert invoke(["size", str(place), "--time", str(data["time_s"]), "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["watt"] == pytest.approx(data["watt"], rel=1e-3)


def lines_of(text: str) -> dict[str, Any]:
    design = made(text)
    on_it = switched(design)
    assert design.driver is not None
    return {line.what: line for line in drivers.checked(design.driver, on_it.watt, 20.0, on_it.ampere)}


def test_a_driver_is_checked_with_what_hangs_on_it() -> None:
    """5 V over 63 Ω: 7.94 mA of base current are allowed from an 8 mA pin, but 270 Ω, the preferred resistor, draws 9.6."""
    head = '[setpoint]\ncelsius = 30\n[drive]\nkind = "relay"\n[probe]\nkind = "ideal"\n'
    lump = '[load]\nkind = "lump"\nheater_watt = 900\n'
    coil = '[driver]\nkind = "transistor_relay"\ncoil_volt = 5\ncoil_ohm = 63\n'
    base = lines_of(head + lump + coil + '[law]\nkind = "on_off"\n')["Base resistor"]
    assert not base.holds and "9.63 mA" in base.figure and "MOSFET" in base.remedy
    assert lines_of(head + lump + coil.replace("63", "90") + '[law]\nkind = "on_off"\n')["Base resistor"].holds
    # of three even stages each relay has a third of the load; of a thermoelectric one the current is what is set
    stages = '[law]\nkind = "stages"\nstages = [{ on_offset_celsius = -1 }, { on_offset_celsius = -2 }, { on_offset_celsius = -3 }]\n'
    assert lines_of(head + lump + coil + stages)["Load's current"].figure == "1.3 A"
    cooler = '[load]\nkind = "thermoelectric"\nmax_ampere = 5\n[law]\nkind = "on_off"\naction = "cool"\n'
    assert lines_of(head + coil + cooler)["Load's current"].figure == "5 A"


@pytest.mark.parametrize(
    ("hand", "heat", "cool"), [(0.5, 0.5, 0.0), (-0.5, 0.0, 0.5), (0.9, 0.8, 0.0), (-0.9, 0.0, 0.6), (0.0, 0.0, 0.0)]
)
def test_what_is_set_by_hand_is_given(hand: float, heat: float, cool: float) -> None:
    """No dead zone and no ratio of gains between the hand and the outputs; their limits hold; the way back has no bump."""
    law = (
        'kind = "pid"\naction = "heat_cool"\nmanual_mode = true\ngain_per_celsius = 0.02\nintegral_time_s = 500\ndead_zone = 0.2\n'
        "cool_gain_ratio = 0.5\noutput_high = 0.8\ncool_output_high = 0.6"
    )
    design = made(
        load='kind = "lump"\nsecond_watt = -50\nheat_capacity_j_per_k = 1e5',
        law=law,
        drive='kind = "linear"',
        setpoint="celsius = 20",
    )
    events = ({"kind": "manual", "at_s": 10.0, "output": hand, "for_s": 50.0},)
    trace = loop.run(design, Trial.model_validate({"span_s": 100.0, "events": events}))
    given = [float(output.demand[30]) for output in trace.outputs]
    assert given == pytest.approx([heat, cool])
    after = [float(output.demand[61]) for output in trace.outputs]
    assert after == pytest.approx(given, abs=0.02)


def test_heat_from_outside() -> None:
    """On the load by its balance, every day again; on the probe alone by its own lag, and the load does not notice."""
    hour = {"kind": "heat_added", "watt": 20.0, "at_s": 36_000, "for_s": 3600, "daily": True}
    trace = run_of(LUMP, span_s=3.5 * 86_400.0, events=(hour,))
    assert trace.true_celsius[-1] == pytest.approx(20.0 + 4 * 20.0 * 3600.0 / 1000.0, abs=1e-6)
    assert [event.at_s for event in trace.events] == [36_000.0, 122_400.0, 208_800.0, 295_200.0]
    for load, capacity in (
        ('kind = "chamber"\nloss_w_per_k = 0\nheater_watt = 0\nheater_j_per_k = 100\nair_j_per_k = 200\ncontents_j_per_k = 700', 1000.0),
        ('kind = "liquid"\nmass_kg = 1\nj_per_kg_k = 4000\nvessel_j_per_k = 0\nloss_w_per_k = 0\nheater_watt = 0\nelement_j_per_k = 10', 4010.0),
    ):  # fmt: skip
        once = {"kind": "heat_added", "watt": 50.0, "at_s": 60, "for_s": 400}
        assert run_of(load, span_s=9000.0, events=(once,)).true_celsius[-1] == pytest.approx(
            20.0 + 20_000.0 / capacity, abs=0.01
        )
    hand = {"kind": "heat_added", "watt": 0.03, "at_s": 100, "for_s": 200, "on": "probe", "probe_w_per_k": 0.002}
    design = made(load=LUMP, law=OFF, drive='kind = "linear"', probe='kind = "ideal"\ntime_constant_s = 25')
    on_probe = loop.run(design, Trial.model_validate({"span_s": 600.0, "events": (hand,)}))
    assert (on_probe.true_celsius == 20.0).all()
    time_s = on_probe.time_s
    rise = np.where(
        time_s < 300,
        15.0 * -np.expm1(-np.maximum(time_s - 100.0, 0.0) / 25.0),
        15.0 * -np.expm1(-8.0) * np.exp(-(time_s - 300.0) / 25.0),
    )
    assert np.abs(on_probe.measured_celsius - 20.0 - rise).max() < 1e-9
    black = 'kind = "first_order"\nrise_celsius = 50'
    for load, event in ((black, {**hand, "on": "load"}), (LUMP, {**hour, "for_s": 0})):
        with pytest.raises((CalorError, ValidationError), match=r"watts|for_s"):
            made(load=load).model_validate(
                {**made(load=load).model_dump(), "trial": [{"span_s": 600.0, "events": [event]}]}
            )
