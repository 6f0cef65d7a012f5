"""Controller code of the user's own in the seat of the built-in law: always in a contained process of its own.

It may crash, hang, eat memory, print without end or answer nonsense: each is named, with the step and its input, and
nothing else is hurt. The process is asked over a pair of pipes that are not its standard ones: five floats for a
temperature, four demands and flags. To start afresh it is started afresh.

C: a file that includes "calor_law.h" and defines `void calor_law(const calor_law_input *in, calor_law_output *out)`.
Python: a file with a class `Law` and in it `step(self, reading, dt)`, which returns a demand, or a list of them.
"""

from __future__ import annotations

import ctypes
import math
import struct
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from calor.design.model import Design
from calor.errors import FirmwareError
from calor.firmware.controller.own_build import compiled
from calor.firmware.controller.own_process import OwnProcess, Trouble
from calor.firmware.controller.own_source import OwnSource
from calor.law.outputs import MOST_OUTPUTS
from calor.loop import Stopped, answer_row
from calor.loop.seat import GIVEN, Seat, seat_of
from calor.mistakes import in_words

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
#include <unistd.h>

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

static int whole(int from, int to, void *data, size_t size)
{
    size_t done = 0u;
    while (done < size) {
        const ssize_t part = from >= 0 ? read(from, (char *)data + done, size - done)
                                       : write(to, (const char *)data + done, size - done);
        if (part <= 0) {
            return 0;
        }
        done += (size_t)part;
    }
    return 1;
}

int main(int count, char **words)
{
    const int asked = count > 2 ? atoi(words[1]) : -1;
    const int answers = count > 2 ? atoi(words[2]) : -1;
    calor_law_input in;
    setvbuf(stdout, NULL, _IOLBF, 0);
    while (whole(asked, -1, &in, sizeof in)) {
        calor_law_output out = {0};
        calor_law(&in, &out);
        if (!whole(-1, answers, &out, sizeof out)) {
            return 1;
        }
    }
    return 0;
}
"""
_PYTHON_RUNNER = """\
import linecache, os, struct, sys, types
asked, answers = int(sys.argv[1]), int(sys.argv[2])
with open(sys.argv[3], encoding="utf-8") as file:
    text = file.read()
name = sys.argv[4]
linecache.cache[name] = (len(text), None, text.splitlines(True), name)
module = sys.modules["own_law"] = types.ModuleType("own_law")
exec(compile(text, name, "exec", dont_inherit=True), module.__dict__)
law = module.Law()
while True:
    data = b""
    while len(data) < 20:
        part = os.read(asked, 20 - len(data))
        if not part:
            sys.exit(0)
        data += part
    reading, law.setpoint_celsius, law.other_celsius, law.hand_output, dt = struct.unpack("5f", data)
    answer = law.step(reading, dt)
    demands = list(answer) if isinstance(answer, (list, tuple)) else [answer]
    measured = getattr(law, "measured_celsius", reading)
    os.write(answers, struct.pack("5fI", measured, *(demands + [0.0] * 4)[:4], int(getattr(law, "flags", 0)) & 3))
"""


class OwnLaw:
    """One law in its process; `control` is that of the run it decides in."""

    def __init__(
        self, source: OwnSource, design: Design, folder: Path, control: npt.NDArray[np.int64] | None = None
    ) -> None:
        self._source, self._design = source, design
        self._step = 0
        self.trouble: FirmwareError | None = None
        code, self._own = folder / "code", folder / "own"
        code.mkdir()
        self._own.mkdir()
        command = _built_c(source, code) if source.is_c else _python(source, code)
        self._process = OwnProcess(command, code, self._own, control)

    def end(self) -> None:
        """End the process, if there is one."""
        self._process.end()

    def answer(self, given: tuple[float, ...]) -> bytes:
        """The row for one step's inputs. Raises FirmwareError with what went wrong."""
        counts, other, hand, put_in, restart, _tune = given
        setpoint = self._design.setpoint.celsius if math.isnan(put_in) else put_in
        asked = struct.pack("5f", counts, setpoint, other, hand, float(self._design.law.period_s))
        try:
            if restart > 0.0 or not self._process.is_there:
                self._process.begin()
            data = self._process.ask(asked)
        except Trouble as trouble:
            raise self._named(str(trouble), counts) from None
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

    def _named(self, what: str, counts: float) -> FirmwareError:
        time_s = self._step * float(self._design.law.period_s)
        return FirmwareError(self._source.path, f"{what}, at step {self._step} ({time_s:g} s, reading {counts:g})")


def _built_c(source: OwnSource, folder: Path) -> list[str]:
    """The program of a C file. Raises FirmwareError with the compiler's first error."""
    name = source.path.name if source.path.name != "calor_runner.c" else "law.c"
    (folder / "calor_law.h").write_text(HEADER)
    (folder / "calor_runner.c").write_text(_C_RUNNER)
    (folder / name).write_bytes(source.data)
    arguments = [
        "-O1", "-g", "-Wall", f"./{name}", "calor_runner.c", "-o", "law", "-lm",
        "-Wl,--wrap=malloc,--wrap=calloc,--wrap=realloc",
    ]  # fmt: skip
    try:
        result = compiled(source.text, arguments, folder)
    except FirmwareError as error:
        raise FirmwareError(source.path, error.rule, error.received, error.remedy) from None
    if not result.is_whole:
        lines = [line for line in result.said.splitlines() if "error" in line or "undefined" in line]
        first = (lines or result.said.splitlines() or ["it does not build"])[0]
        raise FirmwareError("", first.removeprefix("./"))
    return [str(folder / "law")]


def _python(source: OwnSource, folder: Path) -> list[str]:
    """The program of a Python file: its text as it was read. Raises FirmwareError where that is none."""
    (folder / "runner.py").write_text(_PYTHON_RUNNER)
    (folder / "law.py").write_text(source.text, encoding="utf-8")
    return [sys.executable, "-I", "-B", str(folder / "runner.py"), str(folder / "law.py"), str(source.path)]


@contextmanager
def own_law_seated(design: Design, source: OwnSource, control: npt.NDArray[np.int64] | None = None) -> Iterator[Seat]:
    """The seat that controller code of the user's own takes in a run with this `control`.

    Raises FirmwareError with what went wrong, Stopped where it was asked to stop, when the run has ended.
    """
    with tempfile.TemporaryDirectory() as place:
        law = OwnLaw(source, design, Path(place).resolve(), control)

        @ctypes.CFUNCTYPE(None, ctypes.c_void_p, ctypes.c_void_p, ctypes.c_void_p)  # type: ignore[untyped-decorator, unused-ignore]
        def step(state: Any, given: Any, row: Any) -> None:
            del state
            if law.trouble is not None:
                ctypes.memset(row, 0, 4 * answer_row.width(MOST_OUTPUTS))
                return
            try:
                answer = law.answer(struct.unpack(f"{len(GIVEN)}f", ctypes.string_at(given, 4 * len(GIVEN))))
            except BaseException as error:  # a run cannot be left from here: it is said when it has ended
                if isinstance(error, FirmwareError):
                    law.trouble = error
                else:
                    law.trouble = FirmwareError(source.path, f"was stopped: {in_words(error)}")
                law.end()
                return
            ctypes.memmove(row, answer, len(answer))

        try:
            yield seat_of(ctypes.cast(step, ctypes.c_void_p).value or 0, 0, has_alarms=False)
        finally:
            law.end()
        if law.trouble is not None:
            raise law.trouble if control is None or not control[0] else Stopped
