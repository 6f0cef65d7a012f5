"""The reference in the firmware's own precision: the same steps of probe, setpoint, law and alarms, in 32-bit floats.

The loop is simulated in double precision. Here its very functions are run as plain Python on NumPy's float32 numbers,
in a process in which nothing is compiled, so that every operation rounds as it does in C. What the C answers must
then be the same to the bit.
"""

from __future__ import annotations

import atexit
import contextlib
import pickle
import select
import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from calor import logarithm
from calor.design.model import Design
from calor.errors import FirmwareError
from calor.firmware.run.adapter import row_width
from calor.firmware.sources.scaling import junction_pieces
from calor.firmware.sources.templating import SMALLEST_FLOAT
from calor.law import alarm as alarms
from calor.law import program, watch
from calor.law import registry as laws
from calor.law import setpoint as setpoints
from calor.law.alarm import AlarmNumbers
from calor.law.elapsed import microseconds
from calor.law.outputs import Demands, Inputs
from calor.law.pid import Pid
from calor.law.registry import LawNumbers
from calor.law.setpoint import FOLLOW, SetpointNumbers
from calor.loop import answer_row
from calor.sense import checks, filters, its90, reading
from calor.sense import registry as probes
from calor.sense.checks import NO_FAULT
from calor.sense.registry import ProbeNumbers
from calor.sense.thermocouple import Thermocouple

Single: Any = np.float32
"""Of any type: it stands where compiled code has a float."""
_RUN = "from calor.firmware.check import single_precision; single_precision.serve()"
DONE = "done"
LOOK_S = 0.2
_IN_SINGLE = ("_ENDS", "_POLYNOMIALS", "_GAUSSIAN", "_BACK_ENDS", "_BACK_SHAPE", "_BACK")


class Given(NamedTuple):
    """What the reference is given: the design's numbers and, for each control step, what the firmware sees."""

    probe: ProbeNumbers
    setpoint: SetpointNumbers
    law: LawNumbers
    alarms: tuple[AlarmNumbers, ...]
    period_s: float
    outputs: int
    readings: npt.NDArray[np.float32]
    other: npt.NDArray[np.float32]
    hand: npt.NDArray[np.float32]
    restart: npt.NDArray[np.bool_]


def in_single(value: Any) -> Any:
    """Numbers, or nested tuples of them, with every float rounded to single precision as the literals of the C are."""
    if isinstance(value, tuple):
        parts = [in_single(part) for part in value]
        return type(value)(*parts) if hasattr(value, "_fields") else tuple(parts)
    if isinstance(value, float):
        return Single(value if abs(value) >= SMALLEST_FLOAT else 0.0)
    return value


def natural_log(x: Any) -> Any:
    """Natural logarithm of x > 0 as the generated C has it: the same operations in the same order."""
    bits = int(Single(x).view(np.uint32))
    exponent = ((bits >> 23) & 0xFF) - 127
    mantissa = np.uint32((bits & 0x007FFFFF) | 0x3F800000).view(Single)
    if mantissa > Single(1.41421356):
        mantissa *= Single(0.5)
        exponent += 1
    one, two = Single(1.0), Single(2.0)
    s = (mantissa - one) / (mantissa + one)
    q = s * s
    a, b, c, d = Single(0.333333333), Single(0.2), Single(0.142857143), Single(0.111111111)
    series = one + q * (a + q * (b + q * (c + q * d)))
    return Single(exponent) * Single(0.693147181) + two * s * series


def _with_own_junction(design: Design, probe: ProbeNumbers) -> ProbeNumbers:
    """The probe's numbers with the cold junction worked out as firmware does, from a short polynomial."""
    settings = design.probe
    if not isinstance(settings, Thermocouple):
        return probe
    cold = Single(settings.cold_junction_celsius)
    if settings.checks.reversed_celsius is not None:
        backwards = float(cold - Single(settings.checks.reversed_celsius))
        probe = probe._replace(checks=probe.checks._replace(reversed_below_celsius=backwards))
    pieces, _ = junction_pieces(settings.letter)
    piece = next((one for one in pieces if cold <= Single(one.high)), pieces[-1])
    x = (cold - Single(piece.middle)) * Single(1.0 / piece.half)
    total = Single(0.0)
    for a in reversed(piece.a):
        total = total * x + Single(a)
    side = probe.firmware
    own = side.thermocouple._replace(cold_millivolt=float(total))
    return probe._replace(firmware=probes.with_own(side, "thermocouple", own))


def given(design: Design, inputs: npt.NDArray[Any], readings: npt.NDArray[np.float64]) -> Given:
    """What the reference needs of a design and of the inputs that the adapter takes; `readings` are a run's counts."""
    probe = probes.numbers(design.probe)
    oversampling = probe.firmware.adc.oversampling
    codes = readings.astype(Single)
    if probes.has_converter(design.probe) and oversampling > 1:
        codes = inputs["reading"].astype(Single) / Single(oversampling)
    by_hand = isinstance(design.law, Pid) and design.law.manual_mode
    return Given(
        _with_own_junction(design, probe),
        setpoints.numbers(design.setpoint),
        laws.numbers(design.law, design.guard),
        tuple(laws.alarm_numbers(design.law, design.guard, design.setpoint.kind == "follow")),
        float(design.law.period_s),
        len(design.outputs),
        codes,
        inputs["other"],
        inputs["hand"] if by_hand else np.full(len(codes), np.nan, Single),
        inputs["restart"] != 0,
    )


def rows(
    design: Design, inputs: npt.NDArray[Any], readings: npt.NDArray[np.float64],
    goes_on: Callable[[], bool] = lambda: True,
) -> npt.NDArray[np.float32] | None:  # fmt: skip
    """The reference's rows (steps×width, the ticks 0) for the adapter's inputs; None where `goes_on` ended it.

    Raises FirmwareError where its process fails.
    """
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        (folder / "given").write_bytes(pickle.dumps(given(design, inputs, readings)))
        if not _ask(folder, goes_on):
            return None
        return np.frombuffer((folder / "rows").read_bytes(), Single).reshape(-1, row_width(design))


_FREE: list[subprocess.Popen[str]] = []
"""Processes that wait for work: starting one costs more than most questions do."""


def _ask(folder: Path, goes_on: Callable[[], bool]) -> bool:
    """Have a process answer what is given in a folder; False where `goes_on` ended it. Raises FirmwareError."""
    if not goes_on():
        return False
    try:
        process = _FREE.pop()
    except IndexError:
        process = subprocess.Popen(
            [sys.executable, "-c", _RUN], stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
            text=True,
        )  # fmt: skip
    assert process.stdin is not None
    assert process.stdout is not None
    with contextlib.suppress(BrokenPipeError):
        process.stdin.write(f"{folder}\n")
        process.stdin.flush()
    while not select.select([process.stdout], [], [], LOOK_S)[0]:
        if not goes_on():
            _end(process)
            return False
    said = process.stdout.readline().strip()
    if said != DONE:
        said += " " + _end(process)
        last = said.strip().splitlines()
        raise FirmwareError("", f"the reference in single precision failed: {(last[-1] if last else 'no message')}")
    _FREE.append(process)
    return True


def _end(process: subprocess.Popen[str]) -> str:
    """End a process; what it said last."""
    process.kill()
    return process.communicate()[0]


@atexit.register
def _end_all() -> None:
    while _FREE:
        _end(_FREE.pop())


def serve() -> None:
    """In a process of its own: answer the folders that are named on standard input, one after the other."""
    logarithm.natural = natural_log
    for name in _IN_SINGLE:
        setattr(its90, name, getattr(its90, name).astype(Single))
    for line in sys.stdin:
        folder = Path(line.strip())
        with np.errstate(all="ignore"):
            answers = _answers(pickle.loads((folder / "given").read_bytes()))
        (folder / "rows").write_bytes(answers.tobytes())
        print(DONE, flush=True)


def _answers(asked: Given) -> npt.NDArray[np.float32]:
    """One row for each control step, by the steps of the blocks themselves."""
    probe, aim, law = in_single(asked.probe), in_single(asked.setpoint), in_single(asked.law)
    watched = np.array([alarms.to_row(one) for one in in_single(asked.alarms)], Single).reshape(-1, alarms.NUMBERS)
    dt_s, nothing = Single(asked.period_s), Single(np.nan)
    step_us = microseconds(dt_s)
    rows = np.zeros((len(asked.readings), answer_row.width(asked.outputs)), Single)
    size = checks.SIZE + filters.memory_size(probe.filter)
    begun = False
    for k in range(len(rows)):
        if asked.restart[k] or not begun:
            begun, since, measured = True, 0, Single(0.0)
            memory = np.zeros(size, Single)
            law_state, program_state = laws.start(), program.start()
            alarm_memory = np.zeros((len(watched) + 1, alarms.MEMORY_SIZE), Single)
        now, fault = reading.step(probe, memory, asked.readings[k], dt_s)
        faulty = fault != NO_FAULT
        if not faulty:
            measured = Single(now)
        signal = asked.other[k] if aim.kind == FOLLOW else nothing
        program_state, setpoint, off = setpoints.step(
            aim, program_state, nothing if faulty else measured, signal, since * step_us * 1e-6, dt_s
        )
        given_now = Inputs(setpoint, measured, asked.other[k], asked.hand[k], faulty, off)
        law_state, demands = laws.step(law, law_state, given_now, dt_s)
        raised, trips = watch.step(watched, alarm_memory, setpoint, measured, faulty, demands, dt_s)
        if trips:
            law_state, demands = laws.tripped(law_state), Demands(0.0, 0.0, 0.0, 0.0)
        flags = answer_row.PROBE_FAULT_FLAG * faulty + answer_row.CUT_OUT_FLAG * law_state.cut_out
        flags += answer_row.FIRST_FAULT_FLAG << (int(fault) - 1) if faulty else 0
        rows[k, answer_row.MEASURED], rows[k, answer_row.SETPOINT] = measured, setpoint
        rows[k, answer_row.FLAGS] = flags
        rows[k, answer_row.ALARMS] = raised
        answer_row.demands(rows)[k] = demands[: asked.outputs]
        since += 1
    return rows
