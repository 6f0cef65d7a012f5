"""`calor probe` as a script calls it: every kind, every option, exact JSON names, errors of one line."""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest

from calor.design.file import read
from tests.conftest import PROBES, TEN_LINES
from tests.test_cli import CABINET, call, call_json

OWN = {
    "thermistor": ["ohm"], "rtd": ["ohm"], "thermocouple": ["millivolt", "measured_millivolt"], "chip": ["millivolt", "measured_millivolt"],
    "analog voltage": [], "analog current": ["microampere"], "digital": [],
}  # fmt: skip


def design_with(path: Path, probe: str) -> Path:
    path.write_text(TEN_LINES.replace('kind = "ideal"\n', probe + "\n"), encoding="utf-8")
    return path


@pytest.mark.parametrize("name", PROBES)
def test_every_kind_at_temperatures_and_counts(capsys: pytest.CaptureFixture[str], tmp_path: Path, name: str) -> None:
    file = str(design_with(tmp_path / "d.toml", PROBES[name]))
    _, data = call_json(capsys, "probe", file, "--celsius", "60", "75.5")
    kind = next(key for key in OWN if name.startswith(key))
    for point in data["points"]:
        assert list(point) == ["celsius", *OWN[kind], "volt", "counts", "celsius_back", "celsius_per_count"]
        slack = 0.07 if "thermocouple" in name else 2e-3
        assert abs(point["celsius_back"] - point["celsius"]) <= 1.1 * point["celsius_per_count"] + slack
    assert data["budget_at_celsius"] == 50 and data["budget"] and list(data["budget"][0]) == ["cause", "celsius"]
    assert sum(part["celsius"] for part in data["budget"]) == pytest.approx(data["worst_case_celsius"])
    assert sum(part["celsius"] ** 2 for part in data["budget"]) ** 0.5 == pytest.approx(data["rss_celsius"])
    codes = [str(point["counts"]) for point in data["points"]]
    _, back = call_json(capsys, "probe", file, "--counts", *codes)
    assert [p["celsius_back"] for p in back["points"]] == [p["celsius_back"] for p in data["points"]]
    out = call(capsys, "probe", file, "--celsius", "60")[1]
    assert "error budget at 50 °C" in out and "root-sum-square" in out
    assert call_json(capsys, "probe", file, "--formula")[1]["formula"][-1].startswith("celsius")


def test_the_ideal_probe(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    file = str(design_with(tmp_path / "d.toml", 'kind = "ideal"'))
    _, data = call_json(capsys, "probe", file, "--celsius", "-20")
    assert data["points"] == [
        {"celsius": -20.0, "volt": None, "counts": None, "celsius_back": -20.0, "celsius_per_count": None}
    ]
    assert data["budget"] == [] and data["worst_case_celsius"] == 0.0


def test_the_table_and_its_c(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    _, data = call_json(capsys, "probe", CABINET, "--table", "0.1", "--from", "20", "--to", "50")
    found = data["table"]
    assert found["worst_error_celsius"] <= 0.1 and found["flash_bytes"] == 2 * found["entries"] == 2 * len(
        found["values"]
    )
    _, finer = call_json(
        capsys,
        "probe",
        CABINET,
        "--table",
        "0.01",
        "--from",
        "20",
        "--to",
        "50",
        "--number",
        "float",
        "--out",
        str(tmp_path),
    )
    assert (
        finer["table"]["entries"] > found["entries"] and finer["table"]["flash_bytes"] == 4 * finer["table"]["entries"]
    )
    assert {Path(name).name for name in finer["files"]} == {"hatching_cabinet_table.h", "hatching_cabinet_table.c"}
    call(capsys, "probe", CABINET, "--out", str(tmp_path))
    for source in tmp_path.glob("*.c"):
        subprocess.run(
            ["cc", "-std=c99", "-Wall", "-Wextra", "-Werror", "-c", str(source), "-o", str(tmp_path / "x.o")],
            check=True,
        )
    assert "16 bytes" in call(capsys, "probe", CABINET, "--table", "0.1", "--from", "20", "--to", "50")[1]


def test_calibration_goes_into_the_file_and_keeps_its_comments(
    capsys: pytest.CaptureFixture[str], tmp_path: Path
) -> None:
    file, points = tmp_path / "d.toml", tmp_path / "points.csv"
    file.write_text(Path(CABINET).read_text(encoding="utf-8"), encoding="utf-8")
    points.write_text(
        "true_celsius,reading_celsius,date,against,uncertainty_celsius\n0,0.3,2026-11-02,ice water,0.1\n37,37.2,,,\n"
    )
    before = file.read_text(encoding="utf-8")
    _, report = call_json(capsys, "probe", str(file), "--calibrate", str(points))
    assert report["calibration_points"] == 2 and report["correction"] == "gain_offset"
    assert [row["before_celsius"] for row in report["calibration_residuals"]] == pytest.approx([0.3, 0.2])
    assert [row["after_celsius"] for row in report["calibration_residuals"]] == pytest.approx([0, 0], abs=1e-9)
    assert "left after gain and offset" in call(capsys, "probe", str(file), "--calibrate", str(points))[1]
    text = file.read_text(encoding="utf-8")
    assert all(line in text for line in before.splitlines()) and "\n\n[limits]" in text
    design = read(file).design
    assert [p.reading_celsius for p in design.probe.calibration] == [0.3, 37.2]
    _, data = call_json(capsys, "probe", str(file), "--celsius", "37")
    assert data["points"][0]["celsius_back"] == pytest.approx(37.0 - 0.2, abs=0.06)
    assert "uncertainty of the calibration" in {part["cause"] for part in data["budget"]}


def test_two_probes_by_command(capsys: pytest.CaptureFixture[str], tmp_path: Path) -> None:
    log = tmp_path / "two.csv"
    rows = [f"{k},{20 + 0.02 * k:.3f},{20.4 + 0.02 * max(k - 6, 0):.3f}" for k in range(1500)]
    log.write_text("time_s,first_celsius,second_celsius\n" + "\n".join(rows) + "\n")
    _, data = call_json(capsys, "probe", "--compare", str(log))
    assert (data["first"], data["second"]) == ("first_celsius", "second_celsius") and data["follows_output"] is None
    assert data["gain"] == pytest.approx(1.0, abs=1e-3) and "too few switchings" in data["note"]
    assert "offset_celsius" in call(capsys, "probe", "--compare", str(log))[1]


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("temperature_celsius,resistance_ohm\n0,10\n10,-5\n20,2\n", "above 0 Ω (received -5 at 10 °C)"),
        ("temperature_celsius,resistance_ohm\n0,10\n10,5\n20,7\n", "must fall from point to point"),
        ("temperature_celsius,resistance_ohm\n0,10\n0,5\n20,2\n", "two points are at one temperature"),
        ("temperature_celsius,resistance_ohm\n0,10\n20,2\n", "at least 3 points"),
        ("temperature_celsius,resistance_ohm\n0,10\n-300,5\n20,2\n", "above -273.15 °C"),
        (
            "temperature_celsius,resistance_ohm\n0,10\n5,many\n",
            "line 3: resistance_ohm: must be a number (received 'many')",
        ),
        ("celsius,ohm\n0,10\n", "there is no column temperature_celsius"),
        ("temperature_celsius,resistance_ohm\n", "has a header and no points"),
        ("", "is empty"),
    ],
)
def test_bad_points_are_refused_in_one_line(
    capsys: pytest.CaptureFixture[str], tmp_path: Path, text: str, says: str
) -> None:
    points = tmp_path / "points.csv"
    points.write_text(text)
    code, out, err = call(capsys, "probe", "--fit", str(points))
    assert (code, out) == (2, "") and len(err.strip().splitlines()) == 1 and says in err and str(points) in err


@pytest.mark.parametrize(
    ("probe", "arguments", "says"),
    [
        (PROBES["rtd"], ["--celsius", "-250"], "from -200 to 850 °C, where IEC 60751 holds"),
        (PROBES["thermocouple T"], ["--celsius", "500"], "from -270 to 400 °C, where type T of ITS-90 holds"),
        (PROBES["digital"], ["--table", "0.1", "--from", "0", "--to", "9"], "needs no table"),
        (PROBES["thermistor"], ["--table", "0.1"], "needs its range"),
        (
            PROBES["thermistor"],
            ["--table", "0.1", "--from", "0", "--to", "9", "--number", "double"],
            "must be integer or float",
        ),
        (PROBES["thermistor"], ["--celsius", "1", "--formula"], "received --celsius --formula"),
        (
            'kind = "thermistor"\npoints = [[0, 10], [10, 20], [20, 5]]',
            ["--celsius", "1"],
            "must fall from point to point",
        ),
        ('kind = "thermistor"\nsteinhart_hart = [1.0, 2.0, 3.0]', ["--celsius", "1"], "is no thermistor"),
        ('kind = "rtd"\nwires = 5', ["--celsius", "1"], "must be 2, 3 or 4"),
        ('kind = "thermocouple"\nletter = "Q"', ["--celsius", "1"], "probe.letter: must be"),
        ('kind = "rtd"\nfilter = { kind = "median", readings = 4 }', ["--celsius", "1"], "must be odd"),
        ('kind = "rtd"\n[[probe.calibration]]\ntrue_celsius = 1', ["--celsius", "1"], "reading_celsius: is missing"),
        (PROBES["rtd"], ["--calibrate", "/none.csv"], "/none.csv: there is no such file"),
    ],
)
def test_bad_probes_are_refused_in_one_line(
    capsys: pytest.CaptureFixture[str], tmp_path: Path, probe: str, arguments: list[str], says: str
) -> None:
    file = design_with(tmp_path / "d.toml", probe)
    code, out, err = call(capsys, "probe", str(file), *arguments)
    assert (code, out) == (2, "") and len(err.strip().splitlines()) == 1 and says in err, err
