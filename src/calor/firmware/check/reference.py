"""The reference in the firmware's own numbers: the same steps of probe, setpoint, law and alarms, in 32-bit floats or
in Q16.16 fixed point.

The loop is simulated in double precision. Here its very functions are run as plain Python on NumPy's float32 numbers,
or on numbers of an arithmetic of its own (`in_fixed`), in a process in which nothing is compiled, so that every
operation rounds as it does in C. What the C answers must then be the same to the bit.
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
from typing import Any

import numpy as np
import numpy.typing as npt

from calor import elapsed, logarithm
from calor.design.model import Design
from calor.drive import registry as drives
from calor.errors import FirmwareError
from calor.firmware.check.arithmetic import IN_FIXED, IN_SINGLE, Arithmetic
from calor.firmware.check.by_counts import by_counts, celsius_of
from calor.firmware.check.controls import Given
from calor.firmware.check.in_fixed import clock_of
from calor.firmware.check.in_single import Single, natural_log
from calor.firmware.check.reference_steps import answers
from calor.firmware.run.c_numbers import changes_gains, setpoint_is_put_in, takes_hand, tunes_itself
from calor.firmware.run.exchange import row_width
from calor.firmware.sources.code_table import CodeTable
from calor.firmware.sources.form import PLAIN, Form
from calor.firmware.sources.generate import tick_s
from calor.firmware.sources.scaling import junction_pieces
from calor.law import registry as laws
from calor.law import setpoint as setpoints
from calor.law.pid import Pid
from calor.law.setpoint import Follow
from calor.sense import calibration, its90, reading
from calor.sense import knob as knobs
from calor.sense import registry as probes
from calor.sense.registry import ProbeNumbers
from calor.sense.thermocouple import Thermocouple

_RUN = "from calor.firmware.check import reference; reference.serve({})"
DONE = "done"
LOOK_S = 0.2
_IN_SINGLE = ("_ENDS", "_POLYNOMIALS", "_GAUSSIAN", "_BACK_ENDS", "_BACK_SHAPE", "_BACK")


def _with_own_junction(design: Design, probe: ProbeNumbers, kind: Arithmetic) -> ProbeNumbers:
    """The probe's numbers with the cold junction worked out as firmware does, from a short polynomial."""
    settings = design.probe
    if not isinstance(settings, Thermocouple):
        return probe
    if settings.checks.reversed_celsius is not None:
        number = kind.number
        backwards = float(number(settings.cold_junction_celsius) - number(settings.checks.reversed_celsius))
        probe = probe._replace(checks=probe.checks._replace(reversed_below_celsius=backwards))
    cold = Single(settings.cold_junction_celsius)
    pieces, _ = junction_pieces(settings.letter)
    piece = next((one for one in pieces if cold <= Single(one.high)), pieces[-1])
    x = (cold - Single(piece.middle)) * Single(1.0 / piece.half)
    total = Single(0.0)
    for a in reversed(piece.a):
        total = total * x + Single(a)
    side = probe.firmware
    own = side.thermocouple._replace(cold_millivolt=float(total))
    return probe._replace(firmware=probes.with_own(side, "thermocouple", own))


def given(
    design: Design, inputs: npt.NDArray[Any], readings: npt.NDArray[np.float64], counts_ticks: bool = False,
    form: Form = PLAIN,
) -> Given:  # fmt: skip
    """What the reference needs of a design and of the inputs that the adapter takes; `readings` are a run's counts.

    With `counts_ticks` it says what the switches make of the demands, too, call by call.
    """
    probe = probes.numbers(design.probe)
    oversampling = probe.firmware.adc.oversampling
    codes, counts = readings.astype(Single), by_counts(design, form)
    if counts is not None:
        codes = inputs["reading"].astype(np.int64)
    elif probes.has_converter(design.probe) and oversampling > 1:
        codes = inputs["reading"].astype(Single) / Single(oversampling)
    return Given(
        _with_own_junction(design, probe, IN_FIXED if form.fixed else IN_SINGLE),
        setpoints.numbers(design.setpoint),
        laws.numbers(design.law, design.guard),
        tuple(laws.alarm_numbers(design.law, design.guard, design.setpoint.kind == "follow")),
        float(design.law.period_s),
        len(design.outputs),
        codes,
        inputs["other"],
        takes_hand(design, form),
        inputs,
        setpoint_is_put_in(design),
        isinstance(design.setpoint, Follow) and design.setpoint.signal == "dew_point" and not form.fixed,
        None if design.knob is None else knobs.knob_numbers(design.knob),
        design.button,
        tuple((design.drive_of(k).kind, drives.numbers(design.drive_of(k))) for k in range(len(design.outputs))),
        tick_s(design),
        round(float(design.law.period_s) / tick_s(design)),
        counts_ticks,
        changes_gains(design),
        tunes_itself(design),
        form.fixed,
        counts,
        -1.0 if design.law.action == "heat_cool" else 0.0,
        form.is_outward and not isinstance(design.law, Pid),
    )


def rows(
    design: Design, inputs: npt.NDArray[Any], readings: npt.NDArray[np.float64],
    goes_on: Callable[[], bool] = lambda: True, counts_ticks: bool = False, form: Form = PLAIN,
) -> npt.NDArray[np.float32] | None:  # fmt: skip
    """The reference's rows (steps×width) for the adapter's inputs, in a form of the C; None where `goes_on` ended it.
    The ticks are 0 but with `counts_ticks`.

    Raises FirmwareError where its process fails.
    """
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        (folder / "given").write_bytes(pickle.dumps(given(design, inputs, readings, counts_ticks, form)))
        if not _ask(folder, form.fixed, goes_on):
            return None
        return np.frombuffer((folder / "rows").read_bytes(), Single).reshape(-1, row_width(design))


_FREE: dict[bool, list[subprocess.Popen[str]]] = {False: [], True: []}
"""Processes that wait for work, in fixed point or not: starting one costs more than most questions do."""


def _ask(folder: Path, fixed: bool, goes_on: Callable[[], bool]) -> bool:
    """Have a process answer what is given in a folder; False where `goes_on` ended it. Raises FirmwareError."""
    if not goes_on():
        return False
    try:
        process = _FREE[fixed].pop()
    except IndexError:
        process = subprocess.Popen(
            [sys.executable, "-c", _RUN.format(fixed)], stdin=subprocess.PIPE, stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT, text=True,
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
        raise FirmwareError("", f"the reference failed: {(last[-1] if last else 'no message')}")
    _FREE[fixed].append(process)
    return True


def _end(process: subprocess.Popen[str]) -> str:
    """End a process; what it said last."""
    process.kill()
    return process.communicate()[0]


@atexit.register
def _end_all() -> None:
    for free in _FREE.values():
        while free:
            _end(free.pop())


def serve(fixed: bool) -> None:
    """In a process of its own: answer the folders that are named on standard input, one after the other."""
    if fixed:
        _put_in_steps("microseconds", clock_of)
        _put_in_steps("passed", _passed_fixed)
    else:
        logarithm.natural = natural_log
        for name in _IN_SINGLE:
            setattr(its90, name, getattr(its90, name).astype(Single))
    by_formula = reading.counts_to_celsius
    for line in sys.stdin:
        folder = Path(line.strip())
        asked: Given = pickle.loads((folder / "given").read_bytes())
        looks_up = by_formula if asked.by_counts is None else _corrected(asked, celsius_of(asked.by_counts))
        reading.counts_to_celsius = looks_up
        with np.errstate(all="ignore"):
            rows = answers(asked)
        (folder / "rows").write_bytes(rows.tobytes())
        print(DONE, flush=True)


def _put_in_steps(name: str, step: Any) -> None:
    """Put another step in the place of one of `calor.elapsed`, wherever it is called."""
    plain = getattr(elapsed, name)
    for module in [one for key, one in sys.modules.items() if key.startswith("calor.")]:
        if getattr(module, name, None) is plain:
            setattr(module, name, step)


def _passed_fixed(total_s: Any, rest_s: Any, dt_s: Any) -> tuple[Any, Any]:
    """Time that passed, in fixed point, where nothing is rounded: (total, 0)."""
    del rest_s
    return (0.0, 0.0) if total_s < 0.0 else (total_s + dt_s, 0.0)


def _corrected(asked: Given, celsius_of_counts: Callable[[int], Any]) -> Any:
    """°C of counts; a table has the correction in it."""
    if isinstance(asked.by_counts and asked.by_counts.way, CodeTable):
        return lambda probe, counts: celsius_of_counts(int(counts))
    return lambda probe, counts: calibration.apply(probe.correction, celsius_of_counts(int(counts)))
