"""A law of code: named by the design, run only when its content was allowed; diagnostics at the line; what to start from."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from calor import loop
from calor.cli import invoke
from calor.demo import DEMOS
from calor.design import writing
from calor.design.file import read
from calor.errors import CalorError, DesignError, FirmwareError
from calor.firmware.controller import consent, own_start
from calor.firmware.controller.diagnostics import diagnose
from calor.firmware.controller.own_source import read_source
from calor.firmware.controller.seat import seated
from calor.firmware.sources import generate
from tests.conftest import PROBES, made

DESIGN = """\
name = "Rig"
[setpoint]
celsius = 50
[law]
kind = "code"
file = "{name}"  # mine
[drive]
kind = "linear"
[load]
kind = "first_order"
[probe]
kind = "ideal"
[[trial]]
span_s = 60
"""
HALF = "class Law:\n    def step(self, reading, dt):\n        return 0.5\n"


def test_it_runs_when_it_is_allowed(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    rig, law = tmp_path / "rig.toml", tmp_path / "law.py"
    rig.write_text(DESIGN.format(name="law.py"))
    assert invoke(["check", str(rig)]) == 2
    assert "law.file: there is no such file" in capsys.readouterr().err
    law.write_text(HALF)
    assert invoke(["check", str(rig)]) == 0 and invoke(["run", str(rig)]) == 2
    assert "has not been allowed on this machine; read it, then" in capsys.readouterr().err
    assert invoke(["run", str(rig), "--allow-code", "--json"]) == 0
    assert invoke(["run", str(rig), "--csv", str(tmp_path / "out.csv")]) == 0
    assert "0.5" in (tmp_path / "out.csv").read_text().splitlines()[2]
    # the same content elsewhere is allowed; another content is not
    other = tmp_path / "other.py"
    other.write_text(HALF)
    assert consent.is_allowed(read_source(other))
    law.write_text(HALF.replace("0.5", "0.6"))
    assert not consent.is_allowed(read_source(law)) and invoke(["run", str(rig)]) == 2
    # whoever names a file themselves has agreed
    assert invoke(["run", str(DEMOS[7].design), "--with", str(law)]) in (0, 1)
    for command in (["code", str(rig), "--check"], ["code", str(rig), "--out", str(tmp_path / "c")]):
        capsys.readouterr()
        assert invoke(command) == 2 and "law.kind code: " in capsys.readouterr().err
    design = read(rig).design
    for act in (lambda: loop.run(design, design.trial[0]), lambda: generate.generate(design)):
        with pytest.raises(CalorError, match="law"):
            act()
    # its place is written as seen from the design's folder, its comment is kept
    assert 'file = "law.py"  # mine' in writing.write(design, rig.read_text(), tmp_path)
    assert str(law) in writing.write(design, rig.read_text())


@pytest.mark.parametrize(
    ("name", "says"), [("law.txt", r"must be C \(.c\) or Python \(.py\)"), ("no.c", "there is no such file")]
)
def test_files_that_cannot_be_laws(tmp_path: Path, name: str, says: str) -> None:
    (tmp_path / "rig.toml").write_text(DESIGN.format(name=name))
    with pytest.raises(DesignError, match=says):
        read(tmp_path / "rig.toml")
    with pytest.raises(FirmwareError, match="no such file"):
        read_source(tmp_path / "nowhere.py")
    with pytest.raises(FirmwareError, match="names no file yet"), seated(made(law='kind = "code"'), "python"):
        pass


def test_what_is_kept_of_consent_may_be_lost(tmp_path: Path) -> None:
    law = tmp_path / "law.py"
    law.write_text(HALF + "# kept\n")
    consent.allow(read_source(law))
    kept = consent._kept()
    assert consent.is_allowed(read_source(law)) and len(json.loads(kept.read_text())[0]) == 64
    kept.write_text("{ not json")
    assert not consent.is_allowed(read_source(law))
    consent.allow(read_source(law))
    assert consent.is_allowed(read_source(law))


@pytest.mark.parametrize(
    ("name", "text", "expected"),
    [
        ("a.c", '#include "calor_law.h"\nvoid calor_law(const calor_law_input *in, calor_law_output *out)\n{\n    out->demand[0] = tmie;\n    (void)in;\n}\n', [(4, True, "tmie")]),
        ("b.c", '#include "calor_law.h"\nvoid calor_law(const calor_law_input *in, calor_law_output *out) { int k; out->demand[0] = 0; (void)in; }\n', [(2, False, "unused variable")]),
        ("c.c", "int other;\n", [(1, True, "defines no function void calor_law")]),
        ("d.c", '#include "nothing.h"\n', [(1, True, "nothing.h")]),
        ("e.c", '#include "calor_law.h"\nvoid calor_law(const calor_law_input *in, calor_law_output *out) { out->demand[0] = in->reading; }\n', []),
        ("a.py", "class Law:\n    def step(self, reading, dt)\n        return 0\n", [(2, True, "expected ':'")]),
        ("b.py", "x = 1\n", [(1, True, "no class Law")]),
        ("c.py", "class Law:\n    pass\n", [(1, True, "no method step")]),
        ("d.py", "class Law:\n    def step(self):\n        return 0\n", [(2, True, "step takes 1 parameters")]),
        ("e.py", HALF, []), ("f.py", "class Law:\0\n", [(1, True, "null")]),
    ],
)  # fmt: skip
def test_diagnostics_at_the_line(
    name: str, text: str, expected: list[tuple[int, bool, str]], monkeypatch: pytest.MonkeyPatch
) -> None:
    found = diagnose(name, text)
    if name == "a.c":  # the packaged compiler says it in its own words, at the same place
        with monkeypatch.context() as without:
            without.setenv("PATH", "")
            assert [(item.line, item.is_error) for item in diagnose(name, text)] == [(4, True)]
    assert len(found) >= len(expected) and bool(found) == bool(expected), found
    for (line, is_error, says), item in zip(expected, found, strict=False):
        assert (item.line, item.is_error) == (line, is_error) and says in item.text and item.column >= 1


@pytest.mark.parametrize("demo", DEMOS, ids=lambda demo: demo.design.stem)
def test_the_designs_own_c_is_a_law_to_start_from(demo: Any, tmp_path: Path) -> None:
    """It decides as the design does, in its own process; the Python one begins without a complaint and runs."""
    design = read(demo.design).design
    trial = design.trial[0].model_copy(update={"span_s": 300.0 * float(design.law.period_s), "events": ()})
    own = loop.run(design, trial)
    text = own_start.start_in_c(design)
    assert not [item for item in diagnose("law.c", text) if item.is_error]
    (tmp_path / "law.c").write_text(text)
    with seated(design, str(tmp_path / "law.c"), consented=read_source(tmp_path / "law.c")) as seat:
        trace = loop.run(design, trial, seat=seat)
    assert np.abs(trace.demand - own.demand).mean() < 5e-3
    assert ((trace.flags.astype(int) & 3) == (own.flags.astype(int) & 3)).all()
    known = np.isfinite(own.measured_celsius)
    assert np.abs(trace.measured_celsius - own.measured_celsius)[known].max() < 0.05
    text = own_start.start_in_python(design)
    assert diagnose("law.py", text) == []
    (tmp_path / "law.py").write_text(text)
    with seated(design, str(tmp_path / "law.py"), consented=read_source(tmp_path / "law.py")) as seat:
        trace = loop.run(design, trial, seat=seat)
    assert 0.0 <= trace.demand.min() <= trace.demand.max() <= 1.0 or design.law.action == "heat_cool"


@pytest.mark.parametrize("probe", ["thermistor", "rtd, bridge", "digital", "analog current", "thermistor, high side"])
def test_the_python_one_scales_the_probe(probe: str) -> None:
    design = made(law='kind = "pid"\nintegral_time_s = 60', probe=PROBES[probe])
    trial = design.trial[0].model_copy(update={"span_s": 400.0})
    own = loop.run(design, trial)
    space: dict[str, Any] = {}
    exec(own_start.start_in_python(design), space)  # the law itself is what is tested
    law = space["Law"]()
    law.setpoint_celsius = float(design.setpoint.celsius)
    read_as = []
    for counts in own.counts:
        assert 0.0 <= law.step(float(counts), 1.0) <= 1.0
        read_as.append(law.measured_celsius)
    assert np.nanmax(np.abs(np.array(read_as) - own.measured_celsius)) < 0.12
