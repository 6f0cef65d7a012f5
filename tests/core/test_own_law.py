"""Laws of the user's own, in C and Python: judged like any other; each way to go wrong is named, and hurts nobody."""

from __future__ import annotations

import json
import os
import time
from pathlib import Path

import numpy as np
import pytest

from calor import loop
from calor.cli import invoke
from calor.cli.in_the_loop import is_port
from calor.design.trial import Trial
from calor.errors import FirmwareError
from calor.firmware.controller.own_source import read_source
from calor.firmware.controller.seat import seated
from tests.conftest import made

DESIGN = made(
    law='kind = "on_off"\nhysteresis_celsius = 2', load='kind = "lump"\nheater_watt = 100\nheat_capacity_j_per_k = 400\nloss_w_per_k = 2',
    limits="band_celsius = 3\nin_band_within_s = 400\nripple_celsius = 3",
)  # fmt: skip
ON_OFF = """
#include "calor_law.h"
static int on;
void calor_law(const calor_law_input *in, calor_law_output *out) {{
    if (in->reading {first} in->setpoint_celsius - 1.0f) on = 1;
    else if (in->reading {second} in->setpoint_celsius + 1.0f) on = 0;
    out->measured_celsius = in->reading;
    out->demand[0] = on ? 1.0f : 0.0f;
}}
"""
PYTHON = """
class Law:
    def __init__(self):
        self.on = False
    def step(self, reading, dt):
        if reading < self.setpoint_celsius - 1.0: self.on = True
        elif reading > self.setpoint_celsius + 1.0: self.on = False
        return 1.0 if self.on else 0.0
"""
C = '#include "calor_law.h"\n#include <stdlib.h>\n#include <string.h>\n#include <math.h>\nstatic int k;\nvoid calor_law(const calor_law_input *in, calor_law_output *out) {{\n{body}\n}}\n'
AT_100 = "out->measured_celsius = in->reading; k++; if (k > 100) {{ {what} }}"


GUIDE = (Path(__file__).parents[2] / "docs" / "own-law.md").read_text(encoding="utf-8")


def from_the_guide(language: str) -> str:
    return GUIDE.split(f"```{language}\n")[1].split("```")[0]


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("law.c", ON_OFF.format(first="<", second=">")),
        ("law.py", PYTHON),
        ("guide.c", from_the_guide("c")),
        ("guide.py", from_the_guide("python")),
    ],
)
def test_an_own_law_does_as_the_built_in_one(name: str, text: str, tmp_path: Path) -> None:
    """The same thresholds, decision by decision; afresh after lost mains."""
    (tmp_path / name).write_text(text)
    trial = Trial.model_validate({"span_s": 900, "events": [{"kind": "mains_lost", "at_s": 400, "for_s": 60}]})
    own = loop.run(DESIGN, trial)
    with seated(DESIGN, str(tmp_path / name), consented=read_source(tmp_path / name)) as seat:
        trace = loop.run(DESIGN, trial, seat=seat)
    assert (trace.demand == own.demand).all() and np.array_equal(trace.flags, own.flags)


def test_swapped_thresholds_fail_the_verdict(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    from calor.design import writing

    (tmp_path / "d.toml").write_text(writing.write(DESIGN) + '\n[[trial]]\nname = "Warm-up"\nspan_s = 1200\n')
    for first, second, code in (("<", ">", 0), (">", "<", 1)):
        (tmp_path / "law.c").write_text(ON_OFF.format(first=first, second=second))
        assert invoke(["run", str(tmp_path / "d.toml"), "--with", str(tmp_path / "law.c"), "--json"]) == code
        assert json.loads(capsys.readouterr().out)["pass"] is (code == 0)


@pytest.mark.parametrize(
    ("name", "text", "says"),
    [
        ("segfault.c", C.format(body=AT_100.format(what="*(volatile int *)0 = 1;")), ["crashed", "SIGSEGV", "at step 100 (100 s, reading"]),
        ("endless.c", C.format(body=AT_100.format(what="for (;;) {{ __asm__ volatile (\"\"); }}")), ["did not answer within 1.5 s", "at step 100"]),
        ("memory.c", C.format(body=AT_100.format(what="volatile char *p = malloc(1024u * 1024u * 1024u * 8ul); p[0] = 1;")), ["wanted more than 512 MiB of memory", "at step 100"]),
        ("nan.c", C.format(body=AT_100.format(what="out->demand[0] = nanf(\"\");")), ["answered NaN", "at step 100"]),
        ("range.c", C.format(body=AT_100.format(what="out->demand[0] = 1.5f;")), ["asked for 1.5, outside 0 to 1", "at step 100"]),
        ("exit.c", C.format(body=AT_100.format(what="exit(3);")), ["ended by itself with code 3", "at step 100"]),
        ("syntax.c", C.format(body="out->demand[0] = 0.5f"), ["syntax.c:7:22: error", "expected"]),
        ("syntax.py", "class Law:\n    def step(self, reading dt):\n        return 0\n", ["ended by itself", "SyntaxError", "at step 0"]),
        ("raises.py", "class Law:\n    def step(self, reading, dt):\n        return 1 / 0\n", ["ZeroDivisionError", "at step 0"]),
        ("memory.py", "class Law:\n    def step(self, reading, dt):\n        self.a = bytearray(8 << 30)\n        return 0\n", ["wanted more than 512 MiB of memory", "at step 0"]),
        ("none.c", None, ["there is no such file"]),
    ],
)  # fmt: skip
def test_what_goes_wrong_is_named(name: str, text: str | None, says: list[str], tmp_path: Path) -> None:
    """Within two seconds of its limit, in one line, with the step and its input."""
    if text is not None:
        (tmp_path / name).write_text(text.replace("{{", "{").replace("}}", "}"))
    began_s = time.monotonic()
    with (
        pytest.raises(FirmwareError) as caught,
        seated(DESIGN, str(tmp_path / name), consented=read_source(tmp_path / name)) as seat,
    ):
        loop.run(DESIGN, Trial(span_s=600), seat=seat)
    line = str(caught.value)
    assert all(word in line for word in says) and "\n" not in line and name in line, line
    assert time.monotonic() - began_s < 1.5 + 2.0 + 4.0 * (name.endswith(".c"))  # and the time to build it


def test_what_it_says_of_itself_is_in_the_run(tmp_path: Path) -> None:
    """Flags: a sensor at fault, and a cut-out of its own, shown as the built-in law's are."""
    (tmp_path / "law.py").write_text(
        "class Law:\n    k = 0\n    def step(self, reading, dt):\n        self.k += 1\n"
        "        self.flags = 2 if self.k > 100 else 1 if self.k > 50 else 0\n        return 0.0\n"
    )
    with seated(DESIGN, str(tmp_path / "law.py"), consented=read_source(tmp_path / "law.py")) as seat:
        trace = loop.run(DESIGN, DESIGN.trial[0], seat=seat)
    flags = trace.flags.astype(int) & 3
    assert not flags[:50].any() and (flags[50:100] == 1).all() and (flags[100:] == 2).all()
    assert np.isnan(trace.measured_celsius[50:100]).all() and any(e.kind == "cut_out" for e in trace.events)


def test_a_file_is_no_port_wherever_it_lies(tmp_path: Path) -> None:
    """What decides is told by its name: a port that is not plugged in is one, a file in memory (/dev/shm) is none."""
    (tmp_path / "law.c").write_text("")
    in_memory = Path("/dev/shm") / f"calor-{tmp_path.name}.c"
    names = {"": False, "/dev/ttyNONE9": True, "/dev/null": True, str(tmp_path / "law.c"): False, "law.py": False}
    if os.access(in_memory.parent, os.W_OK):
        in_memory.write_text("")
        names[str(in_memory)] = False
    try:
        assert {name: is_port(name) for name in names} == names
    finally:
        in_memory.unlink(missing_ok=True)
