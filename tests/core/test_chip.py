"""The C on emulated chips: the same bits as on the host, for every code and every kind of law; costs; what goes wrong."""

from __future__ import annotations

import ctypes
import json
import re
import shutil
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from calor import loop
from calor.cli import invoke
from calor.demo import DEMOS
from calor.design.file import read
from calor.design.trial import Trial
from calor.errors import FirmwareError
from calor.firmware.check import agreement, every_branch
from calor.firmware.controller.seat import seated
from calor.firmware.run import avr, chip, host, sizes
from calor.firmware.run.exchange import inputs
from calor.firmware.sources import generate
from calor.firmware.sources.form import Form
from calor.firmware.sources.templating import render
from calor.judge.verdict import judge
from calor.loop import answer_row
from tests.conftest import PROBES, made

PID = 'kind = "pid"\ngain_per_celsius = 0.08\nintegral_time_s = 60\nderivative_time_s = 4\nperiod_s = 0.5'
STAGES = 'kind = "stages"\nperiod_s = 0.5\nstage_delay_s = 4\nrotation = "each_start"'
DESIGNS = {
    "pid, SSR, alarms": {"law": PID, "drive": 'kind = "time_proportional"\nwindow_s = 4', "guard": 'alarms = [ { kind = "high", celsius = 60, delay_s = 3, trips = true } ]'},
    "both ways": {"law": PID + '\naction = "heat_cool"\ndead_zone = 0.1', "drive": 'kind = "linear"'},
    "predictive": {"law": 'kind = "predictive"\nperiod_s = 0.5\ndead_time_s = 12', "drive": 'kind = "linear"'},
    "stages": {"law": STAGES, "drive": 'kind = "relay"\nmin_on_s = 3'},
    "fan on a timer": {"law": 'kind = "fan_curve"\nperiod_s = 0.5\nkick_s = 1', "drive": 'kind = "pwm"\ntimer_bits = 8\nfrequency_hz = 100'},
    "program": {"law": PID, "setpoint": 'kind = "program"\nsegments = [ { to_celsius = 60, ramp_s = 300, soak_s = 50 } ]'},
}  # fmt: skip


def every_code(design: Any) -> Any:
    """Every code of the converter, up, down and at random, with restarts in between."""
    codes = np.arange(4096.0)
    readings = np.concatenate((codes, codes[::-1], np.random.default_rng(2).integers(0, 4096, 1500)))
    if design.probe.kind == "ideal":
        readings = readings / 40.0
    restart = np.zeros(len(readings), bool)
    restart[[4096, 9000]] = True
    return inputs(design, readings, np.full(len(readings), 20.0), restart=restart)


# the chips that have floating point in software take the longest
CHIPS = [pytest.param(name, marks=() if name == "cortex-m4f" else pytest.mark.long) for name in chip.TARGETS]


@pytest.mark.parametrize("target", CHIPS)
@pytest.mark.parametrize("case", DESIGNS)
def test_chips_give_the_hosts_bits(case: str, target: str) -> None:
    design = made(**{"probe": 'kind = "thermistor"', **DESIGNS[case]})
    given = every_code(design)
    own, made_by_chip = host.rows(design, given), chip.run(design, chip.TARGETS[target], given, counted=150)
    expected = agreement.plain_rows(own, made_by_chip.counted)
    assert (expected.view(np.uint32) == made_by_chip.rows.view(np.uint32)).all()
    assert len(made_by_chip.instructions) == 150 and made_by_chip.instructions.min() > 10
    size = sizes.of_chip(design, chip.TARGETS[target])
    assert 16 <= made_by_chip.stack_bytes < 1000 and size.ram_bytes < 400
    assert 300 < size.flash_bytes < 12_000


@pytest.mark.long
@pytest.mark.parametrize("probe", ["thermistor, A B C", "rtd, bridge", "thermocouple K", "digital", "analog current"])
def test_probes_scale_alike_on_every_chip(probe: str) -> None:
    design = made(law=PID, drive='kind = "linear"', probe=PROBES[probe])
    given = every_code(design)[:5000]
    own = host.rows(design, given)
    for target in chip.TARGETS.values():
        rows = chip.run(design, target, given, counted=5).rows
        assert (agreement.plain_rows(own, 5).view(np.uint32) == rows.view(np.uint32)).all(), target.name


def test_compilers_that_are_found_are_used_too(monkeypatch: pytest.MonkeyPatch) -> None:
    """The distribution's compiler for Arm gives the same bits, the one for AVR tells sizes; without them nothing is."""
    design = made(law=PID, drive='kind = "linear"', probe='kind = "thermistor"')
    given = every_code(design)[:4000]
    own = agreement.plain_rows(host.rows(design, given), 5)
    for target in chip.found_targets().values():
        if target.compiler:
            rows = chip.run(design, target, given, counted=5).rows
            assert (own.view(np.uint32) == rows.view(np.uint32)).all(), target.name
    assert not sizes.avr_compiler() or 500 < sizes.of_avr(design).flash_bytes < 8000
    if avr.available():
        part = given[:300]
        assert (host.rows(design, part).view(np.uint32) == avr.rows(design, part)[0].view(np.uint32)).all()
    monkeypatch.setattr(shutil, "which", lambda _: None)
    assert chip.found_targets() == chip.TARGETS and not sizes.avr_compiler() and not avr.available()
    monkeypatch.undo()
    monkeypatch.setattr(sizes, "of_avr", lambda *_: sizes.Size(90_000, 60))
    monkeypatch.setattr(sizes, "avr_compiler", lambda: True)
    monkeypatch.setattr(avr, "available", lambda: False)
    monkeypatch.setattr(chip, "found_targets", dict)
    data = agreement.check(read(DEMOS[7].design).design)
    assert [row["target"] for row in data["targets"]] == ["host"] and data["pass"]
    only = data["built_only"][0]
    assert only["bit_equal"] is None and only["flash_bytes"] == 90_000 and "90000 of 32768 B of flash" in only["note"]


REFUSES = {
    "avr-gcc": "exit 1",
    "arm-none-eabi-gcc": 'case "$*" in *" -c "*) exec cc -x c "$@" ;; esac; echo no linker >&2; exit 1',
}


@pytest.fixture
def short_camera(tmp_path: Path) -> str:
    """The camera's design with trials of a quarter of an hour."""
    path = tmp_path / "short.toml"
    path.write_text(re.sub("span_s = [0-9]+", "span_s = 900", DEMOS[6].design.read_text(encoding="utf-8")))
    return str(path)


def test_each_target_is_reported_by_itself(
    short_camera: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    """Beside compilers that build nothing, or cannot link, the others run; those are rows with their reason."""
    for name, text in REFUSES.items():
        (tmp_path / name).write_text(f"#!/bin/sh\n{text}\n")
        (tmp_path / name).chmod(0o755)
    monkeypatch.setenv("PATH", str(tmp_path), prepend=":")
    monkeypatch.setattr(chip, "TARGETS", {"cortex-m4f": chip.TARGETS["cortex-m4f"]})  # the others take their time
    assert invoke(["code", short_camera, "--check", "--json"]) == 0
    data = json.loads(capsys.readouterr().out)
    rows = {row["target"]: row for row in data["targets"]}
    assert data["pass"] and rows["cortex-m4f"]["bit_equal"] and set(rows) == {
        "host", "cortex-m4f", "cortex-m0plus-gcc", "cortex-m4f-gcc", "avr5"
    }  # fmt: skip
    for name in ("cortex-m0plus-gcc", "cortex-m4f-gcc", "avr5"):
        assert rows[name]["bit_equal"] is None and rows[name]["steps"] == 0 and "\n" not in rows[name]["note"]
        assert "builds nothing on this machine" in rows[name]["note"]
        assert invoke(["code", short_camera, "--check", "--target", name, "--json"]) == 2
        printed = capsys.readouterr()
        assert not json.loads(printed.out)["pass"] and f"{name} did not run: its compiler builds nothing" in printed.err
    assert invoke(["report", short_camera, "--code", "--out", str(tmp_path / "r.html")]) == 0
    assert "builds nothing on this machine" in (tmp_path / "r.html").read_text(encoding="utf-8")
    # C that only one compiler refuses is a mistake of the C, and fails
    monkeypatch.setattr(chip, "render", lambda *_: "#error not for this one\n")
    monkeypatch.setattr(sizes, "unable", lambda target: "")
    capsys.readouterr()
    assert invoke(["code", short_camera, "--check", "--json"]) == 1
    assert not json.loads(capsys.readouterr().out)["pass"]


@pytest.mark.parametrize("target", ["cortex-m0plus-gcc", "cortex-m4f-gcc", "avr5"])
def test_other_compilers_run_what_they_build(
    target: str, short_camera: str, capsys: pytest.CaptureFixture[str]
) -> None:
    """Every target that is listed can be named, and says over how many steps it ran."""
    is_there = target in agreement.target_names() and (target != "avr5" or avr.available())
    if not is_there:
        pytest.skip("Debian's gcc-arm-none-eabi, gcc-avr, avr-libc and simavr are not installed")
    assert invoke(["code", short_camera, "--check", "--target", target, "--json"]) == 0
    data = json.loads(capsys.readouterr().out)
    row = data["targets"][1]
    assert data["pass"] and row["target"] == target and row["bit_equal"] and row["steps"] > 100 < row["branch_steps"]
    assert row["flash_bytes"] > 500


def test_what_a_compiler_calls_of_itself_is_linked(tmp_path: Path) -> None:
    """memcpy, memmove, memset and memcmp as ISO C99 (7.21) has them, against this machine's own."""
    names = ("memcpy", "memmove", "memset", "memcmp")
    text = render("memory.c.j2", {})
    for name in names:
        text = text.replace(f"{name}(", f"own_{name}(")
    (tmp_path / "own.c").write_text(text)
    host.built([*host.compiler(), "-shared", "-fPIC", str(tmp_path / "own.c"), "-o", str(tmp_path / "own.so")])
    own, libc = ctypes.CDLL(str(tmp_path / "own.so")), ctypes.CDLL(None)
    chance = np.random.default_rng(1)
    for _ in range(300):
        to, back, count = (int(value) for value in chance.integers(0, 20, 3))
        blocks = [ctypes.create_string_buffer(bytes(range(40)) + bytes(range(40)), 80) for _ in range(2)]
        for block, (library, begin) in zip(blocks, ((own, "own_"), (libc, "")), strict=True):
            at = ctypes.addressof(block)
            call = [getattr(library, begin + name) for name in names]
            call[1](ctypes.c_void_p(at + to), ctypes.c_void_p(at + back), ctypes.c_size_t(count))
            call[0](ctypes.c_void_p(at + 40 + to), ctypes.c_void_p(at), ctypes.c_size_t(count))
            call[2](ctypes.c_void_p(at + 70), 255 + back, ctypes.c_size_t(count // 2))
            signs = [call[3](ctypes.c_void_p(at + to), ctypes.c_void_p(at + back), ctypes.c_size_t(count))]
            block.sign = np.sign(signs[0])
        assert blocks[0].raw == blocks[1].raw and blocks[0].sign == blocks[1].sign


@pytest.mark.parametrize("fixed", [False, True])
def test_a_chip_with_16_bit_integers_gives_the_same_bits(fixed: bool) -> None:
    """A thermocouple, whose constants a double of 32 bits would round, with alarms up to the 20th bit and a timer's clock."""
    if not avr.available():
        pytest.skip("avr-gcc and simavr are not installed: Debian's gcc-avr, avr-libc and simavr")
    alarms = ", ".join(
        f'{{ kind = "high", celsius = {60 + k}, trips = {"true" if k == 19 else "false"} }}' for k in range(20)
    )
    law = PID if fixed else 'kind = "timer"\non_s = 3\noff_s = 2\nperiod_s = 0.5'
    design = made(
        law=law,
        drive='kind = "time_proportional"\nwindow_s = 3',
        probe='kind = "thermocouple"',
        guard=f"alarms = [ {alarms} ]",
    )
    given = every_branch.made_inputs(design).given[-250:]
    form = Form(fixed=True) if fixed else Form()
    own, there = host.rows(design, given, form=form), avr.rows(design, given, form)[0]
    assert ((own + 0.0).view(np.uint32) == (there + 0.0).view(np.uint32)).all() and own[
        :, answer_row.ALARMS
    ].max() > 2**16


def test_one_that_differs_is_found_at_its_step(tmp_path: Path) -> None:
    """A chip with other gains than the host's: the first step that differs, with its input and both rows."""
    design, other = (
        made(law=PID, drive='kind = "linear"'),
        made(law=PID.replace("0.08", "0.081"), drive='kind = "linear"'),
    )
    record = agreement.recorded(design, Trial(span_s=600))
    target = chip.TARGETS["cortex-m4f"]
    program = chip.build(other, target, tmp_path)
    rows = chip.run_program(design, target, program, record.given).rows
    own = host.rows(design, record.given)
    found = agreement.first_difference(record, own, rows, "host, chip")
    assert found is not None and found["rows"][0] != found["rows"][1] and found["trial"] == "Trial"
    assert found["between"] == "host, chip"
    assert (own[: found["step"]] == rows[: found["step"]]).all() and found["time_s"] == 0.5 * found["step"]
    assert agreement.first_difference(record, rows, rows, "") is None


def test_faster_instructions_where_there_is_a_floating_point_unit() -> None:
    """Measured before: thousands of instructions a step in software, some hundred with a floating point unit."""
    design = read(DEMOS[0].design).design
    record = agreement.recorded(design, design.trial[2])
    assert record.given["restart"].sum() == 1 and len(record.given) == 14_400 - 600  # without mains it sees nothing
    means = {
        name: chip.run(design, target, record.given[:300]).instructions.mean() for name, target in chip.TARGETS.items()
    }
    assert means["cortex-m4f"] < 1000 < means["rv32imc"] < means["cortex-m0plus"] < 30_000


def test_check_on_the_command_line(
    capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    camera = str(DEMOS[6].design)
    assert invoke(["code", camera, "--check", "--target", "cortex-m4f", "--clock-hz", "64e6", "--json"]) == 0
    data = json.loads(capsys.readouterr().out)
    assert [row["target"] for row in data["targets"]] == ["host", "cortex-m4f"] and data["pass"]
    chip_row = data["targets"][1]
    keys = {"bit_equal", "steps", "flash_bytes", "ram_bytes", "stack_bytes", "instructions_mean", "instructions_worst"}
    assert 500 < data["targets"][0]["flash_bytes"] < 12_000 and 40 < data["targets"][0]["ram_bytes"] < 400
    assert keys <= set(chip_row) and chip_row["steps"] == 3 * 10_800 and 0 < chip_row["period_share_estimate"] < 1e-3
    assert data["reference"]["demand"] < 5e-3 and data["reference"]["agrees"]
    assert data["reference"]["bit_equal"] and data["reference"]["steps"] == 3 * 10_800
    monkeypatch.setattr(agreement, "MOST_APART", 0.0)  # a decision apart by any rounding counts as another
    short = tmp_path / "short.toml"
    short.write_text(re.sub("span_s = [0-9]+", "span_s = 900", DEMOS[6].design.read_text(encoding="utf-8")))
    assert invoke(["code", str(short), "--check", "--target", "host"]) == 0  # told, and no fault of the C
    assert "fall on either side of it" in capsys.readouterr().out
    with monkeypatch.context() as patch:
        patch.setattr(
            agreement,
            "first_difference",
            lambda *given: {
                "between": given[-1],
                "trial": "x",
                "step": 1,
                "time_s": 0.5,
                "reading": 2.0,
                "rows": [[1.0], [2.0]],
            },
        )
        assert invoke(["code", str(short), "--check", "--target", "host"]) == 1
        assert "fails: host differs" in capsys.readouterr().out
    monkeypatch.setattr(chip, "available", lambda: False)
    assert invoke(["code", str(short), "--check", "--target", "rv32imc", "--json"]) == 2
    printed = capsys.readouterr()
    assert (
        "pip install ziglang unicorn pyelftools" in json.loads(printed.out)["skipped"]
        and "rv32imc did not run" in printed.err
    )
    assert not json.loads(printed.out)["pass"]
    with pytest.raises(FirmwareError, match="pip install ziglang unicorn pyelftools"):
        chip.build(made(), chip.TARGETS["rv32imc"], Path())
    for wrong, says in (
        (["--check", "--target", "abacus"], "must be one of host, cortex-m0plus"), (["--check", "--clock-hz", "-1"], "must be above 0"),
        ([], "give --out DIR"), (["--out", "x", "--prefix", "9x"], "must begin with a letter"),
    ):  # fmt: skip
        assert invoke(["code", camera, *wrong]) == 2
        assert says in capsys.readouterr().err


def test_a_prefix_begins_every_name() -> None:
    sources = generate.generate(made(law=PID), "oven2")
    assert {"oven2_thermostat.h", "oven2_thermostat.c", "oven2_law.c", "oven2_state.h"} < set(sources.files)
    assert (
        "oven2_step(" in sources.files["oven2_thermostat.c"]
        and "OVEN2_THERMOSTAT_H" in sources.files["oven2_thermostat.h"]
    )


CODE_CELSIUS = 0.026
"""One code of the 12-bit converters of the demos, a little below their setpoints."""


@pytest.mark.parametrize("demo", DEMOS, ids=lambda demo: demo.design.stem)
def test_the_c_takes_the_laws_seat(demo: Any) -> None:
    """In every trial of every demo: the same events, verdict and temperature as with the built-in law, within its noise."""
    design = read(demo.design).design
    for trial in design.trial:
        own = loop.run(design, trial)
        with seated(design, "host") as seat:
            trace = loop.run(design, trial, seat=seat)
        assert (trace.flags == own.flags).all()
        # a reading a rounding from the next code of the converter is another one: from there on the noise differs
        assert np.abs(trace.true_celsius - own.true_celsius).max() < 0.15 and trace.span_s == own.span_s
        for mine, theirs in zip(judge(own, design.limits).limits, judge(trace, design.limits).limits, strict=True):
            # peak to peak of a noisy reading moves by a code at each end: a limit in between tells nothing
            codes = mine.name == "ripple_celsius" and abs(mine.value - theirs.value) <= 2.0 * CODE_CELSIUS
            assert mine.passes == theirs.passes or codes, (trial.name, mine, theirs)


@pytest.mark.parametrize("name", CHIPS)
def test_a_chip_in_the_seat_is_the_host_to_the_bit(name: str, capsys: pytest.CaptureFixture[str]) -> None:
    """Closed loop: every column of the run is the same, setpoint put in from outside and lost mains among what happens."""
    design = made(law=PID, drive='kind = "time_proportional"\nwindow_s = 4', probe=PROBES["thermistor"])
    events = [
        {"kind": "setpoint_step", "at_s": 200, "for_s": 100, "celsius": 60},
        {"kind": "mains_lost", "at_s": 500, "for_s": 20},
        {"kind": "probe_open", "at_s": 700, "for_s": 9},
    ]
    trial = Trial.model_validate({"span_s": 900, "events": events})
    traces = []
    for who in ("host", name):
        with seated(design, who) as seat:
            traces.append(loop.run(design, trial, seat=seat))
    for column, values in traces[0].table().items():
        assert np.array_equal(values, traces[1].table()[column], equal_nan=True), column
    assert 59 < traces[0].setpoint_celsius.max() < 61 and traces[0].setpoint_celsius[-1] == 50
    camera = str(DEMOS[6].design)
    assert invoke(["run", camera, "--with", name, "--json"]) == 0
    figures = json.loads(capsys.readouterr().out)["metrics"]
    assert invoke(["run", camera, "--json"]) == 0
    built_in = json.loads(capsys.readouterr().out)["metrics"]
    assert figures["time_to_band_s"] == pytest.approx(built_in["time_to_band_s"], abs=5)
    assert invoke(["run", camera, "--with", "abacus"]) == 2
    assert "must be one of python, host, cortex-m0plus" in capsys.readouterr().err


@pytest.mark.parametrize("probe", ["ideal", *PROBES])
def test_every_probe_is_read_alike_in_the_seat(probe: str) -> None:
    blocks = {
        "law": PID,
        "drive": 'kind = "linear"',
        "load": 'kind = "first_order"\nrise_celsius = 60\ntime_constant_s = 120',
    }
    design = made(**blocks, probe='kind = "ideal"' if probe == "ideal" else PROBES[probe])
    trial = Trial.model_validate({"span_s": 400, "events": [{"kind": "probe_open", "at_s": 250, "for_s": 20}]})
    own = loop.run(design, trial)
    with seated(design, "host") as seat:
        trace = loop.run(design, trial, seat=seat)
    assert (trace.flags == own.flags).all()
    known = np.isfinite(own.measured_celsius)
    assert (np.isfinite(trace.measured_celsius) == known).all()
    apart = np.abs(trace.measured_celsius - own.measured_celsius)[known]
    # a count more or less, where a reading is a rounding from the next code
    assert not len(apart) or (np.median(apart) < 1e-3 and apart.max() < 2.0)
