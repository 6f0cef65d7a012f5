"""Units there and back, and how they are read."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calor import units

UNITS = st.sampled_from(units.TEMPERATURE_UNITS)


@pytest.mark.parametrize(("celsius", "fahrenheit", "kelvin"), [(0, 32, 273.15), (100, 212, 373.15), (-40, -40, 233.15)])
def test_fixed_points(celsius: float, fahrenheit: float, kelvin: float) -> None:
    """Source: definitions of the scales (SI brochure; NIST SP 811)."""
    assert units.celsius_to("°F", float(celsius)) == pytest.approx(fahrenheit)
    assert units.celsius_to("K", float(celsius)) == pytest.approx(kelvin)


@given(UNITS, st.floats(-273, 3000), st.floats(-500, 500))
def test_there_and_back(unit: units.TemperatureUnit, celsius: float, difference: float) -> None:
    assert units.to_celsius(unit, units.celsius_to(unit, celsius)) == pytest.approx(celsius, abs=1e-9)
    assert units.difference_to_celsius(unit, units.difference_to(unit, difference)) == pytest.approx(
        difference, abs=1e-9
    )
    moved = units.celsius_to(unit, celsius + difference) - units.celsius_to(unit, celsius)
    assert moved == pytest.approx(units.difference_to(unit, difference), abs=1e-6)


@given(st.integers(0, 10**7))
def test_spans_are_read_back(seconds: int) -> None:
    assert units.parse_duration(units.format_span(seconds)) == seconds


@pytest.mark.parametrize(
    ("text", "seconds"),
    [
        ("2 h", 7200),
        ("1 h 30 min", 5400),
        ("90min", 5400),
        ("1:30:00", 5400),
        ("6:35", 395),
        ("45 s", 45),
        ("12,5", 12.5),
    ],
)
def test_durations_as_they_are_typed(text: str, seconds: float) -> None:
    assert units.parse_duration(text) == seconds


@pytest.mark.parametrize("text", ["", "soon", "1:2:3:4", "2 x", "-1:20"])
def test_what_is_no_duration(text: str) -> None:
    with pytest.raises(ValueError, match=r".*"):
        units.parse_duration(text)


def test_formats() -> None:
    shown = [units.format_duration(s) for s in (0.2, 9.94, 9.97, 45, 59.6, 395, 5400, float("nan"), -70)]
    assert shown == ["0.2 s", "9.9 s", "10 s", "45 s", "1 min", "6:35", "1:30:00", "–", "−1:10"]
    assert [units.format_time_axis(s) for s in (0, 0.5, 45, 5400, 36_610)] == [
        "0:00",
        "0′00.5″",
        "0:00:45",
        "1:30",
        "10:10:10",
    ]
    assert units.format_temperature("K", 0.0, 2) == "273.15 K" and units.format_gain(0.18, "°F") == "10 %/°F"


@pytest.mark.parametrize("unit", units.TEMPERATURE_UNITS)
def test_nothing_is_minus_nothing(unit: units.TemperatureUnit) -> None:
    assert units.format_difference(unit, -0.001) == f"0.00 {unit}"
    assert units.format_temperature(unit, units.to_celsius(unit, -0.04)) == f"0.0 {unit}"
