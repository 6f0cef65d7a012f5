"""The generated C built with the host's compiler and run in a process of its own."""

from __future__ import annotations

import re
import subprocess
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from calor.compiled.compiler import INSTALL, compilers
from calor.design.model import Design
from calor.errors import FirmwareError
from calor.firmware.run import kept
from calor.firmware.run.adapter import adapter_code
from calor.firmware.run.exchange import Answers, answers_from, inputs, row_width
from calor.firmware.sources.form import PLAIN, Form
from calor.firmware.sources.generate import generate
from calor.firmware.sources.templating import Sources

STRICT_FLAGS = (
    "-std=c99", "-Wall", "-Wextra", "-Wpedantic", "-Wconversion", "-Wdouble-promotion", "-Wshadow", "-Werror",
    "-ffp-contract=off",
)  # fmt: skip
USUAL_FLAGS = ("-O1",)
"""A control step takes as long as with -O2; the compiler takes half as long."""
CHECKED_FLAGS = ("-O2",)
"""What a check builds with, and compares with -O0 and the chips."""
SANITIZER_FLAGS = ("-g", "-fsanitize=address,undefined", "-fno-sanitize-recover=all")
LONGEST_S = 120.0
_NAMES_ERROR = re.compile(r"error\b|undefined reference|cannot find", re.IGNORECASE)

_RUNNER = """\
{adapter}
#include <stdio.h>

int main(void)
{{
    {prefix}_state state;
    calor_input given;
    {prefix}_init(&state, &{prefix}_defaults);
    while (fread(&given, sizeof given, 1, stdin) == 1) {{
        float row[{width}];
        calor_decide(&state, &given);
        calor_report(&state, row, true);
        if (fwrite(row, sizeof row, 1, stdout) != 1) {{
            return 1;
        }}
    }}
    return 0;
}}
"""


def compiler() -> list[str]:
    """The command of a C compiler for this machine: its own, else the packaged one of the extra.

    Raises FirmwareError where there is none.
    """
    there = compilers()
    if not there:
        raise FirmwareError("", "no C compiler on this machine", "", INSTALL)
    return list(there[0].command)


def build(design: Design, folder: Path, flags: tuple[str, ...] = USUAL_FLAGS, form: Form = PLAIN) -> Path:
    """Generate and build `design` with a runner in `folder`; the program. Raises FirmwareError with the diagnostics."""
    sources = written(design, folder, form)
    program = folder / "runner"
    built([
        *compiler(), *STRICT_FLAGS, *flags, "-o", str(program), whole(folder, *sources.built, "runner.c"),
    ])  # fmt: skip
    return program


def written(design: Design, folder: Path, form: Form = PLAIN) -> Sources:
    """The sources of a design, written into `folder` with a runner beside them, runner.c."""
    sources = generate(design, form=form)
    sources.put(folder)
    runner = _RUNNER.format(adapter=adapter_code(design, sources), prefix=sources.prefix, width=row_width(design))
    (folder / "runner.c").write_text(sources.as_called(runner))
    return sources


def whole(folder: Path, *names: str) -> str:
    """The place of one C file that takes in those of a folder: compiled as one they take half as long."""
    path = folder / "whole.c"
    path.write_text("".join(f'#include "{name}"\n' for name in names))
    return str(path)


def built(command: list[str], where: str = "") -> None:
    """Run a compiler on generated C, or take what it made of the same before. Raises FirmwareError with its
    diagnostics."""
    kept.compile_into(command, Path(command[command.index("-o") + 1]), where)


def cause(error: FirmwareError) -> str:
    """What a failed build comes down to, in one line: the first of a compiler's lines that names an error."""
    lines = [line.strip() for line in str(error).splitlines() if line.strip()]
    # a folder that is gone by the time somebody reads this
    said = re.sub(r"\S*/(?=\w+\.[chs]:)", "", next((one for one in lines if _NAMES_ERROR.search(one)), lines[0]))
    return said if said == lines[0] else f"{lines[0].split(': ')[0]}: {said}"


def run(
    design: Design,
    readings: npt.NDArray[np.float64],
    flags: tuple[str, ...] = USUAL_FLAGS,
    other_celsius: npt.NDArray[np.float64] | None = None,
    hand_output: npt.NDArray[np.float64] | None = None,
) -> Answers:
    """The C of `design` on `readings`, counts as a run has them (°C for an ideal probe), one each control step.

    `other_celsius` is the second temperature or the signal that the design looks at, NaN where there is none;
    `hand_output` what is set by hand, NaN in automatic.
    Raises FirmwareError where it does not build, crashes or hangs.
    """
    return answers_from(rows(design, inputs(design, readings, other_celsius, hand_output), flags))


def rows(
    design: Design, given: npt.NDArray[Any], flags: tuple[str, ...] = USUAL_FLAGS, form: Form = PLAIN
) -> npt.NDArray[np.float32]:
    """The rows of answers (steps×width) of the C of `design` to inputs. Raises FirmwareError."""
    with tempfile.TemporaryDirectory() as place:
        program = build(design, Path(place), flags, form)
        try:
            result = subprocess.run(
                [program], input=given.tobytes(), capture_output=True, timeout=LONGEST_S, check=False
            )
        except subprocess.TimeoutExpired:
            raise FirmwareError("", f"the firmware did not end within {LONGEST_S:g} s and was stopped") from None
    if result.returncode != 0:
        said = result.stderr.decode(errors="replace").strip().splitlines()
        raise FirmwareError(
            "", f"the firmware ended with code {result.returncode}: {(said[0] if said else 'no message')}"
        )
    return np.frombuffer(result.stdout, np.float32).reshape(-1, row_width(design))
