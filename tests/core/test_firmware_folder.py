"""The folder a developer is given: it builds without a warning, its test runs alone and can fail, its README fits it."""

from __future__ import annotations

import shutil
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

import pytest

from calor import caches
from calor.compiled.compiler import environment
from calor.demo import DEMOS
from calor.design.file import read
from calor.firmware import folder
from calor.firmware.controller import consent
from calor.firmware.controller.own_source import read_source
from calor.firmware.run import chip, host, kept, sizes
from calor.firmware.sources import generate
from tests.conftest import made


def built(place: Path, *names: str, flags: tuple[str, ...] = ()) -> None:
    command = [*host.compiler(), *host.STRICT_FLAGS, *flags, *(str(place / name) for name in names)]
    done = subprocess.run(command, capture_output=True, text=True, check=False, cwd=place)
    assert done.returncode == 0, done.stderr


def parts(place: Path, prefix: str) -> list[str]:
    """The C files of the thermostat itself in a written folder."""
    names = sorted(path.name for path in place.glob(f"{prefix}_*.c"))
    return [name for name in names if name.removeprefix(f"{prefix}_") not in ("example.c", "test.c", "worst.c")]


CONCERNS = ["thermostat", "probe", "setpoint", "law"]


@pytest.mark.parametrize("demo", DEMOS, ids=lambda demo: demo.design.stem)
def test_every_demo_is_a_folder_that_builds_and_proves_itself(demo: Any, tmp_path: Path) -> None:
    design = read(demo.design).design
    names = [path.name for path in folder.write(design, tmp_path, "own")]
    guarded = bool(design.guard.alarms or design.guard.cut_out_celsius)
    concerns = [*CONCERNS, *(["guard"] if guarded else [])]
    assert ("own_guard.c" in names) == guarded
    assert {f"own_{concern}{end}" for concern in concerns for end in (".h", ".c")} < set(names)
    assert {"own_state.h", "own_example.c", "own_test.c", "README.md"} < set(names) and len(names) <= 20
    assert len(list(tmp_path.glob("*.c"))) == len(
        parts(tmp_path, "own")
    )  # no main among them: they drop into a project
    built(tmp_path, "test/own_test.c", *parts(tmp_path, "own"), flags=("-o", str(tmp_path / "checked")))
    answer = subprocess.run([tmp_path / "checked"], capture_output=True, text=True, check=False)
    assert (answer.returncode, answer.stdout) == (0, "equal over 400 steps\n")
    for pins in ("PINS_BY_LOOP", "PINS_BY_INTERRUPT"):
        flags = ("-o", str(tmp_path / "program"), f"-D{pins}")
        built(tmp_path, "example/own_example.c", *parts(tmp_path, "own"), flags=flags)
    assert (tmp_path / "example/own_example.c").read_text().count("HERE:") >= 4
    readme = (tmp_path / "README.md").read_text()
    command = next(line for line in readme.splitlines() if line.startswith("cc "))
    proven = subprocess.run(command, shell=True, cwd=tmp_path, capture_output=True, text=True, check=False)
    assert proven.stdout == "equal over 400 steps\n", proven.stderr
    clang = [sys.executable, "-m", "ziglang", "cc", *host.STRICT_FLAGS, "-c", "-o", str(tmp_path / "one.o")]
    for path in sorted(tmp_path.glob("**/own_*.c")):
        checked = subprocess.run([*clang, str(path)], capture_output=True, text=True, check=False, env=environment())
        assert checked.returncode == 0, checked.stderr
    for name in parts(tmp_path, "own"):  # each header stands on its own
        header = name.removesuffix(".c") + ".h"
        (tmp_path / "alone.c").write_text(f'#include "{header}"\nint main(void) {{ return 0; }}\n')
        built(tmp_path, "alone.c", flags=("-fsyntax-only",))
    assert "own_step(&state" in readme and "licensed person" in readme and "0BSD" in readme
    assert folder.folder_files(design, "own").files == folder.folder_files(design, "own").files  # the same bytes again
    if shutil.which("cppcheck"):
        checks = ["--std=c99", "--enable=warning,performance,portability", "--error-exitcode=3", "-q"]
        found = subprocess.run(
            ["cppcheck", *checks, *tmp_path.glob("*.c")], capture_output=True, text=True, check=False
        )
        assert found.returncode == 0, found.stderr


def test_the_test_finds_a_changed_law(tmp_path: Path) -> None:
    design = made(law='kind = "pid"\ngain_per_celsius = 0.05\nperiod_s = 2', drive='kind = "linear"')
    folder.write(design, tmp_path)
    source = tmp_path / "untitled_thermostat.c"
    assert ".gain_per_celsius = 0.05f" in source.read_text()
    source.write_text(source.read_text().replace(".gain_per_celsius = 0.05f", ".gain_per_celsius = 0.06f"))
    built(tmp_path, "test/untitled_test.c", *parts(tmp_path, "untitled"), flags=("-o", str(tmp_path / "checked")))
    answer = subprocess.run([tmp_path / "checked"], capture_output=True, text=True, check=False)
    assert answer.returncode == 1 and answer.stdout.startswith("step ") and "differs" in answer.stdout


def test_a_changed_value_changes_few_lines() -> None:
    one, other = (
        generate.generate(made(law=f'kind = "pid"\ngain_per_celsius = {gain}')).files for gain in (0.05, 0.06)
    )
    changed = [
        (a, b) for name in one for a, b in zip(one[name].splitlines(), other[name].splitlines(), strict=True) if a != b
    ]
    assert len(changed) == 1 and "gain_per_celsius" in changed[0][0]


WORST = """\
#include "own_thermostat.h"
#include <stdio.h>
static const float STEPS_S[] = {{ 0.0f, 1e-6f, 1.0f, 3600.0f, 0.0f, 31536000.0f }};
static bool good(float share) {{ return share >= 0.0f && share <= 1.0f; }}
int main(void) {{
    own_state state;
    unsigned turn = 0u;
    (void)turn;
    own_init(&state, &own_defaults);
    {before_first}
    for (unsigned pace = 0u; pace < sizeof STEPS_S / sizeof STEPS_S[0]; pace++) {{
        for (uint32_t code = 0u; code < 70000u; code += pace == 2u ? 1u : 7u) {{
            (void)own_step(&state, ({reading})(code * {factor}u), STEPS_S[pace]);
            {after_each}
        }}
        (void)own_step(&state, ({reading})0xFFFFFFFFu, STEPS_S[pace]);
        (void)own_step(&state, ({reading})0x80000000u, STEPS_S[pace]);
    }}
    for (uint32_t k = 0u; k < 2000000u; k++) {{
        (void)own_step(&state, ({reading})(1500u + k % 97u), {period});
        {after_each}
    }}
    puts("good");
    return 0;
}}
"""


@pytest.mark.parametrize("demo", DEMOS, ids=lambda demo: demo.design.stem)
def test_no_input_leads_astray(demo: Any, tmp_path: Path) -> None:
    """Every code and beyond, steps of nothing, an hour and a year, two million steps: no undefined behaviour, 0 to 1."""
    design = read(demo.design).design
    folder.write(design, tmp_path, "own")
    outputs = generate.outputs_of(design)
    checks = [f"if (!good(state.{output.prefix}demand)) {{ return 2; }}" for output in outputs]
    off = [
        f"if (own_{o.prefix}switch(&state, 0.01f)) {{ return 3; }}" for o in outputs if o.switches and o.timing is None
    ]
    off += [f"if (own_{o.prefix}pwm_counts(&state) != 0u) {{ return 4; }}" for o in outputs if o.timing is not None]
    calls = [
        f"(void)own_{o.prefix}switch(&state, STEPS_S[turn++ % 6u]);" for o in outputs if o.switches and o.timing is None
    ]
    text = WORST.format(
        before_first="\n    ".join(off), after_each="\n            ".join(checks + calls),
        reading="float" if design.probe.kind == "ideal" else "uint32_t", factor=1, period=f"{float(design.law.period_s)!r}f",
    )  # fmt: skip
    (tmp_path / "worst.c").write_text(text)
    # a whole number given as °C to a probe without a converter is meant here
    built(
        tmp_path,
        "worst.c",
        *parts(tmp_path, "own"),
        flags=("-O2", *host.SANITIZER_FLAGS, "-Wno-conversion", "-o", str(tmp_path / "worst")),
    )
    answer = subprocess.run([tmp_path / "worst"], capture_output=True, text=True, check=False, timeout=120)
    assert (answer.returncode, answer.stdout) == (0, "good\n"), answer.stderr[:600]


def test_sizes_are_built_where_they_are_asked_for(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A folder is written without calling a compiler; its README has the sizes once they are known."""
    monkeypatch.setattr(kept, "cache_folder", lambda: tmp_path / "builds")
    monkeypatch.setattr(chip, "TARGETS", {"cortex-m4f": chip.TARGETS["cortex-m4f"]})
    sizes.of_chip.cache_clear()
    design = made()

    def readme(with_sizes: bool = False) -> str:
        return folder.made(design, with_sizes=with_sizes).sources.files["README.md"]

    def refuse(*given: Any, **how: Any) -> None:
        raise AssertionError("a compiler was called")

    with monkeypatch.context() as patched:
        patched.setattr(kept.subprocess, "run", refuse)
        assert "Not built yet" in readme()
    assert "| cortex-m4f | " in readme(with_sizes=True)
    sizes.of_chip.cache_clear()
    monkeypatch.setattr(kept.subprocess, "run", refuse)
    assert "| cortex-m4f | " in readme() and "Not built yet" not in readme()


def test_with_a_home_that_cannot_be_written_nothing_is_refused(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """What was written, and what code was allowed, is remembered in a folder for this user alone."""
    (tmp_path / "blocked").write_text("")
    (tmp_path / "temporary").mkdir()
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "blocked"))
    monkeypatch.setattr(tempfile, "tempdir", str(tmp_path / "temporary"))
    caches._temporary.cache_clear()
    try:
        folder.write(made(), tmp_path / "c")
        folder.write(made(law='kind = "on_off"\nhysteresis_celsius = 2'), tmp_path / "c")  # its own files are known
        (tmp_path / "law.py").write_text("class Law:\n    def step(self, reading, dt):\n        return 0.0\n")
        source = read_source(tmp_path / "law.py")
        assert not consent.is_allowed(source)
        consent.allow(source)
        assert consent.is_allowed(source)
        (place,) = (tmp_path / "temporary").iterdir()
        assert place.stat().st_mode & 0o777 == 0o700
    finally:
        caches._temporary.cache_clear()
