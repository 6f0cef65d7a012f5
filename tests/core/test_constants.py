"""Settings compiled in: the same answers to the bit, less of everything, and a folder that drops into a project."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from calor.cli import invoke
from calor.compiled.compiler import environment
from calor.demo import DEMOS
from calor.design.file import read
from calor.design.model import Design
from calor.firmware import folder
from calor.firmware.check import every_branch
from calor.firmware.run import avr, chip, host, sizes
from calor.firmware.sources import generate
from calor.firmware.sources.form import Form, form_of
from tests.conftest import PROBES, made
from tests.core.test_firmware_outputs import CASES, design_of

PID = 'kind = "pid"\ngain_per_celsius = 0.08\nintegral_time_s = 600\nperiod_s = 0.5'
LOAD = '[setpoint]\ncelsius = 50\n[drive]\nkind = "relay"\n[load]\nkind = "lump"\n'
DESIGNS: dict[str, Any] = {
    **{demo.design.stem: lambda demo=demo: read(demo.design).design for demo in DEMOS},
    **{name: lambda name=name: design_of(name) for name in CASES},
    **{name: lambda probe=probe: made(law=PID, probe=probe) for name, probe in PROBES.items()},
}


@pytest.mark.parametrize("fixed", [False, True], ids=["float", "fixed"])
@pytest.mark.parametrize("name", DESIGNS)
def test_it_answers_the_same(name: str, fixed: bool) -> None:
    """Every demo, law, drive, guard and probe, over inputs made for every branch; strict compilers have nothing to say."""
    design: Design = DESIGNS[name]()
    form = form_of(design.probe, fixed, False, True)
    given = every_branch.made_inputs(design, form).given
    own, usual = host.rows(design, given, form=form), host.rows(design, given, ("-O0",), form._replace(constant=False))
    assert (own.view(np.uint32) == usual.view(np.uint32)).all()
    sources = generate.generate(design, form=form)
    texts = "".join(sources.files.values())
    assert "settings->" not in texts and "_settings" not in texts and "_defaults" not in texts
    assert "change_settings" not in texts and f"#define {sources.prefix.upper()}_PROBE_FAULT_OUTPUT" in texts


@pytest.mark.long
@pytest.mark.parametrize("stem", ["hatching_cabinet", "wax_melter", "radio_hut"])
def test_it_is_smaller_on_every_chip(stem: str) -> None:
    design = next(read(demo.design).design for demo in DEMOS if demo.design.stem == stem)
    for fixed in (False, True):
        form = form_of(design.probe, fixed, False, True)
        usual = form._replace(constant=False)
        pairs = [
            (sizes.of_chip(design, target, form), sizes.of_chip(design, target, usual))
            for target in chip.TARGETS.values()
        ]
        if avr.available():
            small, large = (sizes.of_avr(design, each) if sizes.avr_compiler() else None for each in (form, usual))
            assert small is not None and large is not None
            # the settings, a copy of them in flash, and their address
            assert large.ram_bytes - small.ram_bytes >= 40
            pairs.append((small, large))
        # on a chip whose constants are read where they lie only their address is saved, where padding does not take it
        assert all(
            small.flash_bytes < large.flash_bytes and small.ram_bytes <= large.ram_bytes for small, large in pairs
        )


@pytest.mark.long
@pytest.mark.parametrize("form", [Form(constant=True), Form(True, True, True)], ids=["float", "fixed"])
def test_chips_and_the_reference_agree(form: Form, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    """By the command: against the reference too, since it computes the same."""
    file = tmp_path / "made.toml"
    file.write_text(
        f'format = 1\nname = "made"\n[law]\n{PID}\n{LOAD}[probe]\nkind = "thermistor"\n[[trial]]\nspan_s = 600\n'
    )
    assert invoke(["code", str(file), "--check", "--constant", *(["--fixed"] if form.fixed else []), "--json"]) == 0
    data = json.loads(capsys.readouterr().out)
    assert data["pass"] and data["form"] == form.data()
    assert data["reference"]["bit_equal"] is True
    assert {target["target"] for target in data["targets"]} >= {"host", *chip.TARGETS}


@pytest.mark.parametrize(
    "form", [Form(), Form(True, True), Form(constant=True), Form(True, True, True)], ids=lambda form: form.words
)
def test_the_folder_drops_into_a_project(form: Form, tmp_path: Path) -> None:
    """Of a sketch: every source of one flat folder, and a program in C++. Of make: by the Makefile of the example."""
    design = read(DEMOS[0].design).design
    folder.write(design, tmp_path / "own", "own", form)
    constant = "" if form.constant else ", &own_defaults"
    sketch = tmp_path / "sketch"
    sketch.mkdir()
    for path in (*(tmp_path / "own").glob("*.c"), *(tmp_path / "own").glob("*.h")):
        shutil.copy(path, sketch)
    (sketch / "sketch.cpp").write_text(
        '#include "own_thermostat.h"\nstatic own_state state;\nvoid setup(void);\nvoid loop(void);\n'
        f"void setup(void) {{ own_init(&state{constant}); }}\n"
        f"void loop(void) {{ (void)own_step(&state, 1500u, {'Q16(0.5)' if form.fixed else '0.5f'}); }}\n"
        "int main(void) { setup(); for (int k = 0; k < 10; k++) { loop(); } return state.probe_fault ? 1 : 0; }\n"
    )
    zig = [sys.executable, "-m", "ziglang"]
    # its checks trap, and the compiler that is there links: else it would first build libraries, for a minute
    strict, traps = ["-Wall", "-Wextra", "-Werror"], ["-fsanitize=undefined", "-fsanitize-trap=undefined"]
    for source in sketch.glob("*.c"):
        command = [*zig, "cc", "-std=c99", *strict, *traps, "-c", str(source), "-o", str(source.with_suffix(".o"))]
        subprocess.run(command, check=True, env=environment())
    program = [*zig, "c++", *strict, *traps, "-c", str(sketch / "sketch.cpp"), "-o", str(sketch / "sketch.o")]
    subprocess.run(program, check=True, env=environment())
    objects = [str(path) for path in sketch.glob("*.o")]
    subprocess.run([*host.compiler(), *objects, "-o", str(sketch / "sketch"), "-lm"], check=True, env=environment())
    assert subprocess.run([sketch / "sketch"], check=False).returncode == 0
    compilers = {"cc": "", "avr-gcc": "-mmcu=atmega328p"}
    for compiler, processor in compilers.items():
        if shutil.which("make") is None or shutil.which(compiler) is None:
            continue
        make = [
            "make",
            "-C",
            str(tmp_path / "own/example"),
            f"CC={compiler}",
            f"CHIP={processor}",
            "CFLAGS_MORE=-Werror",
        ]
        done = subprocess.run([*make, "clean", "all"], capture_output=True, text=True, check=False)
        assert done.returncode == 0 and "warning" not in done.stderr, done.stderr
        assert (tmp_path / "own/example/own.elf").exists()
