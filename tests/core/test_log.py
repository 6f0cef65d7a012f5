"""Recorded runs: what loggers write is understood, what cannot be is said in a line, replay and calipers."""

from __future__ import annotations

import time
from pathlib import Path

import numpy as np
import pytest

from calor import loop
from calor.demo import DEMOS
from calor.design.model import Design
from calor.design.trial import Trial
from calor.errors import LogError
from calor.judge.metrics import measure
from calor.log.caliper import between
from calor.log.compare import compare
from calor.log.read import read, read_with_layout
from calor.loop import Flag
from tests.conftest import made

PLAIN = "time_s,temperature_celsius,output\n0,20,0\n1,21,1\n2,22,1\n"


def log(folder: Path, text: str | bytes) -> Path:
    path = folder / "log.csv"
    path.write_bytes(text if isinstance(text, bytes) else text.encode("utf-8"))
    return path


@pytest.mark.parametrize(
    "text",
    [
        PLAIN,
        "\ufeff" + PLAIN,
        "# logger 3\n" + PLAIN,
        "seconds;temp [C];heater\n0,0;20,0;off\n1,0;21,0;on\n2,0;22,0;on\n",
        "t;temp °F;duty %\n0;68;0\n1;69,8;100\n2;71,6;100\n",
        "time (min)\tT (K)\tpwm\n0\t293.15\t0\n0.016666666666667\t294.15\t255\n0.033333333333333\t295.15\t255\n",
        "time_ms,temp_c,fan\n5000,20,false\n6000,21,true\n7000,22,true\n",
        "timestamp,temperature (°C),relay\n2026-03-14 06:00:00.0,20,0\n2026-03-14T06:00:01,21,1\n2026-03-14 06:00:02.000,22,1\n",
        "timestamp,temp_c,relay\n2026-03-14T06:00:00+01:00,20,0\n2026-03-14T06:00:01+01:00,21,1\n2026-03-14T06:00:02+01:00,22,1\n",
        "date;time;temp;output\n14.03.2026;23:59:59;20,0;0\n15.03.2026;00:00:00;21,0;1\n15.03.2026;00:00:01;22,0;1\n",
        "time,temp,output\n23:59:59,20,0\n00:00:00,21,1\n00:00:01,22,1\n",
        "time_s|measured_celsius|delivered\n0|20|0\n1|21|1\n1|99|1\n2|22|1\n",
        "time_s,temp °C,setpoint,output\r\n0,20,50,0\r\n1,21,50,1\r\n2,22,50,1\r\n".encode("latin-1"),
        PLAIN.encode("utf-16"),
        "0,20,0\n1,21,1\n2,22,1\n",  # no header
        "0;20,0;0\n1;21,0;1\n2;22,0;1\n",
        "0 20.0 0\n1 21.0 255\n2 22.0 255\n",
        "2026-03-14 06:00:00,20,off\n2026-03-14 06:00:01,21,on\n2026-03-14 06:00:02,22,on\n",
        "14.03.2026;23:59:59;20,0;0\n15.03.2026;00:00:00;21,0;1\n15.03.2026;00:00:01;22,0;1\n",
        "Calor board 3\nready\nt=0 temp=20.0 out=0\nt=1 temp=21.0 out=1\n* heater on\nt=2 temp=22.0 out=1\n",  # key=value
        "t: 0 s, temp: 20.0 C, duty: 0 %\nt: 1 s, temp: 21.0 C, duty: 100 %\nt: 2 s, temp: 22.0 C, duty: 100 %\n",
        "temp: 68 F\nt: 0\nout: off\ntemp: 69.8 F\nt: 1\nout: on\ntemp: 71.6 F\nt: 2\nout: on\n",
        '{"t": 0, "temp": 20, "out": 0}\n{"t": 1, "temp": 21, "out": 1}\n{"t": 2, "temp": 22, "out": 1}\n',
        "06:00:00.0 -> temp=20 out=0\n06:00:01.0 -> temp=21 out=1\n06:00:02.0 -> temp=22 out=1\n",
        "millis,temp,out\n4294965796,20,0\n4294966796,21,1\n500,22,1\n",  # wraps at 2^32
        "ms,temp,out\n64536,20,0\n0,21,1\n1000,22,1\n",  # wraps at 2^16
        "boot\nms,temp,out\n0,20,0\nboot\nms,temp,out\n1000,21,1\nhalf,\n2000,22,1\n",  # the header again, half a line
        "time_s,temp,output\n0,20,0\n2,22,1\n1,21,1\n",  # a row that comes late
        "time_s,temp,room,output\n0,20,18,0\n1,21,18,1\n2,22,18,1\n",
        "t:0 s T:20.0 P:0\nt:1 s T:21.0 P:1\nt:2 s T:22.0 P:1\n",
        "[2026-03-01 10:00:00] INFO loop temp=20.0, duty=0\n[2026-03-01 10:00:01] INFO loop temp=21.0, duty=255\n[2026-03-01 10:00:02] INFO loop temp=22.0, duty=255\n",
        "Zeit;Temperatur;Heizung\n01.03.2026 10:00:00;20,0;aus\n01.03.2026 10:00:01;21,0;ein\n01.03.2026 10:00:02;22,0;ein\n",
        '"time","probe 1 (F)","probe 2 (F)","on"\n"11:59:59 AM",68,70,0\n"12:00:00 PM",69.8,70,1\n"12:00:01 PM",71.6,70,1\n',
        "Date,Time,Temp(C),Relay\n2026/03/01,10:00:00,20,0\n2026/03/01,10:00:01,21,1\n2026/03/01,10:00:02,22,1\n",
        "date;heure;temp;u\n1/3/26;10:00:00;20,0;0\n1/3/26;10:00:01;21,0;1\n1/3/26;10:00:02;22,0;1\n",
        "us,temp,out\n4293467296,20,0\n4294467296,21,1\n500000,22,1\n",
        "time_s,room temp,temp,output\n0,18,20,0\n1,18,21,1\n2,18,22,1\n",
    ],
)  # fmt: skip
def test_the_same_run_in_many_dialects(tmp_path: Path, text: str | bytes) -> None:
    trace = read(log(tmp_path, text))
    assert trace.time_s == pytest.approx([0, 1, 2], abs=1e-6)
    assert trace.measured_celsius == pytest.approx([20, 21, 22], abs=1e-6)
    assert trace.recorded_output == pytest.approx([0, 1, 1])


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("", "is empty"),
        (b"\x7fELF\x00\x01\x02\x03", "is not text"),
        (bytes(range(128, 256)) * 8, "is not text|no header|no column"),
        ("temp,output\n20,1\n21,1\n", "no column of times"),
        ("time_s,output\n0,1\n1,1\n", "no column of temperatures"),
        ("20\n21\n", "no column of times"),
        ("Dear all,\nthe oven is warm.\n", "has 0 rows"),
        ("one of these days\n", "no column of numbers"),
        ("boot=1\n", "no column of numbers|a run needs at least two"),
        ("temp=20 out=1\ntemp=21 out=0\n", "no column of times"),
        ("time_s,temp\n0,20\n", "has 1 row of data; a run needs at least two"),
        ("time_s,temp\n", "has 0 rows"),
        ("time_s,temp\n0,20\n1,warm\n2,22\n", r"row 2 .*column 'temp': is not a number \(received 'warm'\); correct it"),
        ("time_s,temp\n0,20\nsoon,21\n2,22\n", r"row 2 .*column 'time_s': is not a time \(received 'soon'\)"),
        ("time_s,temp\n0,20\n5,21\n1,22\n6,22\n2,23\n7,21\n3,20\n8,20\n1,20\n9,20\n1,20\n9,20\n", "falls back . times; this is no column of times"),
        ("time_s,temp\n5,20\n5,21\n5,22\n", "all rows have the same time"),
        ('time_s,temp\n0,"20\n1,21\n', "cannot be read as CSV|has . row"),
    ],
)  # fmt: skip
def test_bad_logs_are_explained_in_one_line(tmp_path: Path, text: str | bytes, says: str) -> None:
    path = log(tmp_path, text)
    with pytest.raises(LogError, match=says) as caught:
        read(path)
    assert str(caught.value).startswith(str(path)) and "\n" not in str(caught.value)


@pytest.mark.parametrize("name", ["none.csv", "."])
def test_missing_log_and_folder(tmp_path: Path, name: str) -> None:
    with pytest.raises(LogError, match=r"no such file|is a folder"):
        read(tmp_path / name)


def test_gaps_faults_and_repeats_are_marked(tmp_path: Path) -> None:
    rows = [f"{t},{20 + 0.01 * t:.2f}" for t in range(100)] + ["100,", "101,err"] + [f"{t},30" for t in range(200, 260)]
    trace = read(log(tmp_path, "time_s,temp\n" + "\n".join(rows)))
    flags = trace.flags.astype(int)
    assert list(trace.time_s[(flags & Flag.GAP) > 0]) == [200]
    assert list(trace.time_s[(flags & Flag.PROBE_FAULT) > 0]) == [100, 101]
    assert [(event.at_s, event.until_s) for event in trace.events] == [(101, 200)]
    assert measure(trace, 0.5).peak_celsius == 30


def test_demo_logs_are_as_loggers_write_them() -> None:
    cabinet, hut = (read_with_layout(demo.log) for demo in DEMOS if demo.log)
    assert (cabinet[1].separator, cabinet[1].decimal, hut[1].separator, hut[1].decimal) == (",", ".", ";", ",")
    for trace, _ in (cabinet, hut):
        assert len([event for event in trace.events if event.kind == "gap"]) == 1
        assert np.diff(trace.time_s).std() > 0.01 and trace.recorded_output is not None
    assert np.isnan(hut[0].measured_celsius).any()


def test_two_million_rows(tmp_path: Path) -> None:
    taken = []
    for count in (1_000, 100_000, 2_000_000):
        path, k = tmp_path / "long.csv", np.arange(count)
        celsius = [f"{one:.2f}" for one in 37 + np.sin(np.arange(5000) / 500.0)]
        rows = (f"{n >> 1}.{5 * (n & 1)},{celsius[n % 5000]},{n & 1}" for n in k.tolist())
        path.write_text("time_s,temp_c,heater\n" + "\n".join(rows) + "\n")
        began = time.process_time()
        trace = read(path)
        taken.append(time.process_time() - began)
        assert trace.steps == count
    assert taken[2] < 60 * taken[1]  # twenty times the rows: not as if it grew with their square


def test_replay_repeats_a_run_of_its_own(cabinet: Design, tmp_path: Path) -> None:
    """A run written down and replayed gives the decisions that were made."""
    trial = Trial(span_s=1200, start_celsius=30, events=({"kind": "probe_open", "at_s": 700, "for_s": 20},))
    trace = loop.run(cabinet, trial)
    replayed = loop.replay(cabinet, trace)
    assert replayed.demand[: trace.steps] == pytest.approx(trace.demand, abs=1e-9)
    assert replayed.switch_s == pytest.approx(trace.switch_s, abs=1e-9)
    figures = compare(cabinet, trace, replayed)
    assert figures["agreement_fraction"] > 0.999


def test_replay_holds_readings_and_marks_gaps(tmp_path: Path) -> None:
    rows = "\n".join(
        f"{t},{c},{o}" for t, c, o in ((0, 40, 1), (10, 52, 0), (20, 48, 1), (30, 49.9, 1), (130, 52, 0), (140, 52, 0))
    )
    recorded = read(log(tmp_path, "time_s,temp,heater\n" + rows))
    trace = loop.replay(made(law='kind = "on_off"\nhysteresis_celsius = 2'), recorded)
    assert [trace.demand[t] for t in (0, 9, 10, 19, 20, 29, 129, 130)] == [1, 1, 0, 0, 1, 1, 1, 0]
    assert trace.recorded_output is not None and list(trace.recorded_output[[0, 10, 20]]) == [1, 0, 1]
    in_gap = (trace.flags.astype(int) & Flag.GAP) > 0
    assert in_gap[30:130].all() and not in_gap[:30].any() and not in_gap[130:].any()


def test_calipers_find_the_period() -> None:
    design = made(probe='kind = "ideal"\nnoise_celsius = 0.02', load='kind = "first_order"\ndead_time_s = 30')
    trace = loop.run(design, Trial(span_s=3600))
    starts, _ = trace.on_intervals()
    found = between(trace, 1200, 3400)
    assert found.period_s == pytest.approx(np.diff(starts[starts > 1200]).mean(), rel=0.03)
    assert found.peak_to_peak_celsius > 5
    # a gap is no long cycle
    cabinet_log = read(DEMOS[0].log)  # type: ignore[arg-type]
    across = between(cabinet_log, 2518, 4316).period_s
    assert across is not None and across == pytest.approx(between(cabinet_log, 3320, 4316).period_s, rel=0.05)
    ramp = made(law='kind = "manual"\noutput = 1.0', load='kind = "lump"\nheater_watt = 100\nloss_w_per_k = 0')
    flat = between(loop.run(ramp, Trial(span_s=100)), 10, 60)
    assert (flat.difference_celsius, flat.slope_celsius_per_h, flat.period_s) == (
        pytest.approx(5),
        pytest.approx(360),
        None,
    )
