"""Probes against published tables and reference libraries, over the whole range of each kind."""

from __future__ import annotations

import csv
import json
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
import pytest
import thermocouples_reference
from scipy.optimize import brentq
from thermocouple_its90 import get

from calor.cli import invoke
from calor.sense import its90, registry, rtd, steinhart_hart, sweep, thermistor
from calor.sense.points import at_celsius
from calor.sense.rtd import Rtd
from calor.sense.thermistor import Thermistor
from tests.conftest import probe_of

MGH10 = Path(__file__).parent / "nist_mgh10.csv"


@pytest.mark.parametrize(
    ("celsius", "ohm"),
    [
        (-200, 18.5201),
        (-100, 60.2558),
        (0, 100.0),
        (100, 138.5055),
        (200, 175.8560),
        (400, 247.0923),
        (600, 313.7080),
        (850, 390.4811),
    ],
)
def test_iec_60751(celsius: float, ohm: float) -> None:
    """Source: IEC 60751:2008, the table of a 100 Ω resistor (400 and 600 °C worked from its formula)."""
    assert at_celsius(Rtd(), celsius)["ohm"] == pytest.approx(ohm, abs=0.001)


def test_iec_60751_over_its_whole_range() -> None:
    """Source: IEC 60751:2008, the Callendar–Van Dusen equation with its coefficients, written out once more here."""
    celsius = np.arange(-200.0, 850.5, 0.5)
    below = np.minimum(celsius, 0.0)
    ratio = 1 + 3.9083e-3 * celsius - 5.775e-7 * celsius**2 - 4.183e-12 * (below - 100.0) * below**3
    for r0 in (100.0, 500.0, 1000.0):
        own = rtd.numbers(Rtd(r0_ohm=r0))
        ohm = np.array([rtd.celsius_to_quantity(own, t) for t in celsius])
        assert np.abs(ohm - r0 * ratio).max() <= 0.001 * r0 / 1000.0
        back = np.array([rtd.quantity_to_celsius(own, r) for r in ohm])
        assert np.abs(back - celsius).max() <= 0.001
    # and the inverse, found by another's root finder
    for ohm_there in (20.0, 71.3, 99.9, 250.0, 389.0):
        root = brentq(lambda t, r=ohm_there: rtd.celsius_to_quantity(own, t) / 10.0 - r, -200.0, 850.0, xtol=1e-10)
        assert rtd.quantity_to_celsius(own, 10.0 * ohm_there) == pytest.approx(root, abs=1e-6)


@pytest.mark.parametrize(
    ("letter", "celsius", "millivolt"),
    [
        ("K", 100, 4.0962), ("K", 1000, 41.2756), ("J", 100, 5.2689), ("T", 100, 4.2785), ("N", 1000, 36.2555), ("S", 1000, 9.5871),
        ("K", -200, -5.891), ("E", 500, 37.005), ("R", 1000, 10.506), ("B", 1000, 4.834),
    ],
)  # fmt: skip
def test_its_90_tables(letter: str, celsius: float, millivolt: float) -> None:
    """Source: NIST ITS-90 thermocouple tables (Monograph 175); the last four from memory, to a microvolt."""
    found = at_celsius(probe_of(f"thermocouple {letter}"), celsius)["millivolt"]
    assert found == pytest.approx(millivolt, abs=0.0011)


def of_second_library(letter: str, celsius: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    """The reference functions as the package thermocouples_reference has them, from its own table of coefficients."""
    found = np.full_like(celsius, np.nan)
    for low, high, polynomial, gaussian in thermocouples_reference.thermocouples[letter].func.table:
        here = (celsius >= low) & (celsius <= high)
        found[here] = np.polyval(polynomial, celsius[here])
        if gaussian is not None:
            found[here] += gaussian[0] * np.exp(gaussian[1] * (celsius[here] - gaussian[2]) ** 2)
    return found


@pytest.mark.parametrize("letter", its90.LETTERS)
def test_its_90_over_the_whole_range(letter: Any) -> None:
    """Source: the packages thermocouple-its90 and thermocouples_reference; 1 µV there, 0.06 °C back as the standard."""
    low, high = its90.celsius_range(letter)
    number = its90.LETTERS.index(letter)
    celsius = np.linspace(low, high, 3001)
    millivolt = np.array([its90.celsius_to_millivolt(number, t) for t in celsius])
    assert (low, high) == tuple(get(letter).range)
    assert np.abs(millivolt - [get(letter).emf(float(t)) for t in celsius]).max() < 0.001
    assert np.abs(millivolt - of_second_library(letter, celsius)).max() < 0.001
    readable = celsius >= its90.readable_range(letter)[0]
    back = np.array([its90.millivolt_to_celsius(number, e) for e in millivolt[readable]])
    assert np.abs(back - celsius[readable]).max() < 0.06
    assert np.isnan(its90.millivolt_to_celsius(number, millivolt[-1] + 0.1))


@pytest.mark.parametrize("letter", its90.LETTERS)
@pytest.mark.parametrize("junction", [0.0, 25.0, 60.0])
def test_cold_junction(letter: Any, junction: float) -> None:
    """Source: the package thermocouple-its90: E measured + E(cold junction), inverted; never temperatures added."""
    probe = probe_of(f"thermocouple {letter}", cold_junction_celsius=junction, adc={"bits": 24})
    plain = registry.numbers(probe)
    for celsius in (300.0, 380.0):
        measured = at_celsius(probe, celsius)["measured_millivolt"]
        assert measured == pytest.approx(get(letter).emf(celsius, reference=junction), abs=1e-4)
        assert float(measured or 0) + get(letter).emf(junction) == pytest.approx(get(letter).emf(celsius), abs=1e-4)
        counts = sweep.counts_over(plain, np.array([celsius]))
        assert sweep.celsius_over(plain, counts)[0] == pytest.approx(celsius, abs=0.06)


def test_nist_thermistor_data() -> None:
    """Source: NIST StRD, nonlinear regression, MGH10 (thermistor, Meyer 1970), certified to 11 digits."""
    with MGH10.open(encoding="utf-8") as stream:
        rows = [row for row in csv.reader(stream) if not row[0].startswith("#")]
    celsius, ohm = np.array(rows[1:], float).T
    found = steinhart_hart.fit(celsius, ohm)
    assert np.abs(found.fitted_ohm / ohm - 1.0).max() < 0.002
    certified = (5.6096364710e-03, 6.1813463463e03, 3.4522363462e02)
    assert found.three_parameters == pytest.approx(certified, rel=1e-6)
    assert found.three_parameters_rss == pytest.approx(87.945855171, rel=1e-6)
    # a probe made of the same points reads them back
    probe = Thermistor.model_validate({"points": list(zip(celsius.tolist(), ohm.tolist(), strict=True))})
    own = thermistor.numbers(probe)
    for at, r in zip(celsius, ohm, strict=True):
        assert thermistor.celsius_to_quantity(own, at) == pytest.approx(r, rel=0.002)
        assert thermistor.quantity_to_celsius(own, thermistor.celsius_to_quantity(own, at)) == pytest.approx(
            at, abs=1e-8
        )


def test_nist_thermistor_data_by_command(capsys: pytest.CaptureFixture[str]) -> None:
    assert invoke(["probe", "--fit", str(MGH10), "--json"]) == 0
    data = json.loads(capsys.readouterr().out)
    assert {"A", "B", "C", "beta_kelvin", "r25_ohm", "residuals"} <= set(data)
    for row in data["residuals"]:
        inverse = data["A"] + data["B"] * np.log(row["ohm"]) + data["C"] * np.log(row["ohm"]) ** 3
        assert 1.0 / inverse - 273.15 - row["celsius"] == pytest.approx(row["residual_celsius"], abs=1e-9)
        assert abs(row["fitted_ohm"] / row["ohm"] - 1.0) < 0.002


def test_three_points_are_met_exactly() -> None:
    """Source: Steinhart & Hart 1968: three points give A, B, C; a 10 kΩ part's table (0, 25, 50 °C, common practice)."""
    celsius, ohm = np.array([0.0, 25.0, 50.0]), np.array([32_650.0, 10_000.0, 3_603.0])
    found = steinhart_hart.coefficients(celsius, ohm)
    x = np.log(ohm)
    solved = np.linalg.solve(np.column_stack((np.ones(3), x, x**3)), 1.0 / (celsius + 273.15))
    assert tuple(found) == pytest.approx(tuple(solved), rel=1e-7)
    assert [steinhart_hart.ohm_at(found, t) for t in celsius] == pytest.approx(ohm, rel=1e-9)
    own = thermistor.numbers(Thermistor.model_validate({"steinhart_hart": list(found)}))
    assert [thermistor.quantity_to_celsius(own, r) for r in ohm] == pytest.approx(celsius, abs=1e-9)


def test_current_output_into_a_resistor() -> None:
    """Common practice: 1 µA/K into 1 kΩ gives 273.15 mV at 0 °C; analog voltage: 10 mV/°C from 0.5 V on."""
    point = at_celsius(probe_of("analog current"), 0.0)
    assert point["microampere"] == pytest.approx(273.15) and point["volt"] == pytest.approx(0.27315)
    assert at_celsius(probe_of("analog voltage"), 25.0)["volt"] == pytest.approx(0.75)


@pytest.mark.parametrize(
    ("celsius", "bits", "step", "code"),
    [(25.0625, 12, 0.0625, 0x191), (-10.125, 12, 0.0625, -162), (125.0, 12, 0.0625, 0x7D0), (-55.0, 12, 0.0625, -880),
     (1600.0, 14, 0.25, 6400), (-0.25, 14, 0.25, -1)],
)  # fmt: skip
def test_digital_codes(celsius: float, bits: int, step: float, code: int) -> None:
    """Common practice: two's complement in steps of 1/16 °C or 0.25 °C, as data sheets tabulate them."""
    probe = probe_of("digital", bits=bits, celsius_per_code=step)
    assert at_celsius(probe, celsius)["counts"] == code
