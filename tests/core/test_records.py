"""Records: columns recognised and set right, what is wrong found and taken back, files joined, figures measured."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from calor.cli import invoke
from calor.demo import DEMOS
from calor.errors import CalorError, LogError
from calor.judge.record import figures_of
from calor.log.clean import faults_of
from calor.log.join import read_joined
from calor.log.read import Record, read_record
from calor.log.recognise import Corrections
from calor.log.remembered import store
from calor.loop.trace import Flag
from tests.records import as_csv, recorded


def written(folder: Path, text: str, name: str = "log.csv") -> Path:
    path = folder / name
    path.write_text(text, encoding="utf-8")
    return path


def rows(time_s: Any, *columns: Any, head: str = "time_s,temp_c,output") -> str:
    return (
        head
        + "\n"
        + "\n".join(
            ",".join(f"{v:.10g}" if np.isfinite(v) else "" for v in row) for row in zip(time_s, *columns, strict=True)
        )
        + "\n"
    )


SLOPE = np.random.default_rng(7)
TIME = np.arange(0.0, 400.0)
WARM = np.round(20.0 + 0.05 * TIME + SLOPE.normal(0.0, 0.05, 400), 2)
OUT = (TIME > 30).astype(float)


# ---- what was recognised, and set right


@pytest.mark.parametrize(
    ("text", "roles"),
    [
        ("time_s,oven temp,outside temp,heater\n0,20,5,0\n1,21,5,1\n2,22,5,1\n", {"oven temp": "temperature", "outside temp": "ambient", "heater": "output"}),
        ("time_s,temp top,temp bottom,out\n0,20,19,0\n1,21,20,1\n2,22,21,1\n", {"temp top": "temperature", "temp bottom": "kept", "out": "output"}),
        ("a,b,z\n0,20.1,0\n5,20.4,1\n10,21.2,1\n15,21.9,1\n", {"a": "time", "b": "temperature"}),
        ("0,20.1,0,37\n5,20.4,1,37\n10,21.2,1,37\n", {"column 1": "time", "column 2": "temperature", "column 3": "output"}),
        ("t=0 T=20.1C SP=38 out=0%\nt=1 T=20.4C SP=38 out=100%\n", {"t": "time", "T": "temperature", "SP": "setpoint", "out": "output"}),
    ],
)  # fmt: skip
def test_each_column_has_a_role_and_why(tmp_path: Path, text: str, roles: dict[str, str]) -> None:
    record = read_record(written(tmp_path, text))
    read = {column.name: column for column in record.recognised.columns}
    assert {name: read[name].role for name in roles} == roles
    assert all(read[name].why for name in roles if read[name].role != "kept")


def test_corrections_hold_and_are_remembered(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """Columns by name or number, scale and unit; then a file with the same columns is read so by itself."""
    text = "when,one,two,level\n0,68,50,0\n60,69.8,50,51\n120,71.6,50,255\n"
    path, other = written(tmp_path, text), written(tmp_path, text.replace("68", "86"), "other.csv")
    words = [
        "--time",
        "when",
        "--temperature",
        "2",
        "--output",
        "level",
        "--output-scale",
        "255",
        "--unit",
        "F",
        "--ambient-column",
        "two",
    ]
    assert invoke(["measure", str(path), *words, "--json"]) == 0
    data = json.loads(capsys.readouterr().out)
    assert [column["role"] for column in data["columns"]] == ["time", "temperature", "ambient", "output"]
    assert (data["metrics"]["lowest_celsius"], data["mean_ambient_celsius"]) == (
        pytest.approx(20.0),
        pytest.approx(10.0),
    )
    record = read_record(other)
    assert record.trace.measured_celsius[0] == pytest.approx(30.0)
    assert record.trace.recorded_output == pytest.approx([0.0, 0.2, 1.0])
    assert record.recognised.corrections.unit == "°F" and "as you set it" in record.recognised.columns[1].why
    assert invoke(["measure", str(other), "--forget"]) == 0
    assert read_record(other).trace.measured_celsius[0] == 86.0
    store().write_text("{ damaged", encoding="utf-8")
    assert read_record(other).trace.measured_celsius[0] == 86.0
    for bad, says in (
        (Corrections(time="nowhen"), r"time: there is no such column \(received 'nowhen'\); it has when, one"),
        (Corrections(temperature="none"), "no column of temperatures"),
    ):
        with pytest.raises(LogError, match=says):
            read_record(path, bad)
    for option in (["--unit", "R"], ["--time-unit", "days"], ["--output-scale", "0"], ["--keep", "everything"], ["--from", "9", "--to", "3"], ["--from", "1e6"]):  # fmt: skip
        assert invoke(["measure", str(path), *option]) == 2
        assert capsys.readouterr().err.count("\n") == 1


def test_no_times_but_how_far_rows_are_apart(tmp_path: Path) -> None:
    path = written(tmp_path, "temp,out\n" + "".join(f"{20 + k},1\n" for k in range(5)))
    assert read_record(path, Corrections(every_s=2.5)).trace.time_s == pytest.approx([0, 2.5, 5, 7.5, 10])


# ---- what is wrong


def spoilt(kind: str) -> tuple[np.ndarray[Any, Any], np.ndarray[Any, Any]]:
    """Times and readings with one fault of a kind."""
    time_s, celsius = TIME.copy(), WARM.copy()
    if kind == "spike":
        celsius[[100, 200, 201]] += (8.0, -6.0, -6.0)
    elif kind == "stuck":
        celsius[150:230] = celsius[150]
    elif kind == "rate":
        celsius[300:] -= 15.0
    elif kind == "clipped":
        celsius = np.clip(np.round(20.0 + 30.0 * np.sin(TIME / 30.0) ** 2 + SLOPE.normal(0, 0.02, 400), 2), None, 40.0)
    elif kind == "gap":
        keep = (time_s < 100) | (time_s > 180)
        return time_s[keep], celsius[keep]
    elif kind == "repeated":
        time_s[50] = time_s[49]
    elif kind == "falling":
        time_s[[60, 61]] = time_s[[61, 60]]
    elif kind == "reset":
        time_s[200:] -= 200.0
    elif kind == "wrapped":
        time_s = (time_s * 1000.0 + 2.0**32 - 100_500.0) % 2.0**32
    elif kind == "no_reading":
        celsius[[10, 11]] = np.nan
    elif kind == "rounding":
        celsius = np.round(celsius * 2.0) / 2.0
    return time_s, celsius


@pytest.mark.parametrize(
    ("kind", "count", "at_s"),
    [
        ("spike", 3, 100.0), ("stuck", 79, 151.0), ("rate", 1, 300.0), ("clipped", 200, 30.0), ("gap", 1, 99.0), ("repeated", 1, 49.0),
        ("falling", 1, 60.0), ("reset", 1, 200.0), ("wrapped", 1, 101.0), ("no_reading", 2, 10.0), ("rounding", 1, 0.0),
    ],
)  # fmt: skip
def test_each_fault_is_found_at_its_place_and_taken_back(tmp_path: Path, kind: str, count: int, at_s: float) -> None:
    head = "millis,temp_c,output" if kind == "wrapped" else "time_s,temp_c,output"
    time_s, celsius = spoilt(kind)
    path = written(tmp_path, rows(time_s, celsius, OUT[: len(time_s)], head=head))
    before = path.read_bytes()
    record = read_record(path)
    others = {item.kind for item in record.findings} - {kind, "rounding"}
    assert not others, record.findings
    finding = record.finding(kind)
    assert finding is not None and finding.text
    assert finding.count == pytest.approx(count, rel=0.45 if kind == "clipped" else 0)
    assert finding.at_s[0] == pytest.approx(at_s, abs=12.0 if kind == "clipped" else 1.01)
    assert np.all(np.diff(record.trace.time_s) > 0.0)
    back = read_record(path, taken_back=frozenset((kind,)))
    again = back.finding(kind)
    if finding.otherwise and kind != "wrapped":
        assert again is not None and again.taken_back
        same = back.trace.steps == record.trace.steps and all(
            np.array_equal(a, b, equal_nan=True)
            for a, b in (
                (back.trace.measured_celsius, record.trace.measured_celsius),
                (back.trace.flags, record.trace.flags),
            )
        )
        assert not same
    assert path.read_bytes() == before


def test_spikes_are_bridged_and_turns_are_none(tmp_path: Path) -> None:
    time_s, celsius = spoilt("spike")
    path = written(tmp_path, rows(time_s, celsius, OUT))
    assert np.abs(read_record(path).trace.measured_celsius - WARM).max() < 0.5
    assert read_record(path, taken_back=frozenset(("spike",))).trace.measured_celsius[100] > 30.0
    for trace in (recorded("on_off", 3600, 1), recorded("on_off", 7200, 2, pace_s=15.0), recorded("step", 600, 3)):
        record = read_record(written(tmp_path, as_csv(trace)))
        assert {item.kind for item in record.findings} <= {"rounding"}
    assert {item.kind for demo in DEMOS if demo.log for item in read_record(demo.log).findings} <= {"gap", "no_reading"}


def heated(control: str, rows: int, row_s: float) -> np.ndarray[Any, Any]:
    """A first-order load in a room that drifts, in small steps: rise 80 °C, 600 s, 20 s of dead time."""
    celsius = {"cools": 90.0, "rests": 50.0}.get(control, 20.0)
    on, integral, delayed = True, 0.0, [0.0] * 20
    curve = np.empty(int(rows * row_s))
    for k in range(len(curve)):
        on = celsius < (51.0 if on else 49.0)
        wanted = 0.05 * (50.0 - celsius) + integral
        integral += 0.05 * (50.0 - celsius) / 600.0 if 0.0 < wanted < 1.0 else 0.0
        output = {"on/off": float(on), "cools": 0.0, "steps": 0.6}.get(control, min(max(wanted, 0.0), 1.0))
        delayed.append(output)
        celsius += (20.0 + np.sin(k / 3000.0) + 80.0 * delayed.pop(0) - celsius) / 600.0
        curve[k] = celsius
    return curve[:: int(row_s)]


def through(curve: np.ndarray[Any, Any], sensor: str, noise: float) -> np.ndarray[Any, Any]:
    """As a converter of so many bits behind a thermistor, or a digital sensor of such steps, reads it."""
    shaken = np.random.default_rng(7).normal(0.0, noise, len(curve)) if noise else np.zeros(len(curve))
    if not sensor.endswith("bits"):
        return np.asarray(np.round(curve / float(sensor) + shaken) * float(sensor))
    codes = 2 ** int(sensor.split(maxsplit=1)[0])
    ratio = np.exp(3950.0 * (1.0 / (curve + 273.15) - 1.0 / 298.15))
    share = np.clip(np.floor(ratio / (1.0 + ratio) * codes + shaken), 1, codes - 2) / codes
    return np.asarray(np.round(1.0 / (np.log(share / (1.0 - share)) / 3950.0 + 1.0 / 298.15) - 273.15, 2))


@pytest.mark.parametrize("control", ["on/off", "regulated", "steps", "cools", "rests"])
@pytest.mark.parametrize("row_s", [1.0, 10.0])
def test_steps_of_a_converter_are_no_faults_and_faults_among_them_are(control: str, row_s: float) -> None:
    curve = heated(control, 1500, row_s)
    time_s = np.arange(len(curve)) * row_s
    for sensor in ("8 bits", "10 bits", "12 bits", "0.0625", "0.5"):
        for noise in (0.0, 0.3, 1.0):
            celsius = through(curve, sensor, noise)
            found = faults_of(time_s, celsius)
            wrong = [np.flatnonzero(mask)[:5] for mask in found[:5] if mask.any()]
            assert not wrong, (sensor, noise, wrong)
            at = [700, 900, 901, 1300]
            celsius[at] += (25.0, -25.0, -24.0, 40.0)
            assert np.flatnonzero(faults_of(time_s, celsius).spike).tolist() == at, (sensor, noise)
            celsius = through(curve, sensor, noise)
            celsius[30:100] = celsius[30]
            if abs(celsius[100] - celsius[30]) > 5.0:
                assert faults_of(time_s, celsius).stuck[31:100].all(), (sensor, noise)


@pytest.mark.parametrize(
    ("value", "rows_of_it"),
    [
        (-127.0, [slice(200, 240), slice(600, 602)]), (85.0, [slice(0, 1)]), (85.0, [slice(0, 4)]), (9999.0, [slice(100, 1000)]),
        (-999.9, [slice(k, k + 1) for k in range(100, 1400, 30)]), (0.0, [slice(800, 1500)]),
    ],
    ids=str,
)  # fmt: skip
def test_what_a_sensor_or_logger_writes_where_it_has_none_is_no_temperature(
    tmp_path: Path, value: float, rows_of_it: list[slice]
) -> None:
    celsius = through(heated("on/off", 1500, 2.0), "10 bits", 0.3)
    spoilt_rows = np.zeros(len(celsius), bool)
    for part in rows_of_it:
        celsius[part], spoilt_rows[part] = value, True
    path = written(tmp_path, rows(np.arange(1500) * 2.0, celsius, np.arange(1500) % 7 < 3))
    record = read_record(path)
    finding = record.finding("error")
    assert finding is not None
    assert finding.count == spoilt_rows.sum()
    assert f"{value:g} °C".replace("-", "−") in finding.text
    assert {item.kind for item in record.findings} == {"error"}
    assert (np.isnan(record.trace.measured_celsius) == spoilt_rows).all()
    kept = read_record(path, taken_back=frozenset(("error",))).trace.measured_celsius
    assert (kept[spoilt_rows] == value).all()


def test_a_monitor_capture_with_a_reset(tmp_path: Path) -> None:
    """Text between is counted, the header after the reset is no row, and the run goes on after a break."""
    body = [f"{k * 500},{20 + 0.01 * k:.2f},{int(k > 5)}" for k in range(100)]
    text = "\n".join(
        ["board ready", "ms,temp,out", *body[:60], "!! brown-out", "board ready", "ms,temp,out", *body[:40], "12,2"]
    )
    record = read_record(written(tmp_path, text))
    assert record.trace.steps == 100 and record.recognised.skipped_lines == 5
    assert record.finding("reset").count == 1 and record.finding("text").count == 5  # type: ignore[union-attr]
    assert list(np.flatnonzero(record.trace.flags.astype(int) & Flag.GAP)) == [60]


# ---- joined


def test_files_of_one_run_are_joined_by_time(tmp_path: Path) -> None:
    def stamps(begin: int, values: list[float], head: str) -> str:
        return head + "\n" + "\n".join(f"2026-03-01 10:{begin + k:02d}:00,{v}" for k, v in enumerate(values))

    second = written(tmp_path, stamps(5, [25, 26, 27], "timestamp,temp_c"), "b.csv")
    first = written(tmp_path, stamps(0, [20, 21, 22], "timestamp,temp_c"), "a.csv")
    relay = written(tmp_path, stamps(1, [1, 0, 1], "timestamp,relay"), "relay.csv")
    record = read_joined([second, first, relay])
    assert record.trace.time_s == pytest.approx([0, 60, 120, 300, 360, 420])
    assert record.trace.measured_celsius == pytest.approx([20, 21, 22, 25, 26, 27])
    assert np.array_equal(record.trace.delivered, [np.nan, 1, 0, 1, 1, 1], equal_nan=True)
    plain = [
        written(tmp_path, rows(np.arange(5.0), np.arange(5.0) + 20 + 5 * k, np.ones(5)), f"p{k}.csv") for k in range(2)
    ]
    joined = read_joined(plain)
    assert joined.trace.time_s == pytest.approx(np.arange(10.0)) and list(np.flatnonzero(joined.trace.flags)) == [5]
    with pytest.raises(LogError, match="none of the files has a column of temperatures"):
        read_joined([relay])


# ---- measured


def test_a_step_gives_the_two_point_model(tmp_path: Path) -> None:
    """τ = 1.5·(t63 − t28) and L = t63 − τ are exact for an exact curve (C. L. Smith, 1972)."""
    time_s = np.arange(0.0, 4000.0, 1.0)
    celsius = np.where(time_s > 130, 20 + 40 * (1 - np.exp(-np.maximum(time_s - 130, 0) / 500.0)), 20.0)
    record = read_record(written(tmp_path, rows(time_s, celsius, np.where(time_s >= 100, 0.5, 0.0))))
    step = figures_of(record, 0.5).step
    assert step is not None and step.at_s == 100.0 and step.output_change == 0.5
    assert step.time_constant_s == pytest.approx(500, rel=0.01) and step.model_dead_time_s == pytest.approx(30, abs=4)
    assert step.rise_celsius == pytest.approx(80, rel=0.01) and step.dead_time_s == pytest.approx(
        30 + 0.02 * 500, abs=5
    )
    assert step.greatest_slope_celsius_per_s == pytest.approx(40 / 500, rel=0.03)
    short = figures_of(record, 0.5, to_s=400.0).step
    assert short is not None and short.to_celsius is None and short.time_constant_s is None


def test_cycles_are_those_of_the_closed_form(tmp_path: Path) -> None:
    """On/off with dead time: peak 54.3652, trough 47.5857, on 58.979 s, off 131.849 s for K 100, τ 600, L 30, 49/51 from 20 °C."""
    record = read_record(written(tmp_path, as_csv(recorded("on_off", 6000, 1, pace_s=0.25, noise=0.0))))
    figures = figures_of(record, 2.0, from_s=1500.0, setpoint_celsius=50.0)
    cycles = figures.cycles
    assert cycles is not None and cycles.on_s is not None and cycles.off_s is not None
    assert cycles.period_s.mean == pytest.approx(58.979 + 131.849, abs=1.0) and cycles.period_s.cycles >= 20
    assert (cycles.on_s.mean, cycles.off_s.mean) == (pytest.approx(58.979, abs=1.0), pytest.approx(131.849, abs=1.0))
    assert cycles.highest_celsius.mean == pytest.approx(
        54.3652, abs=0.1
    ) and cycles.lowest_celsius.mean == pytest.approx(47.5857, abs=0.1)
    assert figures.metrics.on_fraction == pytest.approx(58.979 / 190.828, rel=0.03)
    assert figures.metrics.switchings_per_hour == pytest.approx(2 * 3600 / 190.828, rel=0.05)
    assert abs(figures.drift_celsius_per_h or 9.0) < 0.5


def test_day_and_night_apart(tmp_path: Path) -> None:
    hours = np.arange(0.0, 48.0, 0.1)
    lines = [
        f"2026-06-0{1 + int(h // 24)} {int(h % 24):02d}:{round(h % 1 * 60):02d}:00,{20 + 5 * (6 <= h % 24 < 22):.1f},{10 + h % 24:.1f},{int(h % 24 >= 22)}"
        for h in hours
    ]
    record = read_record(written(tmp_path, "timestamp,shelf temp,ambient temp,fan\n" + "\n".join(lines)))
    figures = figures_of(record, 0.5)
    assert figures.day is not None and figures.night is not None
    assert (figures.day.mean_celsius, figures.night.mean_celsius) == (pytest.approx(25.0), pytest.approx(20.0))
    assert figures.day.hours == pytest.approx(32, abs=0.3) and figures.night.on_fraction == pytest.approx(
        0.25, abs=0.02
    )
    assert figures.day.mean_ambient_celsius == pytest.approx(24.0, abs=0.2)


# ---- whatever the bytes


FRAGMENTS = st.sampled_from(["t=", "temp: ", ",", ";", "\t", "\n", "\r\n", "12:30:00", "2026-03-01", "0x1f", "nan", "-", '"', "#", "1e999", "٣", "\x0b", "on", " ", "time_s", "20,5", "=", "{", "ms,temp,out\n", "4294967295", "°F"])  # fmt: skip


@settings(max_examples=150, suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow])
@given(
    data=st.one_of(
        st.binary(max_size=400),
        st.lists(st.one_of(FRAGMENTS, st.integers(-9, 99999).map(str)), max_size=80).map("".join).map(str.encode),
    )
)
def test_whatever_the_bytes_the_answer_is_a_record_or_one_line(tmp_path: Path, data: bytes) -> None:
    check_bytes(tmp_path, data)


@settings(max_examples=150, suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow])
@given(cuts=st.lists(st.tuples(st.integers(0, 700), st.integers(0, 30), st.one_of(st.binary(max_size=6), FRAGMENTS.map(str.encode))), max_size=4), which=st.integers(0, 2))  # fmt: skip
@example(cuts=[(27, 1, b'"')], which=0)
def test_a_spoilt_log_is_read_or_refused_in_one_line(
    tmp_path: Path, cuts: list[tuple[int, int, bytes]], which: int
) -> None:
    sound = rows(TIME[:40], WARM[:40], OUT[:40])
    data = (sound, sound.replace(",", ";").replace(".", ","), "\n".join(f"t={t} temp={c} out={o}" for t, c, o in zip(TIME[:40], WARM[:40], OUT[:40], strict=True)))[which].encode()  # fmt: skip
    for at, length, new in cuts:
        data = data[:at] + new + data[at + length :]
    check_bytes(tmp_path, data)


def check_bytes(folder: Path, data: bytes) -> None:
    path = folder / "fuzzed.csv"
    path.write_bytes(data)
    try:
        record: Record = read_record(path)
    except CalorError as error:
        said = str(error)
        assert said.startswith(str(path)) and "\n" not in said and len(said) < 400 + len(str(path))
    else:
        trace = record.trace
        assert trace.steps >= 2 and np.all(np.diff(trace.time_s) > 0.0) and np.isfinite(trace.time_s).all()
        assert len(trace.measured_celsius) == len(trace.flags) == trace.steps
        assert str(record.recognised)
        if np.isfinite(trace.measured_celsius).sum() >= 2:
            figures_of(record, 0.5).plain()
