"""The probe over its whole range: every code, every placement, faults at the ends, filters of none."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from calor.errors import CalorError
from calor.sense import thermistor
from calor.sense.adc import Adc
from calor.sense.ideal import IdealProbe
from calor.sense.points import at_celsius, at_counts
from calor.sense.thermistor import Thermistor

PLACES = st.sampled_from(["low_side", "high_side"])


@settings(max_examples=80, deadline=None)
@given(
    celsius=st.floats(-30, 120), placed=PLACES, bits=st.integers(10, 24), divide_by=st.sampled_from(["2^n", "2^n-1"]),
    divider=st.floats(2.0, 3.3), beta=st.floats(2500, 4800), series=st.floats(2_000, 40_000),
)  # fmt: skip
def test_there_and_back_within_a_count(
    celsius: float, placed: str, bits: int, divide_by: str, divider: float, beta: float, series: float
) -> None:
    adc = {"bits": bits, "divide_by": divide_by, "divider_volt": divider}
    probe = Thermistor.model_validate({"placed": placed, "beta_kelvin": beta, "series_ohm": series, "adc": adc})
    point = at_celsius(probe, celsius)
    fault = thermistor.step(thermistor.numbers(probe), celsius, 0)[2]
    if fault:  # so far out that it cannot be told from a broken wire
        assert celsius < 0 or celsius > 60
        return
    assert isinstance(point["celsius_back"], float) and isinstance(point["celsius_per_count"], float)
    slack = 1.6 if divide_by == "2^n" else 2.6
    assert abs(point["celsius_back"] - celsius) <= slack * point["celsius_per_count"] + 1e-6
    assert at_counts(probe, int(point["counts"] or 0))["celsius_back"] == point["celsius_back"]


@pytest.mark.parametrize("placed", ["low_side", "high_side"])
@pytest.mark.parametrize("divider_volt", [2.5, 3.3, 5.0])
def test_readings_fall_one_way_and_the_ends_are_faults(placed: str, divider_volt: float) -> None:
    probe = Thermistor.model_validate({"placed": placed, "adc": {"bits": 12, "divider_volt": divider_volt}})
    plain = thermistor.numbers(probe)
    back = np.array([thermistor.counts_to_celsius(plain, float(code)) for code in range(4096)])
    inside = back[int(plain.adc.fault_below_counts) : int(plain.adc.fault_above_counts) + 1]
    assert np.isfinite(inside).all()
    assert (np.diff(inside) < 0).all() if placed == "low_side" else (np.diff(inside) > 0).all()
    for wiring in (1, 2):
        assert thermistor.step(plain, 37.5, wiring)[2]
    assert not thermistor.step(plain, 37.5, 0)[2]


def test_resolution_is_finest_where_the_resistors_are_alike() -> None:
    """Source: maximum of R·Rs/(R + Rs)² at R = Rs (worked by hand); common practice in choosing the resistor."""
    fine = {
        series: thermistor.celsius_per_count(Thermistor(series_ohm=series, adc=Adc(bits=16)), 37.5)
        for series in (1e3, 5867.89, 4e4)
    }
    assert min(fine, key=lambda series: fine[series]) == 5867.89


def test_dividing_by_one_less_is_a_small_error() -> None:
    """2ⁿ−1 against 2ⁿ at code 1514 of 12 bits: one part in 4096 of the code, 0.38 counts, 0.0095 °C."""
    plain, other = (at_counts(Thermistor(adc=Adc(divide_by=way)), 1514)["celsius_back"] for way in ("2^n", "2^n-1"))
    assert plain is not None and other is not None
    assert plain - other == pytest.approx(1514 / 4096 * 0.0256, rel=0.03)


def test_ideal_points_and_what_is_asked_wrongly() -> None:
    assert at_celsius(IdealProbe(), 25.0)["celsius_back"] == 25.0
    for call in (
        lambda: at_counts(IdealProbe(), 3),
        lambda: at_counts(Thermistor(), -1),
        lambda: at_celsius(IdealProbe(), float("nan")),
    ):
        with pytest.raises(CalorError, match="calor probe: --"):
            call()
