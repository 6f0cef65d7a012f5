"""The generated C built with the host's compiler and run in a process of its own."""

from __future__ import annotations

import shutil
import subprocess
import tempfile
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from calor.design.model import Design
from calor.drive import registry as drives
from calor.errors import FirmwareError
from calor.firmware.generate import generate, tick_s
from calor.firmware.templating import Sources
from calor.sense.digital import Digital, code_to_word
from calor.sense.registry import AnyProbe, gives_code, numbers
from calor.sense.thermocouple import Thermocouple

STRICT_FLAGS = (
    "-std=c99", "-Wall", "-Wextra", "-Wpedantic", "-Wconversion", "-Wdouble-promotion", "-Wshadow", "-Werror",
    "-ffp-contract=off",
)  # fmt: skip
SANITIZER_FLAGS = ("-g", "-fsanitize=address,undefined", "-fno-sanitize-recover=all")
LONGEST_S = 120.0

_RUNNER = """\
#include "{header}"
#include <stdio.h>

/* readings on standard input; on standard output: measured, demand, flags, and the ticks that were on */
int main(void)
{{
    {prefix}_state state;
    {reading} reading;
    {prefix}_init(&state, &{prefix}_defaults);
    while (fread(&reading, sizeof reading, 1, stdin) == 1) {{
        float row[5];
        row[1] = {prefix}_step(&state, reading, {period});
        row[0] = state.measured_celsius;
        row[2] = (float)((state.probe_fault ? 1 : 0) + (state.cut_out ? 2 : 0) + (state.fault ? 8 << state.fault : 0));
        row[3] = 0.0f;
        row[4] = {alarms};
{switching}
        if (fwrite(row, sizeof row, 1, stdout) != 1) {{
            return 1;
        }}
    }}
    return 0;
}}
"""
_SWITCHING = """\
        for (int tick = 0; tick < {ticks}; tick++) {{
            row[3] += {prefix}_switch(&state, {tick}) ? 1.0f : 0.0f;
        }}"""


@dataclass(frozen=True)
class HostRun:
    """What the C answered, one entry a reading.

    `on_ticks`: ticks switched on in the step, or the timer's counts. `alarms`: a bit for each.
    """

    measured_celsius: npt.NDArray[np.float32]
    demand: npt.NDArray[np.float32]
    flags: npt.NDArray[np.int64]
    on_ticks: npt.NDArray[np.int64]
    alarms: npt.NDArray[np.int64]


def compiler() -> str:
    """The host's C compiler. Raises FirmwareError where there is none."""
    found = shutil.which("cc") or shutil.which("gcc") or shutil.which("clang")
    if found is None:
        raise FirmwareError("no C compiler (cc) on this machine; install one, on Debian: apt-get install gcc libc6-dev")
    return found


def build(design: Design, folder: Path, flags: tuple[str, ...] = ("-O2",)) -> Path:
    """Generate and build `design` with a runner in `folder`; the program. Raises FirmwareError with the diagnostics."""
    sources: Sources = generate(design)
    for name, text in sources.files.items():
        (folder / name).write_text(text)
    tick = tick_s(design)
    ticks = round(design.law.period_s / tick)
    switching = f"        row[3] = (float){sources.prefix}_pwm_counts(&state);" if design.drive.kind == "pwm" else ""
    if design.drive.kind in drives.SWITCHES:
        switching = _SWITCHING.format(prefix=sources.prefix, ticks=ticks, tick=f"{tick!r}f")
    runner = _RUNNER.format(
        header=sources.header,
        prefix=sources.prefix,
        reading="float" if design.probe.kind == "ideal" else "uint32_t",
        period=f"{float(design.law.period_s)!r}f",
        switching=switching,
        alarms="(float)state.alarms" if design.guard.alarms else "0.0f",
    )
    (folder / "runner.c").write_text(runner)
    program = folder / "runner"
    command = [
        compiler(),
        *STRICT_FLAGS,
        *flags,
        "-o",
        str(program),
        str(folder / sources.source),
        str(folder / "runner.c"),
    ]
    result = subprocess.run(command, capture_output=True, text=True, check=False)
    if result.returncode != 0:
        raise FirmwareError(f"the generated C does not build: {result.stderr.strip() or result.stdout.strip()}")
    return program


def as_given(probe: AnyProbe, readings: npt.NDArray[np.float64]) -> npt.NDArray[Any]:
    """Readings as the C takes them: °C, sums of conversions, or words; a NaN is a sensor that does not answer."""
    if probe.kind == "ideal":
        return readings.astype(np.float32)
    if isinstance(probe, Digital | Thermocouple) and gives_code(probe):
        bits = probe.bits if isinstance(probe, Digital) else probe.converter_bits
        return np.array(
            [code_to_word(0 if np.isnan(k) else int(k), bits, probe, bool(np.isnan(k))) for k in readings], np.uint32
        )
    return np.round(readings * numbers(probe).firmware.adc.oversampling).astype(np.uint32)


def run(design: Design, readings: npt.NDArray[np.float64], flags: tuple[str, ...] = ("-O2",)) -> HostRun:
    """The C of `design` on `readings`, counts as a run has them (°C for an ideal probe), one each control step.

    Raises FirmwareError where it does not build, crashes or hangs.
    """
    given = as_given(design.probe, readings)
    with tempfile.TemporaryDirectory() as place:
        program = build(design, Path(place), flags)
        try:
            result = subprocess.run(
                [program], input=given.tobytes(), capture_output=True, timeout=LONGEST_S, check=False
            )
        except subprocess.TimeoutExpired:
            raise FirmwareError(f"the firmware did not end within {LONGEST_S:g} s and was stopped") from None
    if result.returncode != 0:
        said = result.stderr.decode(errors="replace").strip().splitlines()
        raise FirmwareError(f"the firmware ended with code {result.returncode}: {said[0] if said else 'no message'}")
    rows = np.frombuffer(result.stdout, np.float32).reshape(-1, 5)
    return HostRun(
        rows[:, 0], rows[:, 1], rows[:, 2].astype(np.int64), rows[:, 3].astype(np.int64), rows[:, 4].astype(np.int64)
    )
