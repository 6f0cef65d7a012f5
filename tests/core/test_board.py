"""The link to a board over real pseudo-terminals: every intact row kept and none invented, a plug pulled and put back,
a stand-in that is the firmware."""

from __future__ import annotations

import contextlib
import json
import math
import os
import random
import signal
import subprocess
import sys
import threading
import time
import tty
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from calor import loop
from calor.board import in_loop
from calor.board import link as links
from calor.board.feed import Feed
from calor.board.in_loop import board_seated
from calor.board.link import Link
from calor.board.protocol import (
    Answer,
    Greeting,
    Range,
    Row,
    answer_of,
    checked,
    checksum,
    greeting_line,
    greeting_of,
    is_for,
    row_line,
    row_of,
    unchecked,
)
from calor.board.recorder import Recorder
from calor.board.stand_in import StandIn
from calor.cli import invoke
from calor.demo import DEMOS
from calor.design.file import read
from calor.design.model import Design
from calor.errors import CalorError, FirmwareError
from calor.firmware.controller.seat import seated
from calor.log.read import read_record


def until(what: Callable[[], Any], limit_s: float = 60.0) -> None:
    """Wait for a condition."""
    end = time.monotonic() + limit_s
    while not what():
        assert time.monotonic() < end, "it did not come to that"
        time.sleep(0.005)


DAY = 2 * 86_400
"""Lines of a day, two in a second."""


def test_the_checksum_is_the_published_one() -> None:
    """CRC-16/CCITT-FALSE of "123456789" is 0x29B1 (the usual check value of catalogues of CRCs)."""
    assert checksum("123456789") == 0x29B1
    assert unchecked(checked("ok stopped")) == ("ok stopped", True)
    assert unchecked("ok stopped *0000")[1] is False and unchecked("ok stopped") == ("ok stopped", None)


KEYS = st.from_regex(r"[a-z][a-z0-9_]{0,12}", fullmatch=True)
VALUES = st.floats(width=32, allow_nan=False, allow_infinity=False)


@given(st.dictionaries(KEYS, VALUES, min_size=1, max_size=12))
def test_rows_there_and_back(values: dict[str, float]) -> None:
    row = row_of(row_line(values))
    assert row is not None and list(row.values) == list(values)
    for key, value in values.items():
        assert row.values[key] == pytest.approx(value, rel=1e-6, abs=1e-37)


def test_a_late_answer_is_not_taken_for_another() -> None:
    assert is_for(Answer(True, "stop outputs off"), "stop") and not is_for(Answer(True, "set x=1"), "stop")
    assert is_for(Answer(True, ""), "stop") and is_for(Answer(False, "what?"), "stop")


def test_greetings_and_answers_there_and_back() -> None:
    greeting = Greeting("Hatching cabinet", "0.1.0", 0.5, {"setpoint_celsius": Range(20.0, 39.0)}, True)
    assert greeting_of(greeting_line(greeting)) == greeting
    for line in ("hello", "hello link=2 step_s=1", "hello link=1 step_s=x", "hello link=1 step_s=-1", ""):
        assert greeting_of(line) is None, line
    assert answer_of("err no such key") == Answer(False, "no such key") and answer_of("okay") is None


def test_a_day_of_lines_with_a_thousand_faults(tmp_path: Path) -> None:
    """Over a pseudo-terminal, lines cut, doubled, corrupted, reordered, dropped, run together: every intact row is kept,
    on disk too, and none is invented."""
    chance = random.Random(20261127)
    lines = [
        checked(row_line({"time_s": k * 0.5, "counts": float(1000 + k), "demand": chance.random()})) for k in range(DAY)
    ]
    sent: list[bytes] = [f"{line}\n".encode() for line in lines]
    spoilt: set[int] = set()
    for place in chance.sample(range(1, DAY - 1, 3), 1000):
        kind = chance.choice(("cut", "double", "corrupt", "swap", "drop", "join"))
        data = sent[place]
        if kind == "cut":
            sent[place] = data[: chance.randrange(len(data) - 1)] + b"\n"
        elif kind == "double":
            sent[place] = data * 2
            continue
        elif kind == "corrupt":
            at = chance.randrange(len(data) - 1)
            sent[place] = data[:at] + bytes([data[at] ^ (1 << chance.randrange(8))]) + data[at + 1 :]
        elif kind == "swap":
            sent[place], sent[place + 1] = sent[place + 1], sent[place]
            continue
        elif kind == "drop":
            sent[place] = b""
        else:
            sent[place] = data[:-1]  # without its end it runs into the next
            spoilt.add(place + 1)
        spoilt.add(place)
    plug, out = Plug(tmp_path / "port"), tmp_path / "day.csv"
    os.set_blocking(plug.master, True)
    got: list[Row] = []
    link = Link(str(plug.place), out=out, told=lambda item: got.append(item) if isinstance(item, Row) else None)
    link.feed.checks = True
    stream, at = b"".join(sent), 0
    while at < len(stream):
        at += os.write(plug.master, stream[at : at + chance.randrange(1, 2000)])
    last = DAY + 999.0
    until(lambda: bool(got) and got[-1].values["counts"] == last, 300.0)
    link.close()
    feed = link.feed
    there = {row_of(unchecked(line)[0]).values["counts"] for line in lines}  # type: ignore[union-attr]
    found = [row.values["counts"] for row in got]
    assert set(found) <= there
    assert {1000.0 + k for k in range(DAY) if k not in spoilt} <= set(found)
    assert 400 < feed.garbage < 1500
    with out.open(encoding="utf-8") as record:
        assert sum(1 for _ in record) == len(found) + 1
    plug.pull()


@pytest.mark.parametrize(
    ("text", "keys", "rows", "garbage"),
    [
        ("time,temp,duty\n0,20.1,0.5\n1,20.2,1\n", ["time", "temp", "duty"], 2, 1),
        ("20.5\n20.6\n\n", ["value"], 2, 0),
        ("0;20.1\r\n1;20.2\r\nbooting...\n2;20.3\r\n", ["column_1", "column_2"], 3, 1),
        ("t=1 a=2\nt=2 a=nan\nt=3 a=\nt=4 t=5\n", ["t", "a"], 2, 2),
        ("\x00\xff\xfe\n" + "x" * 5000 + "\nt=1\n", ["t"], 1, 2),
    ],
)
def test_firmware_that_only_prints(text: str, keys: list[str], rows: int, garbage: int) -> None:
    feed = Feed()
    items = feed.take(text.encode("latin-1"))
    assert [list(item.values) for item in items if isinstance(item, Row)] == [keys] * rows
    assert feed.garbage == garbage


def test_a_record_grows_and_gains_columns(tmp_path: Path) -> None:
    place = tmp_path / "log.csv"
    recorder = Recorder(place)
    recorder.add({"time_s": 0.0, "measured_celsius": 20.0}, 0.1)
    recorder.add({"time_s": 1.0, "measured_celsius": math.nan}, 1.1)
    recorder.add({"time_s": 2.0, "measured_celsius": 20.4, "demand": 0.5}, 2.1)
    recorder.flush()
    assert place.read_text().splitlines() == [
        "time_s,measured_celsius,demand,arrived_s", "0,20,,0.1", "1,,,1.1", "2,20.4,0.5,2.1",
    ]  # fmt: skip
    recorder.close()
    with pytest.raises(CalorError, match="cannot be written"):
        Recorder(tmp_path / "none" / "log.csv").add({"time_s": 0.0}, 0.0)


class Plug:
    """A pseudo-terminal behind a name that stays: pulled and put back."""

    def __init__(self, place: Path) -> None:
        self.place = place
        self.master = -1
        self.put_in()

    def put_in(self) -> None:
        self.master, slave = os.openpty()
        os.set_blocking(self.master, False)
        self._heard = b""
        tty.setraw(slave)
        name = os.ttyname(slave)
        fresh = self.place.with_suffix(".new")
        fresh.symlink_to(name)
        fresh.replace(self.place)
        self._slave = slave

    def write(self, text: str) -> None:
        os.write(self.master, text.encode())

    def is_greeted(self) -> bool:
        """Whether a link has come to this very plug."""
        with contextlib.suppress(BlockingIOError):
            self._heard += os.read(self.master, 4096)
        return b"hello" in self._heard

    def pull(self) -> None:
        os.close(self.master)
        os.close(self._slave)


def test_a_plug_pulled_and_put_back_fifty_times(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(links, "AGAIN_S", 0.01)
    plug, out = Plug(tmp_path / "port"), tmp_path / "log.csv"
    link = Link(str(plug.place), out=out)
    sent = 0
    for _ in range(50):
        until(plug.is_greeted)
        before, lost = link.rows, link.losses
        for _ in range(3):
            plug.write(row_line({"time_s": float(sent), "measured_celsius": 20.0}) + "\n")
            sent += 1
        until(lambda before=before: link.rows == before + 3)
        plug.write("time_s=99 measur")  # half a line
        plug.pull()
        until(lambda lost=lost: link.losses > lost)
        plug.put_in()
    until(plug.is_greeted)
    link.close()
    plug.pull()
    assert link.rows == sent == 150
    assert read_record(out).trace.steps == 150


@pytest.fixture(autouse=True)
def patience(monkeypatch: pytest.MonkeyPatch) -> None:
    """A machine that is busy with other tests is no board that is silent."""
    monkeypatch.setattr(links, "ANSWER_S", 30.0)
    monkeypatch.setattr(in_loop, "LONGEST_S", 30.0)
    monkeypatch.setattr("calor.cli.link.GREETING_S", 60.0)


@pytest.fixture
def board(cabinet: Design) -> Iterator[StandIn]:
    stand_in = StandIn(cabinet, faster=40.0)
    stand_in.start()
    yield stand_in
    stand_in.close()


def test_a_first_evening(board: StandIn, tmp_path: Path) -> None:
    """Greeted, read, told what to do within its limits, stopped, faults seen, a record that the Logs room opens."""
    out, told = tmp_path / "log.csv", []
    link = Link(board.port, out=out, told=told.append)
    until(lambda: link.greeting is not None and link.last is not None)
    assert link.greeting is not None and link.greeting.name == "Hatching cabinet" and link.feed.checks
    assert link.greeting.can["setpoint_celsius"] == Range(20.0, 39.0) and link.greeting.keeps
    assert link.greeting.can["gain_per_celsius"] == Range(0.0, 1000.0) and link.greeting.panel == 16
    assert link.ask("set setpoint_celsius 30") == Answer(True, "set setpoint_celsius=30")
    until(lambda: link.last.values["setpoint_celsius"] == 30.0)
    for command, says in (
        ("set setpoint_celsius 99", "takes 20 to 39"), ("set gain 1", "KEY one of"), ("hand 2", "takes 0 to 1"),
        ("tune", "cannot tune itself"), ("dance", "is no command"),
    ):  # fmt: skip
        answer = link.ask(command)
        assert not answer.ok and says in answer.text
    assert link.ask("hand 0.25").ok
    until(lambda: link.last.values["demand"] == 0.25)
    assert link.off() == Answer(True, "stop outputs off")
    until(lambda: link.last.values["demand"] == 0.0)
    assert "mode=stopped" in link.ask("get").text and link.ask("auto").ok
    board.throw("probe_open")
    until(lambda: math.isnan(link.last.values["measured_celsius"]) and link.last.values["flags"] > 0)
    board.throw("none")
    until(lambda: not math.isnan(link.last.values["measured_celsius"]))
    board.throw("mains_lost")
    quiet = link.rows
    with pytest.raises(CalorError, match="was not answered"):
        link.ask("get", 0.2)
    board.throw("none")
    until(lambda: link.rows > quiet + 3)
    assert link.last.values["setpoint_celsius"] == 37.5, "it began afresh"
    with pytest.raises(CalorError, match="is one of"):
        board.throw("flood")
    link.mark('door opened, "wide"')
    marked = link.rows
    until(lambda: link.rows > marked + 20)  # so that what begins afresh is long enough, however quick all this was
    link.close()
    record = read_record(out)
    assert [event.text for event in record.trace.events if event.kind == "mark"] == ["door opened wide"]
    assert record.trace.steps > 20 and link.feed.garbage == 0 and any(isinstance(item, Greeting) for item in told)


BENCH_HEATER = """\
name = "Bench heater"
[setpoint]
celsius = 30
low_limit_celsius = 15
high_limit_celsius = 60
[law]
kind = "pid"
period_s = 0.5
gain_per_celsius = 0.4
integral_time_s = 60
[drive]
kind = "linear"
[load]
kind = "first_order"
rise_celsius = 60
time_constant_s = 150
dead_time_s = 6
ambient_celsius = 20
[probe]
kind = "thermistor"
time_constant_s = 2
noise_celsius = 0.02
[limits]
overshoot_celsius = 2
band_celsius = 0.5
in_band_within_s = 400
[[trial]]
name = "To 40"
span_s = 900
start_celsius = 20
"""


def test_an_evening_from_the_first_curve_to_the_verdict(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """20 °C seen, 50 % by hand, automatic at 40 °C; the record read, a load fitted, tuned for it, the gains sent and kept
    on the board; and the board in the loop keeps the design's limits, as the simulation said."""

    def told(*arguments: str, code: int = 0) -> Any:
        assert invoke([*arguments, "--json"]) == code, capsys.readouterr().err
        return json.loads(capsys.readouterr().out)

    design, log, tuned = tmp_path / "bench.toml", tmp_path / "log.csv", tmp_path / "tuned.toml"
    design.write_text(BENCH_HEATER.replace("celsius = 30", "celsius = 40"))
    board = StandIn(read(design).design, faster=100.0)
    board.start()
    try:
        link = Link(board.port, out=log)
        until(lambda: link.last is not None and link.greeting is not None)
        assert link.ask("stop").ok and link.last.values["measured_celsius"] == pytest.approx(20.0, abs=2.0)
        seen_s = link.last.values["time_s"]
        until(lambda: link.last.values["time_s"] > seen_s + 100.0)
        assert link.ask("hand 0.5").ok
        until(lambda: link.last.values["time_s"] > seen_s + 900.0, 240.0)
        assert link.ask("auto").ok and link.ask("set setpoint_celsius 40").ok
        until(lambda: link.last.values["setpoint_celsius"] == 40.0 and link.last.values["demand"] != 0.5)
        link.close()
        fit = told("fit", str(log), "--order", "1", "--ambient", "20", "--probe-lag", "2")
        found = fit["model"]
        assert found["rise_celsius"] == pytest.approx(60.0, rel=0.05)
        assert found["time_constant_s"] == pytest.approx(150.0, rel=0.08)
        told("tune", str(design), "--from", str(log), "--ambient", "20", "--out", str(tuned))
        law = read(tuned).design.law
        assert told("run", str(tuned))["pass"]
        sent = [f"gain_per_celsius={law.gain_per_celsius}", f"integral_time_s={law.integral_time_s}"]
        sent.append(f"derivative_time_s={law.derivative_time_s}")
        arguments = [part for one in sent for part in ("--set", one)]
        told("link", board.port, *arguments, "--for", "0.5", "--design", str(tuned), "--at-end", "off")
        again = Link(board.port)
        until(lambda: again.greeting is not None)
        assert again.ask("keep") == Answer(True, "keep kept")
        again.close()
        board.throw("reset")
        judged = told("run", str(tuned), "--with", board.port)
        assert judged["pass"] and judged["reference"]["demand"] < 0.1
    finally:
        board.close()


@pytest.mark.parametrize(
    "chip",
    ["host", "cortex-m4f", *(pytest.param(slow, marks=pytest.mark.long) for slow in ("cortex-m0plus", "rv32imc"))],
)
def test_the_stand_in_is_the_simulation(chip: str, cabinet: Design) -> None:
    """What comes over the line is what the same firmware does in the same trial, to the digits of the line."""
    if chip != "host":
        pytest.importorskip("unicorn")
    trial = cabinet.trial[0].model_copy(update={"events": (), "span_s": 200.0})
    with seated(cabinet, "host") as seat:
        expected = loop.run(cabinet, trial, seat=seat)
    stand_in = StandIn(cabinet, chip, faster=200.0)
    rows: list[Row] = []
    link = Link(stand_in.port, told=lambda item: rows.append(item) if isinstance(item, Row) else None)
    stand_in.start()
    until(lambda: len(rows) >= 100)
    link.close()
    stand_in.close()
    assert stand_in.trouble is None
    # the noise of a longer trial begins with the same draws
    for row in rows:
        k = round(row.values["time_s"] / cabinet.law.period_s)
        if k < expected.steps:
            assert row.values["counts"] == expected.counts[k]
            assert row.values["measured_celsius"] == pytest.approx(expected.measured_celsius[k], rel=1e-6)
            assert row.values["demand"] == pytest.approx(expected.demand[k], rel=1e-5, abs=1e-6)


def test_a_board_in_the_loop(cabinet: Design, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """Over the line it comes to what the same firmware does on the host, to the bit; and is compared with the reference."""
    design = tmp_path / "cabinet.toml"
    design.write_text(DEMOS[0].design.read_text(encoding="utf-8").replace("span_s = 7200", "span_s = 900"))
    stand_in = StandIn(cabinet)
    stand_in.start()
    try:
        invoke(["run", str(design), "--with", stand_in.port, "--json", "--csv", str(tmp_path / "board.csv")])
        board = json.loads(capsys.readouterr().out)
        invoke(["run", str(design), "--with", "host", "--json", "--csv", str(tmp_path / "host.csv")])
        host = json.loads(capsys.readouterr().out)
        assert board["board"]["answers"] == 1800 and board["board"]["missing"] == 0
        assert board["metrics"] == host["metrics"] and board["limits"] == host["limits"]
        assert (tmp_path / "board.csv").read_bytes() == (tmp_path / "host.csv").read_bytes()
        assert board["reference"]["steps"] == 1800 and board["reference"]["demand"] < 0.5
    finally:
        stand_in.close()


def test_a_board_that_is_silent_or_refuses(cabinet: Design, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.setattr(in_loop, "LONGEST_S", 0.02)
    plug = Plug(tmp_path / "port")
    trial = cabinet.trial[0].model_copy(update={"span_s": 600.0})
    for answer, says in ((b"", "20 answers in a row are missing"), (b"err not now\n", "the board answers: not now")):
        control = loop.new_control()
        with board_seated(cabinet, str(plug.place), control) as (seat, board):
            if answer:
                os.write(plug.master, answer)
            with contextlib.suppress(loop.Stopped):
                loop.run(cabinet, trial, control, seat)
        assert board.trouble is not None and says in str(board.trouble) and "at step" in str(board.trouble)
    assert board.data()["answers"] == 0
    plug.pull()
    with pytest.raises(FirmwareError, match="cannot be opened"), board_seated(cabinet, str(plug.place), control):
        pass


@pytest.mark.parametrize(("at_end", "demand"), [("off", 0.0), ("as-is", 0.25)])
def test_ctrl_c_leaves_the_output_as_asked(board: StandIn, at_end: str, demand: float) -> None:
    """Ctrl-C ends it with 130, after the outputs are off where that is asked for, and that is said."""
    link = Link(board.port)
    until(lambda: link.greeting is not None)
    assert link.ask("hand 0.25").ok
    link.close()
    # a shell may have begun all of this to be deaf to it
    script = (
        "import signal; signal.signal(signal.SIGINT, signal.default_int_handler); from calor.cli import main; main()"
    )
    running = subprocess.Popen(
        [sys.executable, "-c", script, "link", board.port, "--at-end", at_end],
        stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    assert running.stdout is not None
    assert "demand=0.25" in running.stdout.readline()
    running.send_signal(signal.SIGINT)
    _, said = running.communicate(timeout=120)
    assert running.returncode == 130 and ("output off: stop outputs off" in said) == (at_end == "off"), said
    steps = board.steps
    until(lambda: board.steps > steps + 2)
    assert board.demand == demand


def test_off_passes_what_still_waits_for_an_answer(tmp_path: Path) -> None:
    """While a command waits that is never answered, `stop` is on the line at once."""
    plug = Plug(tmp_path / "port")
    link = Link(str(plug.place))
    until(plug.is_greeted)
    heard: list[bytes] = []
    waiting = threading.Thread(target=_asked_in_vain, args=(link,), daemon=True)
    waiting.start()

    def has_heard(word: bytes) -> bool:
        with contextlib.suppress(BlockingIOError):
            heard.append(os.read(plug.master, 4096))
        return word in b"".join(heard)

    until(lambda: has_heard(b"get"))
    threading.Thread(target=link.off, daemon=True).start()
    until(lambda: has_heard(b"stop"))
    assert waiting.is_alive(), "the other one waits still"
    plug.write("ok get mode=auto\nok stop outputs off\n")
    waiting.join(60.0)
    link.close()
    plug.pull()


def _asked_in_vain(link: Link) -> None:
    with contextlib.suppress(CalorError):
        link.ask("get")


def test_the_drift_of_its_clock(cabinet: Design) -> None:
    """A stand-in that is twice as fast has a clock that is a million parts in a million ahead."""
    del cabinet
    link = Link.__new__(Link)
    link._pairs = [(2.0 * t, t) for t in np.linspace(0.0, 20.0, 50).tolist()]
    assert link.drift_ppm == pytest.approx(1e6)
    link._pairs = link._pairs[:5]
    assert link.drift_ppm is None


def test_the_commands(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    design = str(DEMOS[0].design)
    process = subprocess.Popen(
        [sys.executable, "-c", "from calor.cli import main; main()", "stand-in", design, "--faster", "20"], stdin=subprocess.PIPE,
        stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    try:
        assert process.stdout is not None and process.stdin is not None
        port = process.stdout.readline().strip()
        out = tmp_path / "log.csv"
        code = invoke(
            [
                "link",
                port,
                "--for",
                "4",
                "--out",
                str(out),
                "--set",
                "setpoint_celsius=30",
                "--at-end",
                "off",
                "--json",
            ]
        )
        said = capsys.readouterr()
        data = json.loads(said.out)
        assert code == 0 and data["rows"] > 3 and data["garbage_lines"] == 0 and data["board"] == "Hatching cabinet"
        assert "output off: stop outputs off" in said.err and "leaves a first run alone" in said.err
        assert invoke(["link", port, "--for", "0.3", "--set", "setpoint_celsius=50"]) == 1
        assert "not sent" in capsys.readouterr().err
        for words, says in (
            (["--set", "setpoint_celsius=hot"], "takes KEY=VALUE"), (["--baud", "7"], "takes one of"),
            (["--at-end", "on"], "takes off or as-is"), (["--out", design], "may not have written it"),
            (["--design", design, "--set", "setpoint_celsius=45"], "limits are 20.0 to 39.0"), (["--for", "-1"], "above 0"),
        ):  # fmt: skip
            assert invoke(["link", port, *words]) == 2
            assert says in capsys.readouterr().err, words
    finally:
        process.terminate()
        process.communicate(timeout=30)
    assert invoke(["link", str(tmp_path / "none")]) == 2 and "cannot be opened" in capsys.readouterr().err
    assert invoke(["link"]) == 2 and invoke(["link", "--list"]) == 0
    capsys.readouterr()
    for words, says in ((["--faster", "0"], "takes a number from"), (["--chip", "z80"], "runs on one of")):
        assert invoke(["stand-in", design, *words]) == 2
        assert says in capsys.readouterr().err
