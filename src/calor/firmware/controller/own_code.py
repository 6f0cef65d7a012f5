"""A law of the user's own, in C or Python, in the seat of the built-in one: always in a process of its own.

It may crash, hang, eat memory or answer nonsense: each is named, with the step and its input, and nothing else is hurt.
The process is asked over a pair of pipes: five floats for a temperature, four demands and flags. To start afresh it is
started afresh.

C: a file that includes "calor_law.h" and defines `void calor_law(const calor_law_input *in, calor_law_output *out)`.
Python: a file with a class `Law` and in it `step(self, reading, dt)`, which returns a demand, or a list of them.
"""

from __future__ import annotations

import ctypes
import math
import os
import resource
import select
import signal
import struct
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np

from calor.design.model import Design
from calor.errors import FirmwareError, unreadable
from calor.firmware.run import host
from calor.law.outputs import MOST_OUTPUTS
from calor.loop import answer_row
from calor.loop.seat import GIVEN, Seat, seat_of

LONGEST_ANSWER_S = 1.5
MOST_MEMORY_BYTES = 512 * 2**20
ANSWER_BYTES = 24
FAULT, CUT_OUT = 1, 2

HEADER = """\
/* What your own controller code is given at each control step, and what it answers. */
#ifndef CALOR_LAW_H
#define CALOR_LAW_H

typedef struct {
    float reading;          /* counts of the converter; degrees Celsius for an ideal probe; NaN: no answer */
    float setpoint_celsius; /* degrees Celsius */
    float other_celsius;    /* ambient, or the signal that the setpoint follows */
    float hand_output;      /* output set by hand; NaN: automatic */
    float dt_s;             /* seconds since the step before */
} calor_law_input;

typedef struct {
    float measured_celsius; /* what it takes the temperature to be; NaN: the sensor is at fault */
    float demand[4];        /* of each output, 0 to 1 */
    unsigned flags;         /* what is to be seen in the run: CALOR_LAW_FAULT, CALOR_LAW_CUT_OUT */
} calor_law_output;

#define CALOR_LAW_FAULT 1u   /* the sensor is at fault, as a measured NaN says too */
#define CALOR_LAW_CUT_OUT 2u /* it has cut out */

void calor_law(const calor_law_input *in, calor_law_output *out);

#endif
"""
_C_RUNNER = """\
#include "calor_law.h"
#include <stdio.h>
#include <stdlib.h>

void *__real_malloc(size_t size);
void *__real_calloc(size_t count, size_t size);
void *__real_realloc(void *old, size_t size);

static void *had(void *memory, size_t size)
{
    if (memory == NULL && size > 0u) {
        fputs("no more memory\\n", stderr);
    }
    return memory;
}

void *__wrap_malloc(size_t size)
{
    return had(__real_malloc(size), size);
}

void *__wrap_calloc(size_t count, size_t size)
{
    return had(__real_calloc(count, size), count * size);
}

void *__wrap_realloc(void *old, size_t size)
{
    return had(__real_realloc(old, size), size);
}

int main(void)
{
    calor_law_input in;
    while (fread(&in, sizeof in, 1, stdin) == 1) {
        calor_law_output out = {0};
        calor_law(&in, &out);
        if (fwrite(&out, sizeof out, 1, stdout) != 1 || fflush(stdout) != 0) {
            return 1;
        }
    }
    return 0;
}
"""
_PYTHON_RUNNER = """\
import importlib.util, struct, sys
out = sys.stdout.buffer
sys.stdout = sys.stderr
spec = importlib.util.spec_from_file_location("own_law", sys.argv[1])
module = importlib.util.module_from_spec(spec)
spec.loader.exec_module(module)
law = module.Law()
while True:
    data = sys.stdin.buffer.read(20)
    if len(data) < 20:
        break
    reading, law.setpoint_celsius, law.other_celsius, law.hand_output, dt = struct.unpack("5f", data)
    answer = law.step(reading, dt)
    demands = list(answer) if isinstance(answer, (list, tuple)) else [answer]
    measured = getattr(law, "measured_celsius", reading)
    out.write(struct.pack("5fI", measured, *(demands + [0.0] * 4)[:4], int(getattr(law, "flags", 0)) & 3))
    out.flush()
"""


def is_own(name: str) -> bool:
    """Whether a name is a file of the user's own controller code."""
    return name.endswith((".c", ".py"))


class OwnLaw:
    """One law in its process."""

    def __init__(self, path: Path, design: Design, folder: Path) -> None:
        self.path, self._design = path, design
        self._said = folder / "said.txt"
        self._process: subprocess.Popen[bytes] | None = None
        self._step = 0
        self.trouble: FirmwareError | None = None
        if not path.is_file():
            error = FileNotFoundError()
            raise unreadable(FirmwareError, path, error, "your own controller code, in C (.c) or Python (.py)")
        self._command = self._built_c(folder) if path.suffix == ".c" else self._python(folder)

    def _built_c(self, folder: Path) -> list[str]:
        (folder / "calor_law.h").write_text(HEADER)
        (folder / "runner.c").write_text(_C_RUNNER)
        program = folder / "law"
        command = [
            *host.compiler(), "-std=c99", "-O1", "-g", "-ffp-contract=off", "-Wall", "-I", str(folder), str(self.path),
            str(folder / "runner.c"), "-o", str(program), "-lm", "-Wl,--wrap=malloc,--wrap=calloc,--wrap=realloc",
        ]  # fmt: skip
        result = subprocess.run(command, capture_output=True, text=True, check=False)
        if result.returncode != 0:
            lines = [line for line in result.stderr.splitlines() if "error" in line or "undefined" in line]
            raise FirmwareError("", (lines or result.stderr.splitlines() or ["it does not build"])[0])
        return [str(program)]

    def _python(self, folder: Path) -> list[str]:
        (folder / "runner.py").write_text(_PYTHON_RUNNER)
        return [sys.executable, "-I", str(folder / "runner.py"), str(self.path.absolute())]

    def _begin(self) -> None:
        self.end()
        with self._said.open("wb") as said:
            self._process = subprocess.Popen(
                self._command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=said, bufsize=0
            )
        # before it has read its first input it has had no time to take much
        for limit, most in ((resource.RLIMIT_AS, MOST_MEMORY_BYTES), (resource.RLIMIT_CORE, 0)):
            resource.prlimit(self._process.pid, limit, (most, most))

    def end(self) -> None:
        """End the process, if there is one."""
        if self._process is not None:
            self._process.kill()
            self._process.wait()
            for pipe in (self._process.stdin, self._process.stdout):
                if pipe is not None:
                    pipe.close()
            self._process = None

    def answer(self, given: tuple[float, ...]) -> bytes:
        """The row for one step's inputs. After trouble there is no other answer than nothing."""
        counts, other, hand, put_in, restart, _tune = given
        if self._process is None or restart > 0.0:
            self._begin()
        setpoint = self._design.setpoint.celsius if math.isnan(put_in) else put_in
        asked = struct.pack("5f", counts, setpoint, other, hand, float(self._design.law.period_s))
        data = self._ask(asked, counts)
        measured, *demands, flags = struct.unpack("5fI", data)
        for demand in demands[: len(self._design.outputs)]:
            if math.isnan(demand):
                raise self._named("answered NaN", counts)
            if not -1e-6 <= demand <= 1.0 + 1e-6:
                raise self._named(f"asked for {demand:g}, outside 0 to 1", counts)
        self._step += 1
        faulty = math.isnan(measured) or bool(int(flags) & FAULT)
        row = np.zeros(answer_row.width(MOST_OUTPUTS), np.float32)
        row[answer_row.MEASURED], row[answer_row.SETPOINT] = measured, setpoint
        row[answer_row.FLAGS] = int(flags) & CUT_OUT | answer_row.PROBE_FAULT_FLAG * faulty
        answer_row.demands(row[None])[0] = demands
        return row.tobytes()

    def _ask(self, asked: bytes, counts: float) -> bytes:
        process = self._process
        if process is None or process.stdin is None or process.stdout is None:
            raise self._named("is not there", counts)
        data = b""
        try:
            process.stdin.write(asked)
            while len(data) < ANSWER_BYTES:
                ready, _, _ = select.select([process.stdout], [], [], LONGEST_ANSWER_S)
                if not ready:
                    raise self._named(f"did not answer within {LONGEST_ANSWER_S:g} s and was stopped", counts)
                part = os.read(process.stdout.fileno(), ANSWER_BYTES - len(data))
                if not part:
                    raise self._named(self._how_it_ended(process), counts)
                data += part
        except BrokenPipeError:
            raise self._named(self._how_it_ended(process), counts) from None
        return data

    def _how_it_ended(self, process: subprocess.Popen[bytes]) -> str:
        code = process.wait()
        said = self._said.read_text(errors="replace").strip().splitlines()
        if any("MemoryError" in line or "no more memory" in line for line in said):
            return f"wanted more than {MOST_MEMORY_BYTES // 2**20} MiB of memory"
        if code < 0:
            name = signal.Signals(-code).name
            words = {
                "SIGSEGV": "crashed: it touched memory that is not its own", "SIGABRT": "crashed: it gave up",
                "SIGFPE": "crashed: a whole number divided by 0", "SIGKILL": "was ended by the system",
            }  # fmt: skip
            return f"{words.get(name, 'crashed')} ({name})"
        return f"ended by itself with code {code}" + (f": {said[-1]}" if said else "")

    def _named(self, what: str, counts: float) -> FirmwareError:
        time_s = self._step * float(self._design.law.period_s)
        return FirmwareError(self.path, f"{what}, at step {self._step} ({time_s:g} s, reading {counts:g})")


@contextmanager
def own_law_seated(design: Design, path: Path) -> Iterator[Seat]:
    """The seat that a law of the user's own takes. Raises FirmwareError with what went wrong, when the run has
    ended."""
    with tempfile.TemporaryDirectory() as place:
        law = OwnLaw(path, design, Path(place))

        @ctypes.CFUNCTYPE(None, ctypes.c_void_p, ctypes.c_void_p, ctypes.c_void_p)  # type: ignore[untyped-decorator, unused-ignore]
        def step(state: Any, given: Any, row: Any) -> None:
            del state
            if law.trouble is not None:
                ctypes.memset(row, 0, 4 * answer_row.width(MOST_OUTPUTS))
                return
            try:
                answer = law.answer(struct.unpack(f"{len(GIVEN)}f", ctypes.string_at(given, 4 * len(GIVEN))))
            except FirmwareError as error:  # a run cannot be left from here: it is said when it has ended
                law.trouble = error
                law.end()
                return
            ctypes.memmove(row, answer, len(answer))

        try:
            yield seat_of(ctypes.cast(step, ctypes.c_void_p).value or 0, 0, has_alarms=False)
        finally:
            law.end()
        if law.trouble is not None:
            raise law.trouble
