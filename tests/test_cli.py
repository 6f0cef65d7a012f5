"""The command line: every verb, its JSON, its exit codes, and bad input in one line."""

from __future__ import annotations

import csv
import json
import re
import sys
from collections import Counter
from pathlib import Path
from typing import Any

import pytest

from calor import cli
from calor.cli import VERBS, invoke, worded
from calor.demo import DEMOS
from calor.design.file import read
from calor.errors import CalorError
from calor.load import sizing
from calor.load.sizing import Warming
from tests.conftest import TEN_LINES

CABINET, HUT = (str(demo.design) for demo in DEMOS[:2])
FOAM = str(DEMOS[7].design)
CABINET_LOG, HUT_LOG = (str(demo.log) for demo in DEMOS[:2])


def call(capsys: pytest.CaptureFixture[str], *arguments: str) -> tuple[int, str, str]:
    code = invoke(list(arguments))
    out, err = capsys.readouterr()
    return code, out, err


def call_json(capsys: pytest.CaptureFixture[str], *arguments: str) -> tuple[int, Any]:
    code, out, err = call(capsys, *arguments, "--json")
    assert err == ""
    return code, json.loads(out, parse_constant=lambda word: pytest.fail(f"{word} is no JSON"))


def test_run_json_has_its_keys(capsys: pytest.CaptureFixture[str]) -> None:
    code, data = call_json(capsys, "run", CABINET)
    assert list(data) == ["design", "trial", "span_s", "steps", "metrics", "limits", "pass", "events"]
    assert list(data["metrics"]) == [
        "overshoot_celsius", "peak_celsius", "lowest_celsius", "time_to_band_s", "rise_time_s", "settled_ripple_celsius", "mean_error_celsius",
        "in_band_fraction", "iae_celsius_s", "switchings_per_hour", "on_fraction", "energy_wh", "recovery_s",
    ]  # fmt: skip
    assert [list(item) for item in data["limits"]] == [["name", "limit", "value", "pass"]] * 5
    assert (data["steps"], data["span_s"], len(data["metrics"]["recovery_s"])) == (14_400, 7200, 1)
    assert data["events"][0] == {"at_s": 5400, "kind": "door", "text": "door open 90 s"}
    assert code == 1 and data["pass"] is False
    assert call_json(capsys, "run", HUT, "--trial", "Clear day, door open at noon")[0] == 0
    assert call(capsys, "run", CABINET)[1].count("FAIL") == 2


def test_run_and_replay_write_csv(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    columns = [
        "time_s",
        "true_celsius",
        "probe_celsius",
        "counts",
        "measured_celsius",
        "setpoint_celsius",
        "demand",
        "delivered",
        "flags",
    ]
    for verb, more, extra in (("run", [], []), ("replay", [CABINET_LOG], ["recorded_output"])):
        out = tmp_path / f"{verb}.csv"
        call(capsys, verb, CABINET, *more, "--csv", str(out))
        with out.open() as stream:
            rows = list(csv.DictReader(stream))
        assert list(rows[0]) == columns + extra
        assert len(rows) > 14_000 and float(rows[1]["time_s"]) == 0.5
    assert rows[0]["true_celsius"] == "" and rows[0]["recorded_output"] in ("0", "1")


def test_a_run_written_as_csv_can_be_replayed(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    out = tmp_path / "run.csv"
    call(capsys, "run", HUT, "--csv", str(out))
    code, data = call_json(capsys, "replay", HUT, str(out))
    assert code == 0 and data["agreement_fraction"] > 0.99
    code, data = call_json(capsys, "replay", HUT, HUT_LOG)
    assert code == 0 and data["agreement_fraction"] > 0.95 and len(data["gaps"]) == 1
    assert call_json(capsys, "replay", CABINET, CABINET_LOG)[1]["recorded"]["switchings_per_hour"] > 20


def test_probe(capsys: pytest.CaptureFixture[str]) -> None:
    _, data = call_json(capsys, "probe", CABINET, "--celsius", "-10", "37.5", "100")
    assert [list(p) for p in data["points"]] == [
        ["celsius", "ohm", "volt", "counts", "celsius_back", "celsius_per_count"]
    ] * 3
    assert [p["counts"] for p in data["points"]] == [3495, 1514, 267]
    for point in data["points"]:
        assert abs(point["celsius_back"] - point["celsius"]) <= point["celsius_per_count"]
    _, back = call_json(capsys, "probe", CABINET, "--counts", "1514", "0")
    assert (
        back["points"][0]["celsius_back"] == data["points"][1]["celsius_back"]
        and back["points"][1]["celsius_back"] is None
    )
    # one comma is that of a decimal, more are between values
    for words, expected in (
        (["--celsius=1,2,3", "--celsius", "4"], [1, 2, 3, 4]),
        (["--celsius", "37,5", "-1,5", "20"], [37.5, -1.5, 20]),
    ):
        assert [point["celsius"] for point in call_json(capsys, "probe", CABINET, *words)[1]["points"]] == expected
    assert "1514" in call(capsys, "probe", CABINET, "--celsius", "37.5")[1]


def test_convert(capsys: pytest.CaptureFixture[str]) -> None:
    standard = ["--gain", "0.22", "--ti", "420", "--td", "25", "--from", "standard"]
    _, data = call_json(capsys, "convert", *standard)
    assert list(data) == ["standard", "parallel", "series", "band"]
    for dialect, numbers in data.items():
        first, second, third = (str(value) for value in numbers.values())
        _, back = call_json(capsys, "convert", "--gain", first, "--ti", second, "--td", third, "--from", dialect)
        assert back["standard"] == pytest.approx(data["standard"])
    assert call_json(capsys, "convert", "--gain", "0.2", "--ti", "50", "--td", "25")[1]["series"] is None
    code, out, _ = call(capsys, "convert", *standard, "--to", "band")
    assert code == 0 and "4.54545" in out and "kp_per_celsius" not in out


def test_new_check_and_code(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    path = tmp_path / "mine.toml"
    assert call(capsys, "new", str(path))[0] == 0
    assert read(path).design.name == "My thermostat" and path.read_text().count("#") > 10
    code, _, err = call(capsys, "new", str(path))
    assert code == 2 and "already there" in err and "--force" in err
    assert call(capsys, "new", str(path), "--force")[0] == 0
    assert call(capsys, "check", str(path))[0] == 0
    assert call(capsys, "run", str(path))[0] == 0
    code, data = call_json(capsys, "code", str(path), "--out", str(tmp_path / "c"))
    assert code == 0 and all(Path(name).is_file() for name in data["files"])
    path.write_text(TEN_LINES + "[guard]\ncut_out = 3\nprobe_fault_output = 7\n")
    code, _, err = call(capsys, "check", str(path))
    assert code == 2 and len(err.strip().splitlines()) == 2
    code, data = call_json(capsys, "check", str(path))
    assert code == 2 and [p["where"] for p in data["problems"]] == ["guard.probe_fault_output", "guard.cut_out"]


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (["run"], "Missing argument 'FILE'"),
        (["run", "/none.toml"], "/none.toml: file: there is no such file"),
        (["run", "/"], "is a folder"),
        (["run", CABINET, "--trial", "Nope"], "no trial of that name (received 'Nope'); one of 'Cold start"),
        (["run", CABINET, "--csv", "/no/such/folder/x.csv"], "/no/such/folder/x.csv: cannot be written"),
        (["run", CABINET, "--frobnicate"], "No such option"),
        (["probe", CABINET], "give either --celsius T… or --counts N…"),
        (["probe", CABINET, "--celsius", "warm"], "'warm'"),
        (["probe", CABINET, "--celsius", "-400"], "above -273.15 (received -400)"),
        (["probe", CABINET, "--counts", "4096"], "from 0 to 4095 (received 4096)"),
        (["convert", "--gain", "-3"], "at least 0 (received -3)"),
        (["convert", "--gain", "0", "--from", "band"], "a band of 0 is on/off"),
        (["convert", "--gain", "1", "--from", "greek"], "one of standard, parallel, series, band (received 'greek')"),
        (["convert", "--gain", "1", "--ti", "50", "--td", "25", "--to", "series"], "at least 4 times --td"),
        (["replay", CABINET, "/none.csv"], "/none.csv: there is no such file"),
        (["replay", CABINET, CABINET], "no column of times|has 1 row of key=value"),
        (["code", CABINET, "--out", "/dev/null/x"], "cannot be written"),
        (["demo", "--loud"], "no options"),
        (["open", "/none.toml"], "/none.toml: there is no such file; calor new /none.toml writes one"),
        (["chekc"], "no such verb, and no such file (received 'chekc'); did you mean check?"),
        (["stand_in"], "did you mean stand-in?"), (["xyzzy"], "calor help lists the verbs"),
        (["size"], "give a FILE, or --mass"),
        (["size", "--mass", "6", "--from", "20", "--to", "38"], "either --watt (for the time) or --time"),
        (["size", "--mass", "6", "--from", "38", "--to", "20", "--watt", "9"], "calor size: --to: must be above the 38 °C it starts from (received 20 °C)"),
        (["size", "--mass", "6", "--material", "cheese", "--from", "2", "--to", "20", "--watt", "9"], "one of water,"),
        (["size", "--mass", "6", "--from", "2", "--to", "20", "--watt", "-9"], "--watt: must be above 0 (received -9)"),
    ],
)  # fmt: skip
def test_bad_input_is_one_line_and_exit_2(capsys: pytest.CaptureFixture[str], arguments: list[str], says: str) -> None:
    code, out, err = call(capsys, *arguments)
    assert (code, out) == (2, "")
    assert len(err.strip().splitlines()) == 1 and any(part in err for part in says.split("|")), err


def test_demo_without_a_display_does_its_job(
    capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"):
        monkeypatch.delenv(name, raising=False)
    code, out, err = call(capsys, "demo")
    assert code == 0 and len(err.strip().splitlines()) == 1 and "there is no display" in err and "xvfb-run" in err
    assert "verdict: pass" in out and "same output for" in out and "_thermostat.c" in out
    assert call(capsys, "open")[0] == 2


def test_size(capsys: pytest.CaptureFixture[str]) -> None:
    """Source: m·c·ΔT/P: 6 litres of water from 20 to 38 °C with 300 W and no loss take 25.1 min (c 4186 J/kg·K)."""
    water = ["--mass", "6", "--material", "water", "--from", "20", "--to", "38"]
    _, data = call_json(capsys, "size", *water, "--watt", "300")
    assert (
        data["time_s"] / 60 == pytest.approx(25.1, abs=0.03)
        and data["holding_watt"] == 0.0
        and data["final_celsius"] is None
    )
    _, back = call_json(capsys, "size", *water, "--time", str(data["time_s"]))
    assert back["watt"] == pytest.approx(300)
    _, lossy = call_json(
        capsys, "size", *water, "--watt", "300", "--loss", "4", "--ambient", "18", "--price-per-kwh", "0.3"
    )
    assert lossy["holding_watt"] == pytest.approx(80) and lossy["time_s"] > data["time_s"]
    assert lossy["holding_cost_per_day"] == pytest.approx(0.08 * 24 * 0.3)
    assert lossy["with_half_the_loss"]["time_s"] < lossy["time_s"] and lossy["with_half_the_loss"][
        "holding_watt"
    ] == pytest.approx(40)
    assert call_json(capsys, "size", *water, "--watt", "300", "--loss", "40")[1]["time_s"] is None  # never
    _, walled = call_json(
        capsys, "size", *water, "--watt", "300", "--wall", "foam", "--area", "0.6", "--thickness", "0.02"
    )
    assert walled["loss_w_per_k"] == pytest.approx(0.035 * 0.6 / 0.02)
    _, design = call_json(capsys, "size", CABINET)
    assert design["watt"] == 60 and design["holding_watt"] == pytest.approx(1.1 * 16.5)
    assert "licensed persons" in call(capsys, "size", CABINET)[1]


def test_a_lump_warms_as_it_was_sized(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    """The closed form against the simulated load."""
    _, sized = call_json(
        capsys, "size", "--heat-capacity", "5000", "--from", "20", "--to", "60", "--loss", "2", "--time", "1800"
    )
    path = tmp_path / "lump.toml"
    path.write_text(
        TEN_LINES.replace(
            'kind = "first_order"',
            f'kind = "lump"\nheater_watt = {sized["watt"]}\nheat_capacity_j_per_k = 5000\nloss_w_per_k = 2',
        )
        .replace('kind = "on_off"', 'kind = "manual"\noutput = 1.0')
        .replace('kind = "relay"', 'kind = "linear"')
        + "[[trial]]\nspan_s = 1801\n"
    )
    out = tmp_path / "run.csv"
    call(capsys, "run", str(path), "--csv", str(out))
    with out.open() as stream:
        last = list(csv.DictReader(stream))[-1]
    assert float(last["true_celsius"]) == pytest.approx(60.0, abs=0.05)


def test_an_error_carries_its_parts_and_each_side_words_them() -> None:
    """The core knows no options: the command line calls by them what was given, the desk by its own names."""
    with pytest.raises(CalorError) as caught:
        sizing.for_watt(Warming(100.0, 20.0, 38.0, 20.0, 1.0), -3.0)
    error = caught.value
    assert (error.where, error.rule, error.received, error.remedy) == ("heater", "must be above 0", "-3", "")
    assert worded(error, "size") == "calor size: --watt: must be above 0 (received -3)"
    assert str(error) == "heater: must be above 0 (received -3)"
    core = (path for path in Path(cli.__file__).parent.parent.rglob("*.py") if path.parent.name not in ("cli", "desk"))
    for path in core:
        text = path.read_text(encoding="utf-8")
        for raised in re.findall(r"(?:Calor|Log|Firmware)Error\(.*?\n?.*?\)", text):
            assert not re.search(r"calor \w+:|\"--|leave --", raised), f"{path}: {raised}"


def test_help_by_every_name(capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch) -> None:
    whole = call(capsys, "--help")
    assert whole[0] == 0 and all(word in whole[1] for word in ("-h, --help", "--version", *VERBS))
    assert call(capsys, "-h") == call(capsys, "help") == whole
    of_run = call(capsys, "run", "--help")
    assert call(capsys, "run", "-h") == call(capsys, "help", "run") == of_run and "--trial" in of_run[1]
    assert "Kept runs" in call(capsys, "help", "journal")[1] and "--note" in call(capsys, "help", "journal", "keep")[1]
    assert call(capsys, "open", "-h")[0] == 0 and call(capsys, "help", "chekc")[0] == 2
    for arguments, code in ((["chekc"], 2), (["none.toml"], 2), (["help"], 0), (["--version"], 0)):
        monkeypatch.setattr(sys, "argv", ["calor", *arguments])
        with pytest.raises(SystemExit) as ended:
            cli.main()
        assert ended.value.code == code, arguments


@pytest.mark.parametrize(
    "words",
    [
        ["run", CABINET], ["probe", CABINET, "--celsius", "20"], ["tune", CABINET], ["sheet", CABINET], ["driver", str(DEMOS[1].design)],
        ["convert", "--gain", "0.2"], ["size", CABINET], ["prove", FOAM, "--faults"], ["fit", CABINET_LOG, "--order", "1"], ["code", FOAM, "--check", "--target", "host"],
        ["probe", CABINET, "--table", "0.1", "--from", "20", "--to", "50"], ["measure", CABINET_LOG],
    ],
    ids=lambda words: " ".join(word for word in words if "/" not in word),
)  # fmt: skip
def test_tables_fit_a_narrow_terminal(
    words: list[str], capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    """In 60 columns no line of a table is wider, and nothing of it is cut off; sentences break where the terminal does."""
    monkeypatch.delenv("COLUMNS", raising=False)
    wide = call(capsys, *words)[1]
    monkeypatch.setenv("COLUMNS", "60")
    narrow = call(capsys, *words)[1]
    is_table = re.compile(r"\S {2,}\S")
    assert [line for line in narrow.splitlines() if len(line) > 60 and is_table.search(line)] == []
    gone = Counter(re.findall(r"\w+", wide)) - Counter(re.findall(r"\w+", narrow))
    # what a first column is called, and a column that is empty throughout
    assert set(gone) <= {"gains", "row", "target", "parameter", "hysteresis", "of", "a", "step"}, gone


@pytest.mark.parametrize("verb", ["check", "run", "tune", "sheet", "probe", "code"])
def test_what_others_wrote_is_text(verb: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """A name with markup is shown as it is written, and what would steer the terminal by a mark."""
    file = tmp_path / "odd.toml"
    text = (DEMOS[0].design).read_text()
    name = re.search(r'^name = "(.*)"', text, re.MULTILINE)
    assert name is not None
    file.write_text(text.replace(name[0], 'name = "[/nope] [red]hot <b> \\u001b[31m :fire:"'))
    more = {"probe": ["--celsius", "30"], "code": ["--out", str(tmp_path / "c")]}.get(verb, [])
    assert invoke([verb, str(file), *more]) in (0, 1)
    said = capsys.readouterr()
    assert "\x1b" not in said.out + said.err and "made a mistake" not in said.err
    if verb in ("check", "run", "tune", "sheet"):
        assert "[/nope] [red]hot <b> \N{REPLACEMENT CHARACTER}[31m :fire:" in said.out
