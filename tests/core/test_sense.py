"""The probe over its whole range: every kind, every code, faults, filters, calibration, tables, knob."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.signal import lfilter, medfilt

from calor import loop
from calor.design.trial import Trial
from calor.errors import CalorError
from calor.loop import Flag
from calor.sense import budget, calibration, checks, filters, knob, reading, registry, resolution, sweep, table
from calor.sense.adc import Adc
from calor.sense.checks import Checks
from calor.sense.filters import ExponentialFilter, MeanFilter, MedianFilter
from calor.sense.ideal import IdealProbe
from calor.sense.mounting import OPEN, REVERSED, SHORT
from calor.sense.points import at_celsius, at_counts, code_range
from calor.sense.resolution import celsius_per_count
from calor.sense.thermistor import Thermistor
from tests.conftest import PROBES, made, probe_of

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
    if point["celsius_back"] is None:  # so far out that it cannot be told from a broken wire
        assert celsius < 0 or celsius > 60
        return
    assert isinstance(point["celsius_back"], float) and isinstance(point["celsius_per_count"], float)
    slack = 1.6 if divide_by == "2^n" else 2.6
    assert abs(point["celsius_back"] - celsius) <= slack * point["celsius_per_count"] + 1e-6
    assert at_counts(probe, int(point["counts"] or 0))["celsius_back"] == point["celsius_back"]


@pytest.mark.parametrize("name", PROBES)
def test_every_code_comes_back(name: str) -> None:
    """Each code that is read as a temperature is what the probe gives in the middle of that code's width."""
    probe = probe_of(name)
    plain = registry.numbers(probe)
    low, high = code_range(plain)
    codes = np.arange(low, high + 1, dtype=float)
    celsius = sweep.celsius_over(plain, codes)
    good = np.isfinite(celsius)
    assert good.sum() > 0.1 * len(codes)
    whole = np.flatnonzero(good)
    # faults are at the ends only, and temperatures go one way between them
    assert whole[-1] - whole[0] + 1 == len(whole)
    steps = np.diff(celsius[good])
    smallest = (
        0.0 if probe.kind != "thermocouple" else -0.06
    )  # pieces of the standard's inverse meet within their error
    assert (steps > smallest).all() or (steps < -smallest).all()
    step = 0.5 if registry.has_converter(probe) else 0.0
    middle = sweep.celsius_over(plain._replace(fault_below_counts=-np.inf, fault_above_counts=np.inf), codes + step)
    lowest, highest = registry.celsius_range(probe)
    inside = good & (middle >= lowest) & (middle <= highest)
    away = np.abs(sweep.counts_over(plain, middle[inside]) - codes[inside])
    if probe.kind == "thermocouple" and registry.has_converter(probe):
        # the standard's inverse errs by up to 0.06 °C: by so many codes, one where a code is that wide
        width = np.abs(np.gradient(celsius))[inside]
        known = np.isfinite(width)
        assert known.sum() >= len(width) - 2 and (away[known] <= np.ceil(0.06 / width[known])).all()
    else:
        # dividing by 2ⁿ − 1 moves the reading by up to one code
        assert away.max() <= (0.0 if "high side" not in name else 1.0)


@pytest.mark.parametrize("name", PROBES)
def test_open_and_short_are_told_from_the_code(name: str) -> None:
    probe = probe_of(name)
    plain = registry.numbers(probe)
    memory = reading.new_memory(plain)
    warm = np.array([60.0])
    assert sweep.steps(plain, memory, sweep.samples(plain, memory, warm, 0), 1.0)[1][0] == checks.NO_FAULT
    for wiring, fault in ((OPEN, checks.FAULT_OPEN), (SHORT, checks.FAULT_SHORT)):
        given_ = sweep.samples(plain, memory, warm, wiring)
        found = sweep.steps(plain, memory, given_, 1.0)[1][0]
        if wiring == SHORT and name == "thermocouple B":
            assert found == checks.FAULT_SHORT  # this letter reads nothing so cold
        elif wiring == SHORT and name.startswith("thermocouple"):
            # a short reads as the cold junction: no code tells it
            assert found == checks.NO_FAULT and abs(sweep.celsius_over(plain, given_)[0] - 25.0) < 1.0
        elif wiring == SHORT and not registry.has_converter(probe):
            assert found == checks.FAULT_OPEN  # a sensor that does not answer
        else:
            assert found == fault


def test_a_reversed_thermocouple_falls_as_it_heats_and_is_caught() -> None:
    probe = probe_of("thermocouple K", checks={"reversed_celsius": 10.0})
    plain = registry.numbers(probe)
    memory = reading.new_memory(plain)
    counts = sweep.samples(plain, memory, np.array([25.0, 30.0, 60.0, 200.0]), REVERSED)
    assert (np.diff(counts) < 0).all()
    assert list(sweep.steps(plain, memory, counts, 1.0)[1]) == [0, 0, *([checks.FAULT_REVERSED] * 2)]


@pytest.mark.parametrize(
    ("settings_", "given_", "expected"),
    [
        ({"low_celsius": 10.0, "high_celsius": 50.0}, [(20, 20), (9.9, 9.9), (50.1, 50.1), (50, 50)], [0, 3, 3, 0]),
        ({"fastest_celsius_per_s": 2.0}, [(1, 20), (2, 22), (3, 30), (4, 26.5), (5, 25)], [0, 0, 4, 4, 0]),
        ({"stuck_s": 2.0}, [(7, 20), (7, 20), (7, 20), (7, 20), (8, 20)], [0, 0, 6, 6, 0]),
        ({"reversed_celsius": 5.0}, [(1, 21), (2, 19.9), (3, 26)], [0, 5, 0]),
        ({}, [(1, -200), (1, 900), (1, 900)], [0, 0, 0]),
    ],
    ids=["range", "rate", "stuck", "reversed", "none"],
)
def test_checks(settings_: dict[str, float], given_: list[tuple[float, float]], expected: list[int]) -> None:
    """A change is measured since the last reading that passed, so that a true one comes through in the end."""
    plain = checks.numbers(Checks.model_validate(settings_), 25.0)
    memory = np.zeros(checks.SIZE)
    assert [checks.step(plain, memory, code, celsius, 1.0) for code, celsius in given_] == expected


@pytest.mark.parametrize(
    ("event", "probe", "flag"),
    [
        ("probe_open", "thermistor", Flag.PROBE_OPEN),
        ("probe_short", "thermistor", Flag.PROBE_SHORT),
        ("probe_stuck", "thermistor, checked", Flag.PROBE_STUCK),
        ("probe_reversed", "thermocouple K, checked", Flag.PROBE_REVERSED),
        ("probe_open", "chip", Flag.PROBE_OPEN),
    ],
)
def test_faults_in_a_run_are_flagged_and_named(event: str, probe: str, flag: Flag) -> None:
    name = probe.removesuffix(", checked")
    own = {"checks": {"stuck_s": 5.0, "reversed_celsius": 10.0}} if "checked" in probe else {}
    design = made(law='kind = "manual"\noutput = 0.4\nperiod_s = 0.5', drive='kind = "linear"').model_copy(
        update={"probe": probe_of(name, noise_celsius=0.1, **own)}
    )
    trial = Trial.model_validate({"span_s": 900, "events": [{"kind": event, "at_s": 600, "for_s": 60}]})
    trace = loop.run(design, trial)
    rows = trace.flags.astype(int) & flag > 0
    assert 60 <= rows.sum() <= 122 and trace.time_s[rows].min() >= 600 and trace.time_s[rows].max() < 661
    assert np.isnan(trace.measured_celsius[rows]).all()
    words = checks.FAULT_WORDS[int(math.log2(flag)) - 3]
    assert any(e.kind == "probe_fault" and words in e.text for e in trace.events)


@settings(max_examples=40, deadline=None)
@given(readings=st.lists(st.floats(-50, 150), min_size=20, max_size=60), length=st.sampled_from([3, 5, 7]))
def test_filters_against_scipy(readings: list[float], length: int) -> None:
    """Source: scipy.signal lfilter and medfilt, on the same numbers, where the filter is full."""
    x = np.array(readings)
    dt_s, tau_s = 0.5, 3.0
    share = dt_s / (tau_s + dt_s)
    expected = {
        MeanFilter(readings=length): lfilter(np.full(length, 1 / length), [1.0], x),
        MedianFilter(readings=length): np.roll(medfilt(x, length), length // 2),
        ExponentialFilter(time_constant_s=tau_s): lfilter([share], [1.0, share - 1.0], x, zi=[(1 - share) * x[0]])[0],
    }
    for settings_, want in expected.items():
        plain = filters.numbers(settings_)
        memory = np.zeros(filters.memory_size(plain))
        got = np.array([filters.step(plain, memory, value, dt_s) for value in x])
        full = slice(length - 1, None)
        assert got[full] == pytest.approx(want[full], abs=1e-9)
        # a ramp comes through late by the delay that is stated
        ramp = np.array([filters.step(plain, memory, 0.01 * k, dt_s) for k in range(400)])
        assert (0.01 * 399 - ramp[-1]) / 0.01 * dt_s == pytest.approx(filters.delay_s(settings_, dt_s), abs=1e-6)
        times, response = filters.step_response(settings_, dt_s, 60.0)
        assert times[1] == dt_s and response[-1] == pytest.approx(1.0, abs=1e-6) and (np.diff(response) >= 0).all()


def test_oversampling_buys_a_bit_for_four() -> None:
    """Common practice: 4 averaged conversions halve noise of about a count; without noise averaging buys nothing."""
    spread = {}
    for conversions, noise in ((1, 1.5), (16, 1.5), (16, 0.0)):
        adc = {"bits": 10, "oversampling": conversions, "noise_counts": noise}
        design = made(law='kind = "manual"\nperiod_s = 0.5', drive='kind = "linear"').model_copy(
            update={"probe": Thermistor.model_validate({"adc": adc})}
        )
        trace = loop.run(design, Trial(span_s=2000, start_celsius=37.5, ambient_celsius=37.5))
        spread[conversions, noise] = float(trace.counts.std())
        again = loop.run(design, Trial(span_s=2000, start_celsius=37.5, ambient_celsius=37.5))
        assert (again.counts == trace.counts).all()  # a seed is a seed
    assert spread[1, 1.5] == pytest.approx(math.hypot(1.5, 12**-0.5), rel=0.06)
    assert spread[1, 1.5] / spread[16, 1.5] == pytest.approx(4.0, rel=0.08) and spread[16, 0.0] == 0.0


@settings(max_examples=40, deadline=None)
@given(
    offset=st.floats(-5, 5), gain=st.floats(0.9, 1.1), bend=st.floats(-1e-3, 1e-3), count=st.integers(1, 7),
    kind=st.sampled_from(["thermistor", "rtd", "digital", "ideal"]),
)  # fmt: skip
def test_calibration_is_exact_at_its_points(offset: float, gain: float, bend: float, count: int, kind: str) -> None:
    truth = np.linspace(5.0, 65.0, count) if count > 1 else np.array([37.0])
    bend = bend if count >= 3 else 0.0
    gain = gain if count >= 2 else 1.0
    shown = offset + gain * truth + bend * (truth - 35.0) ** 2
    points = [{"true_celsius": float(t), "reading_celsius": float(r)} for t, r in zip(truth, shown, strict=True)]
    model = registry.KINDS[kind][0]
    plain = registry.numbers(model.model_validate({"calibration": points}))
    bare = registry.numbers(model())
    counts = shown if kind == "ideal" else sweep.exact_counts_over(bare, shown)
    back = sweep.steps(plain, reading.new_memory(plain), counts, 1.0)[0]
    # many points on a curve that is not the correction's own are fitted, not met
    close = 1e-6 if count <= 3 else 0.25
    assert np.abs(back - truth).max() < close


def test_what_a_calibration_takes_out_of_the_budget() -> None:
    bare = Thermistor()
    points = [{"true_celsius": t, "reading_celsius": t, "uncertainty_celsius": 0.05} for t in (0.0, 40.0, 80.0)]
    calibrated = Thermistor.model_validate({"calibration": points})
    before, after = budget.budget(bare, 37.5), budget.budget(calibrated, 37.5)
    assert before is not None and after is not None
    assert {p.cause for p in before.contributions} >= {"resistance at 25 °C", "beta", "series resistor", "quantisation"}
    rest = {p.cause: p.celsius for p in after.contributions}
    assert all(rest[cause] < 0.02 for cause in ("resistance at 25 °C", "beta", "series resistor"))
    assert rest["quantisation"] == pytest.approx(celsius_per_count(bare, 37.5), rel=0.02)
    assert rest["uncertainty of the calibration"] == pytest.approx(0.05, rel=0.2)
    for found in (before, after):
        assert found.worst_case_celsius == pytest.approx(sum(p.celsius for p in found.contributions))
        assert found.rss_celsius == pytest.approx(math.hypot(*(p.celsius for p in found.contributions)))


def test_budget_worked_by_hand() -> None:
    """Source: derivatives worked by hand. NTC: dT = T²/B·dR/R; RTD: 1/(A + 2Bt); on 2 wires both leads count."""
    found = budget.budget(Thermistor(), 37.5)
    assert found is not None
    parts = {p.cause: p.celsius for p in found.contributions}
    per_fraction = 310.65**2 / 3950.0
    assert parts["resistance at 25 °C"] == pytest.approx(0.01 * per_fraction, rel=0.02)
    assert parts["series resistor"] == pytest.approx(0.01 * per_fraction, rel=0.02)
    ohm = 5867.887
    watt = (3.3 / (ohm + 10_000)) ** 2 * ohm
    assert parts["self-heating"] == pytest.approx(watt / 0.002, rel=0.02)
    slope = 100.0 * (3.9083e-3 - 2 * 5.775e-7 * 50.0)
    for wires, leads in ((2, 2 * 0.4), (3, 0.4 * 0.02), (4, 0.0)):
        rtd = probe_of("rtd, current source", wires=wires, lead_ohm=0.4)
        parts = {p.cause: p.celsius for p in budget.budget(rtd, 50.0).contributions}  # type: ignore[union-attr]
        assert parts.get("lead resistance", 0.0) == pytest.approx(leads / slope, rel=0.01)
        assert parts["sensor tolerance"] == pytest.approx(0.30 + 0.005 * 50.0, rel=0.001)  # class B
        error = float(sweep.celsius_of_exact(registry.numbers(rtd), np.array([50.0]))[0]) - 50.0
        assert error == pytest.approx(leads / slope if wires == 2 else 0.0, abs=0.001)
    ratiometric, other = Thermistor(), Thermistor(adc=Adc(divider_volt=3.0))
    names = [{p.cause for p in budget.budget(p, 37.5).contributions} for p in (ratiometric, other)]  # type: ignore[union-attr]
    assert names[1] - names[0] == {"reference voltage", "supply of the probe"}


@pytest.mark.parametrize("name", PROBES)
def test_no_draw_is_further_off_than_the_worst_case(name: str) -> None:
    probe, at = probe_of(name), 60.0
    found = budget.budget(probe, at)
    assert found is not None and found.worst_case_celsius > 0.0
    chance = np.random.default_rng(5)
    base = float(sweep.celsius_of_exact(budget.ideal(probe), np.array([at]))[0])
    away = [float(sweep.celsius_of_exact(budget.draw(probe, chance), np.array([at]))[0]) - base for _ in range(60)]
    assert max(map(abs, away)) <= 1.05 * found.worst_case_celsius and len({round(a, 9) for a in away}) > 50


@pytest.mark.parametrize(
    ("name", "low", "high", "within"),
    [
        ("thermistor", 20, 50, 0.1),
        ("thermistor, high side", 0, 90, 0.5),
        ("rtd", -20, 300, 0.2),
        ("thermocouple K", 40, 900, 1.0),
    ],
)
@pytest.mark.parametrize("number", ["integer", "float"])
def test_the_smallest_table(name: str, low: float, high: float, within: float, number: Any) -> None:
    probe = probe_of(name)
    found = table.smallest(probe, within, low, high, number)
    plain = registry.numbers(probe)
    ends = sweep.celsius_over(plain, np.array([found.first_counts, found.last_counts], float))
    assert min(ends) <= low and max(ends) >= high
    # every code, interpolated once more by another's hand
    codes = np.arange(found.first_counts, found.last_counts + 1, dtype=float)
    places = np.linspace(found.first_counts, found.last_counts, found.entries)
    again = np.interp(codes, places, found.stored * found.celsius_per_step)
    away = np.abs(again - sweep.celsius_over(plain, codes))
    slack = 0.5 * found.celsius_per_step if number == "integer" else 1e-3
    assert found.worst_celsius <= within and away.max() == pytest.approx(found.worst_celsius, abs=slack)
    assert found.flash_bytes == found.entries * {"integer": 2, "float": 4}[number]
    for entries in range(2, found.entries):
        assert table.make(probe, low, high, entries, number).worst_celsius > within
    sizes = dict(table.sizes(probe, low, high, number))
    assert sizes[2] > sizes[129]


def test_resolution_is_finest_where_the_resistors_are_alike() -> None:
    """Source: maximum of R·Rs/(R + Rs)² at R = Rs (worked by hand); preferred values: IEC 60063, E24."""
    fine = {s: celsius_per_count(Thermistor(series_ohm=s, adc=Adc(bits=16)), 37.5) or 9 for s in (1e3, 5867.89, 4e4)}
    assert min(fine, key=lambda series: fine[series]) == 5867.89
    assert resolution.finest_series_ohm(Thermistor(), 37.5) == pytest.approx(5867.89, abs=0.01)
    assert resolution.preferred_ohm(5867.89) == 5600 and resolution.preferred_ohm(98.0) == 100
    better = resolution.changes(Thermistor(), 37.5)
    assert [c.celsius_per_count for c in better] == sorted(c.celsius_per_count for c in better)
    more = next(c for c in better if c.words == "14 bits")
    assert more.celsius_per_count == pytest.approx(0.0256 / 4, rel=0.01)
    assert resolution.changes(IdealProbe(), 20.0) == []


def test_dividing_by_one_less_is_a_small_error() -> None:
    """2ⁿ−1 against 2ⁿ at code 1514 of 12 bits: one part in 4096 of the code, 0.38 counts, 0.0095 °C."""
    plain, other = (at_counts(Thermistor(adc=Adc(divide_by=way)), 1514)["celsius_back"] for way in ("2^n", "2^n-1"))
    assert plain is not None and other is not None
    assert plain - other == pytest.approx(1514 / 4096 * 0.0256, rel=0.03)
    found = budget.budget(Thermistor(adc=Adc(divide_by="2^n-1")), 37.5)
    assert found is not None
    assert dict(found.contributions)["division by 2^n-1"] == pytest.approx(plain - other, rel=0.02)


def test_converter_errors_and_input_range() -> None:
    """floor((v·gain)/Vref·2ⁿ + offset), the input clipped first: worked by hand at 1.0 V of 3.3 V on 12 bits."""
    for values, code in (
        ({}, 1241), ({"gain_error_fraction": 0.01}, 1253), ({"offset_error_counts": -7.5}, 1233),
        ({"input_high_volt": 0.9}, 1117), ({"input_low_volt": 1.2}, 1489),
    ):  # fmt: skip
        probe = probe_of("analog voltage", adc={"bits": 12, **values})
        assert at_celsius(probe, 50.0)["counts"] == code, values


@pytest.mark.parametrize(("low", "high"), [(20.0, 40.0), (40.0, 20.0)])
def test_the_knob_reaches_both_ends(low: float, high: float) -> None:
    settings_ = knob.Knob(low_celsius=low, high_celsius=high, step_celsius=0.5)
    plain = knob.knob_numbers(settings_)
    values = [knob.setpoint_of(plain, float(code)) for code in range(1024)]
    assert values[0] == values[3] == low and values[1020] == values[1023] == high
    assert {round(v * 2) for v in values} == set(range(40, 81)) and all(v * 2 == round(v * 2) for v in values)
    rising = np.diff(values) * (1 if high > low else -1)
    assert (rising >= 0).all()
    with pytest.raises(ValueError, match=r"3 and 1020 leave the usual margin"):
        knob.Knob(high_counts=2000)


def test_the_button_acts_on_the_edge_and_ignores_bouncing() -> None:
    """A level held toggles once; a contact that bounces for less than its debounce time does not toggle twice."""
    levels = [0, 0, 1, 0, 1, 1, 1, 1, 1, 1, 1, 0, 1, 0, 0, 0, 0, 0, 1, 1, 1, 1, 1, 0, 1, 1]
    state, on = knob.button_start(knob.Button()), []
    for level in levels:
        state = knob.button_step(0.03, state, bool(level), 0.01)
        on.append(state.on)
    assert [k for k in range(1, len(on)) if on[k] != on[k - 1]] == [7, 21]


def test_what_is_asked_wrongly() -> None:
    calls: list[tuple[Any, str]] = [
        (lambda: at_counts(IdealProbe(), 3), "has no converter"),
        (lambda: at_counts(Thermistor(), -1), "from 0 to 4095"),
        (lambda: at_counts(probe_of("digital"), 5000), "from -2048 to 2047"),
        (lambda: at_celsius(IdealProbe(), float("nan")), "above -273.15"),
        (lambda: at_celsius(probe_of("rtd"), 900.0), r"from -200 to 850 °C, where IEC 60751 holds \(received 900\)"),
        (lambda: at_celsius(probe_of("thermocouple K"), 1400.0), "from -270 to 1372 °C, where type K of ITS-90"),
        (lambda: table.smallest(probe_of("digital"), 0.1, 20, 50), "needs no table"),
        (lambda: table.smallest(Thermistor(), 0.1, 50, 20), "swap them"),
        (lambda: table.smallest(Thermistor(), -1, 20, 50), "must be above 0"),
        (lambda: table.smallest(Thermistor(), 0.001, 20, 50), "no table is that close"),
        (lambda: table.smallest(Thermistor(), 0.1, -200, 500), "cannot be read over all of it"),
    ]
    for call, message in calls:
        with pytest.raises(CalorError, match=message):
            call()


def test_every_cause_has_a_name_of_its_own() -> None:
    for name in PROBES:
        names = [cause.name for cause in budget.causes(probe_of(name))]
        assert len(names) == len(set(names)) > 0


def test_boiling_falls_with_altitude() -> None:
    """Source: standard atmosphere and steam tables: 100 °C at sea level, 95.0 at 1500 m, 90.0 at 3000 m (from memory)."""
    assert [round(calibration.boiling_celsius(m)) for m in (0, 1500, 3000)] == [100, 95, 90]


def test_calibration_that_no_thermistor_curve_meets_is_still_used() -> None:
    """Two comparisons at one true temperature, a degree apart: no curve of Steinhart and Hart goes through them."""
    points = [(10.0, 10.0), (30.0, 30.0), (30.0, 31.0), (50.0, 50.5)]
    probe = Thermistor.model_validate({"calibration": [{"true_celsius": t, "reading_celsius": r} for t, r in points]})
    plain = registry.numbers(probe)
    read = sweep.celsius_of_exact(plain, np.array([20.0, 40.0]))
    assert np.abs(read - [20.0, 40.0]).max() < 1.0 and plain.correction != calibration.NOTHING


@pytest.mark.parametrize(
    ("points", "says"),
    [
        ([(37.5, 37.2), (37.5, 37.4)], "have one true temperature \\(37.5 °C, read as 37.2, 37.4 °C\\)"),
        ([(60.0, 60.1), (60.0, 59.0), (60.0, 60.4)], "have one true temperature"),
        ([(20.0, 20.4), (60.0, 20.4)], "have one reading"),
        ([(60.0, 20.0), (20.0, 60.0)], "calibration must rise"),
    ],
)
def test_calibration_points_that_cannot_be(points: list[tuple[float, float]], says: str) -> None:
    """Refused by name: a gain of nothing would let any reading pass; an offset alone takes them."""
    given = [{"true_celsius": true, "reading_celsius": read} for true, read in points]
    with pytest.raises(ValueError, match=says):
        Thermistor.model_validate({"calibration": given})
    if "rise" not in says:
        assert Thermistor.model_validate({"calibration": given, "correction": "offset"}).calibration
