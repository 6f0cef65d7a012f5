"""Loads, surroundings and programs against sources outside the project. Each check names its source."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest

from calor import loop
from calor.design import file, writing
from calor.design.recorded_ambient import read_record
from calor.design.trial import Trial
from calor.judge.metrics import measure
from calor.law.dew_point import dew_point_celsius, vapour_pascal
from calor.load import registry as loads
from calor.load import sizing, thermoelectric
from calor.load.chamber import Chamber
from calor.load.lump import Lump
from calor.load.thermoelectric import Thermoelectric
from tests.conftest import made

FULL = 'kind = "manual"\noutput = 1.0\nperiod_s = 1'
LINEAR = 'kind = "linear"'


def test_heat_capacity_of_water() -> None:
    """Source: the package CoolProp (IAPWS-95) at 1 atm: 4186 J/(kg·K) is water's within 0.3 % from 10 to 80 °C."""
    from CoolProp.CoolProp import PropsSI  # it takes seconds: only where it is used

    own = sizing.heat_capacity_j_per_k("water", 1.0)
    for celsius in (10.0, 15.0, 38.0, 60.0, 80.0):
        assert own == pytest.approx(PropsSI("C", "T", 273.15 + celsius, "P", 101_325, "Water"), rel=3e-3)


@pytest.mark.parametrize(("celsius", "humidity"), [(20.0, 0.6), (5.0, 0.9), (35.0, 0.3), (4.0, 0.9), (28.0, 0.99)])
def test_dew_point(celsius: float, humidity: float) -> None:
    """Source: the package CoolProp (ASHRAE RP-1485 moist air); 20 °C at 60 % is 12.00 °C by the formula's own paper."""
    from CoolProp.CoolProp import HAPropsSI

    own = float(dew_point_celsius(celsius, humidity))
    assert own == pytest.approx(HAPropsSI("D", "T", 273.15 + celsius, "R", humidity, "P", 101_325) - 273.15, abs=0.06)
    assert float(vapour_pascal(own)) == pytest.approx(humidity * float(vapour_pascal(celsius)), rel=1e-9)
    if celsius == 20.0:
        assert own == pytest.approx(12.00, abs=0.005)


def test_radiation_equilibrium() -> None:
    """Source: Stefan and Boltzmann, P = σ·A·(T⁴ − Ta⁴) with σ of CODATA 2018: 200 W from 0.02 m² in 20 °C, by hand."""
    design = made(
        law=FULL, drive=LINEAR,
        load='kind = "lump"\nheater_watt = 200\nloss_w_per_k = 0\nheat_capacity_j_per_k = 100\nradiating_m2 = 0.02\nambient_celsius = 20',
    )  # fmt: skip
    hot = (200.0 / (5.670374419e-8 * 0.02) + 293.15**4) ** 0.25 - 273.15
    assert loads.settled_celsius(design.load, 1.0, 20.0) == pytest.approx(hot, abs=1e-6)
    trace = loop.run(design, Trial(span_s=4000))
    assert trace.true_celsius[-1] == pytest.approx(hot, abs=0.01)


@pytest.mark.parametrize("parallel", [1, 3])
def test_thermoelectric_greatest_difference(parallel: int) -> None:
    """Source: Ioffe (1957): without heat to pump ΔT is greatest, ½·Z·Tc², at I = α·Tc/R; modules side by side alike."""
    alpha, ohm, leak = 0.05, 2.0, 0.5
    z = alpha**2 / (ohm * leak)
    hot_k = 300.0
    cold_k = (math.sqrt(1 + 2 * z * hot_k) - 1) / z
    ampere = alpha * cold_k / ohm
    load = (
        f'kind = "thermoelectric"\nseebeck_v_per_k = {alpha}\nresistance_ohm = {ohm}\nconductance_w_per_k = {leak}\nmax_ampere = {ampere!r}\n'
        f"parallel = {parallel}\nloss_w_per_k = 0\nsink_w_per_k = 10000\nsink_j_per_k = 100000\nambient_celsius = {hot_k - 273.15!r}\ncold_j_per_k = 50"
    )
    design = made(law=FULL, drive=LINEAR, load=load)
    settled = loads.settled_celsius(design.load, 1.0, hot_k - 273.15)
    assert hot_k - 273.15 - settled == pytest.approx(0.5 * z * cold_k**2, rel=2e-3)
    for share in (0.8, 0.95):  # less current: less difference
        assert loads.settled_celsius(design.load, share, hot_k - 273.15) > settled
    taken, given = thermoelectric.pumped(alpha, ohm, leak, ampere, ampere**2, cold_k, hot_k)
    assert given - taken == pytest.approx(ampere**2 * ohm + alpha * ampere * (hot_k - cold_k))  # what goes in comes out


def test_two_stages_go_lower_and_chopping_wastes() -> None:
    """Source: Goldsmid, Introduction to Thermoelectricity (2016), from memory: cascades reach what one stage cannot;
    a chopped current of half the duty makes twice the heat of a smooth one of the same mean (½·I²R against I²R/4)."""
    one = Thermoelectric(sink_w_per_k=50.0, loss_w_per_k=0.0)
    two = one.model_copy(update={"two_stages": True, "lower_ratio": 3.0})
    lowest = [min(loads.settled_celsius(load, s, 20.0) for s in np.linspace(0.1, 1, 40)) for load in (one, two)]
    assert lowest[1] < lowest[0] - 8.0
    chopped = one.model_copy(update={"chopped": True})
    assert loads.settled_celsius(chopped, 0.5, 20.0) > loads.settled_celsius(one, 0.5, 20.0) + 3.0


def test_a_run_settles_where_the_balance_says() -> None:
    """Source: heat in equals heat out, each load's own balance: 40 time constants of a run end on it."""
    for load in (
        'kind = "chamber"\nheater_watt = 50\nfan_w_per_k = 1.5', 'kind = "lump"\nheater_watt = 80\nalways_watt = 15\nradiating_m2 = 0.05',
        'kind = "liquid"\nheater_watt = 250\nmass_kg = 0.2\nsurface_m2 = 0.05\nloss_w_per_k = 2', 'kind = "thermoelectric"\nalways_watt = 1\ntwo_stages = true',
    ):  # fmt: skip
        design = made(law='kind = "manual"\noutput = 0.6\nperiod_s = 5', drive=LINEAR, load=load)
        trace = loop.run(design, Trial(span_s=90_000, humidity=0.5))
        level = 0.6 if design.load.kind != "thermoelectric" else -0.6
        if level > 0:
            assert trace.true_celsius[-1] == pytest.approx(loads.settled_celsius(design.load, 0.6, 20.0), abs=0.02), (
                load
            )
        else:
            assert trace.true_celsius[-1] > 20.0  # to heat, it is driven backwards


def test_contents_put_in_mix() -> None:
    """Source: mixing of two bodies without loss, T = (C1·T1 + C2·T2)/(C1 + C2), any physics textbook."""
    event = {"kind": "contents_added", "at_s": 100.3, "heat_capacity_j_per_k": 500.0, "celsius": 4.0}
    trial = Trial.model_validate({"span_s": 400, "start_celsius": 40, "events": [event]})
    for load, own in (
        ('kind = "lump"\nheater_watt = 0\nloss_w_per_k = 0\nheat_capacity_j_per_k = 1500', 1500.0),
        ('kind = "liquid"\nheater_watt = 0\nloss_w_per_k = 0\nmass_kg = 0.5\nj_per_kg_k = 3000\nelement_j_per_k = 0.02\nelement_to_liquid_w_per_k = 1', 1500.0),
    ):  # fmt: skip
        trace = loop.run(made(law='kind = "manual"\noutput = 0\nperiod_s = 1', drive=LINEAR, load=load), trial)
        assert trace.true_celsius[-1] == pytest.approx((own * 40 + 500 * 4) / (own + 500), abs=0.002)
        assert trace.true_celsius[100] == pytest.approx(40.0) and "put in" in trace.events[0].text


def test_melting_takes_its_heat() -> None:
    """Source: Q = m·c·ΔT + m·L: 0.5 kg of wax, 2500 J/(kg·K) and 200 kJ/kg, from 40 to 80 °C with 150 W, by hand."""
    load = (
        'kind = "liquid"\nheater_watt = 150\nmass_kg = 0.5\nj_per_kg_k = 2500\nloss_w_per_k = 0\nelement_j_per_k = 0.01\n'
        "element_to_liquid_w_per_k = 10\nmelts_at_celsius = 60\nlatent_j_per_kg = 200000\nmelts_over_celsius = 6"
    )
    trace = loop.run(made(law=FULL, drive=LINEAR, load=load), Trial(span_s=2000, start_celsius=40))
    reached_s = trace.time_s[np.flatnonzero(trace.true_celsius >= 80.0)[0]]
    assert reached_s == pytest.approx((0.5 * 2500 * 40 + 0.5 * 200_000) / 150, abs=4.0)


def test_fan_laws() -> None:
    """Source: the fan laws: at 60 % speed a fan of 5 W takes 0.6³ of it, 1.08 W; mains at 90 % gives 81 % of the heat."""
    lump = Lump(heater_watt=0.0, always_watt=40.0, fan_w_per_k=3.0, fan_watt=5.0)
    power = loads.power_watt(lump, np.array([0.6, 1.0]), np.zeros(2), is_mean=False)
    assert power is not None and power == pytest.approx([1.08, 5.0])
    heated = Chamber(heater_watt=100.0)
    design = made(law=FULL, drive=LINEAR, load='kind = "chamber"\nheater_watt = 100')
    event = {"kind": "mains_voltage", "at_s": 0.0, "voltage_fraction": 0.9}
    trace = loop.run(design, Trial.model_validate({"span_s": 3600, "events": [event]}))
    assert measure(trace, 0.5).energy_wh == pytest.approx(81.0, rel=1e-9)
    assert loads.electric_watt(heated) == 100.0


def test_a_week_of_recorded_weather(tmp_path: Path) -> None:
    """Source: the typical meteorological year that the package pvlib ships: a week of January, hour by hour.

    The hut's ambient is the record's, and the setpoint of a dew heater its dew point, which the record has as well.
    """
    import pvlib

    year = next((Path(pvlib.__file__).parent / "data").glob("*TYA.CSV"))
    weather = pvlib.iotools.read_tmy3(str(year), coerce_year=1990, map_variables=True)[0].iloc[:168]
    lines = ["time_s,air_celsius,humidity_percent"]
    lines += [f"{3600 * k},{row.temp_air},{row.relative_humidity}" for k, row in enumerate(weather.itertuples())]
    (tmp_path / "week.csv").write_text("\n".join(lines))
    text = (
        'name = "Dew"\n[setpoint]\nkind = "follow"\noffset_celsius = 0\n[law]\nkind = "pid"\ngain_per_celsius = 0.5\nperiod_s = 60\n[drive]\nkind = "linear"\n'
        '[load]\nkind = "lump"\n[probe]\nkind = "ideal"\n[[trial]]\nname = "A week"\nspan_s = 604800\nambient_csv = "week.csv"\nambient_column = "air_celsius"\n'
        'humidity_column = "humidity_percent"\n'
    )
    (tmp_path / "design.toml").write_text(text)
    read = file.read(tmp_path / "design.toml")
    assert writing.write(read.design, read.text, tmp_path) == text  # the path stays as it was written
    trace = loop.run(read.design, read.design.trial[0])
    hours = np.arange(167) * 60
    recorded = weather.temp_dew.to_numpy()[:167]
    # the record's own dew point, to its rounding of a degree of humidity; our columns are the mean around each instant
    assert np.abs(trace.setpoint_celsius[hours] - recorded).mean() < 0.35
    cold = made(
        law='kind = "manual"\noutput = 0\nperiod_s = 60',
        load='kind = "lump"\nheat_capacity_j_per_k = 10\nloss_w_per_k = 1',
    )
    outside = loop.run(cold, read.design.trial[0].model_copy(update={"start_celsius": float(weather.temp_air.iloc[0])}))
    assert outside.true_celsius[hours] == pytest.approx(weather.temp_air.to_numpy()[:167], abs=0.8)


@pytest.mark.parametrize(
    ("text", "column", "says"),
    [
        (None, None, "no such file"),
        ("just words", None, "give a CSV file"),
        ("a,b\n", None, "0 row"),
        ("time_s,t\n0,3\n", "air", "no column 'air'; it has time_s, t"),
        ("time_s,t\n0,x\n", None, "holds no number"),
    ],
)
def test_a_record_that_cannot_be_used(text: str | None, column: str | None, says: str, tmp_path: Path) -> None:
    if text is not None:
        (tmp_path / "air.csv").write_text(text)
    design = made().model_copy()
    keys = '\nambient_csv = "air.csv"' + (f'\nambient_column = "{column}"' if column else "")
    (tmp_path / "d.toml").write_text(writing.write(design) + f"\n[[trial]]\nspan_s = 60{keys}\n")
    with pytest.raises(file.DesignError) as caught:
        file.read(tmp_path / "d.toml")
    line = str(caught.value)
    assert "trial[1].ambient_csv" in line and says in line and "\n" not in line


def test_records_with_stamps_gaps_and_disorder(tmp_path: Path) -> None:
    path = tmp_path / "air.csv"
    path.write_text(
        "# a shed\nwhen;air\n2026-01-01 01:00;4\n2026-01-01 00:00;2\n2026-01-01 03:00;\n2026-01-01 02:00;8\n"
    )
    record = read_record(str(path), None, None)
    assert record.time_s.tolist() == [0, 3600, 7200] and record.celsius.tolist() == [2, 4, 8]
