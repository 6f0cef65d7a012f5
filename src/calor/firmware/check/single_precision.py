"""The reference in the firmware's own precision: the same steps of probe, setpoint, law and alarms, in 32-bit floats.

The loop is simulated in double precision. Here its very functions are run as plain Python on NumPy's float32 numbers,
in a process in which nothing is compiled, so that every operation rounds as it does in C. What the C answers must
then be the same to the bit.
"""

from __future__ import annotations

import atexit
import contextlib
import copy
import pickle
import select
import subprocess
import sys
import tempfile
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from calor import logarithm
from calor.design.model import Design
from calor.drive import registry as drives
from calor.elapsed import DAY_US, microseconds
from calor.errors import FirmwareError
from calor.firmware.check.controls import Controls, Given
from calor.firmware.check.in_single import Single, in_single, natural_log
from calor.firmware.check.pins import PINS, pwm_counts
from calor.firmware.run.adapter import OTHER_GAIN, OTHER_WEIGHT, changes_gains, setpoint_is_put_in, tunes_itself
from calor.firmware.run.exchange import CHANGES, RELEASES, RESUMES, SKIPS, STARTS, row_width
from calor.firmware.sources.generate import tick_s
from calor.firmware.sources.scaling import junction_pieces
from calor.law import alarm as alarms
from calor.law import autotune, pid, program, watch
from calor.law import registry as laws
from calor.law import setpoint as setpoints
from calor.law.outputs import Demands, Inputs
from calor.law.pid import Pid
from calor.law.program import ProgramNumbers
from calor.law.registry import LawNumbers
from calor.law.setpoint import FOLLOW, PROGRAM, Follow
from calor.loop import answer_row
from calor.sense import checks, filters, its90, reading
from calor.sense import knob as knobs
from calor.sense import registry as probes
from calor.sense.checks import NO_FAULT
from calor.sense.registry import ProbeNumbers
from calor.sense.thermocouple import Thermocouple

_RUN = "from calor.firmware.check import single_precision; single_precision.serve()"
DONE = "done"
LOOK_S = 0.2
_IN_SINGLE = ("_ENDS", "_POLYNOMIALS", "_GAUSSIAN", "_BACK_ENDS", "_BACK_SHAPE", "_BACK")


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


def given(
    design: Design, inputs: npt.NDArray[Any], readings: npt.NDArray[np.float64], counts_ticks: bool = False
) -> Given:
    """What the reference needs of a design and of the inputs that the adapter takes; `readings` are a run's counts.

    With `counts_ticks` it says what the switches make of the demands, too, call by call.
    """
    probe = probes.numbers(design.probe)
    oversampling = probe.firmware.adc.oversampling
    codes = readings.astype(Single)
    if probes.has_converter(design.probe) and oversampling > 1:
        codes = inputs["reading"].astype(Single) / Single(oversampling)
    return Given(
        _with_own_junction(design, probe),
        setpoints.numbers(design.setpoint),
        laws.numbers(design.law, design.guard),
        tuple(laws.alarm_numbers(design.law, design.guard, design.setpoint.kind == "follow")),
        float(design.law.period_s),
        len(design.outputs),
        codes,
        inputs["other"],
        isinstance(design.law, Pid) and design.law.manual_mode,
        inputs,
        setpoint_is_put_in(design),
        isinstance(design.setpoint, Follow) and design.setpoint.signal == "dew_point",
        None if design.knob is None else knobs.knob_numbers(design.knob),
        design.button,
        tuple((design.drive_of(k).kind, drives.numbers(design.drive_of(k))) for k in range(len(design.outputs))),
        tick_s(design),
        round(float(design.law.period_s) / tick_s(design)),
        counts_ticks,
        changes_gains(design),
        tunes_itself(design),
    )


def rows(
    design: Design, inputs: npt.NDArray[Any], readings: npt.NDArray[np.float64],
    goes_on: Callable[[], bool] = lambda: True, counts_ticks: bool = False,
) -> npt.NDArray[np.float32] | None:  # fmt: skip
    """The reference's rows (steps×width) for the adapter's inputs; None where `goes_on` ended it. The ticks are 0 but
    with `counts_ticks`.

    Raises FirmwareError where its process fails.
    """
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        (folder / "given").write_bytes(pickle.dumps(given(design, inputs, readings, counts_ticks)))
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
    latched = [k for k, one in enumerate(asked.alarms) if one.latch]
    period_s, nothing = Single(asked.period_s), Single(np.nan)
    rows = np.zeros((len(asked.readings), answer_row.width(asked.outputs)), Single)
    size = checks.SIZE + filters.memory_size(probe.filter)
    aim_at_start = aim.celsius
    controls, begun, start_us = Controls(asked), False, microseconds(aim.clock_at_start_s)
    pins: list[Any] = []
    plain, other, is_other = law, _with_other_gains(law), False
    setpoint, output = aim.celsius, Single(0.0)
    twins: list[Any] | None = None
    for k, row in enumerate(asked.inputs):
        begins = bool(row["restart"]) or not begun
        if begins:
            law, is_other, setpoint, output = plain, False, aim_at_start, Single(0.0)
            begun, measured = True, Single(0.0)
            memory = np.zeros(size, Single)
            program_state = program.start()
            law_state = laws.LawState(False, np.zeros(laws.MEMORY_SIZE, Single), laws.AT_START.tolist())
            alarm_memory = np.zeros((len(watched) + 1, alarms.MEMORY_SIZE), Single)
            controls.begin()
            pins, twins = [PINS[kind](drive) if kind in PINS else None for kind, drive in asked.drives], None
        if int(row["calls"]) & RELEASES:
            law_state = laws.released(law_state)
            for n in latched:
                alarm_memory[n][alarms.RAISED] = 0.0
        dt_s = row["dt"] if 0.0 < row["dt"] <= 3600.0 else period_s
        if aim.kind == PROGRAM:
            program_state = _led(aim.program, program_state, setpoint, row)
        if int(row["calls"]) & CHANGES:
            is_other = not is_other
            if asked.changes_gains:
                new = other if is_other else plain
                was = laws.KEPT["pid"].read(law_state.kept)
                own = pid.with_other_gains(law.pid, new.pid, was, law_state.memory, setpoint, output)
                laws.KEPT["pid"].write(own, law_state.kept)
                law = new
            elif asked.tunes:
                autotune.keep(autotune.forgotten(autotune.kept(law_state.memory)), law_state.memory)
        signal = controls.take(row, asked.other[k] if aim.kind == FOLLOW else nothing, begins)
        aim = aim._replace(celsius=controls.setpoint)
        now, fault = reading.step(probe, memory, asked.readings[k], dt_s)
        faulty = fault != NO_FAULT
        if not faulty:
            measured = Single(now)
        passed_s = ((controls.clock_us - start_us) % DAY_US) * 1e-6
        program_state, setpoint, off = setpoints.step(
            aim, program_state, nothing if faulty else measured, signal, passed_s, dt_s
        )
        controls.clock_us = (controls.clock_us + microseconds(dt_s)) % DAY_US
        given_now = Inputs(
            setpoint, measured, asked.other[k], controls.hand, faulty, off or controls.off, controls.tune
        )
        law_state, demands = laws.step(law, law_state, given_now, dt_s)
        raised, trips = watch.step(watched, alarm_memory, setpoint, measured, faulty, demands, dt_s)
        if trips:
            law_state, demands = laws.tripped(law_state), Demands(0.0, 0.0, 0.0, 0.0)
        output = demands.first if demands.first > 0.0 or not law.pid.split.used else -demands.second
        flags = answer_row.PROBE_FAULT_FLAG * faulty + answer_row.CUT_OUT_FLAG * law_state.cut_out
        flags += answer_row.FIRST_FAULT_FLAG << (int(fault) - 1) if faulty else 0
        rows[k, answer_row.MEASURED], rows[k, answer_row.SETPOINT] = measured, setpoint
        rows[k, answer_row.FLAGS] = flags
        rows[k, answer_row.ALARMS] = raised
        rows[k, answer_row.KNOB], rows[k, answer_row.DEW_POINT] = controls.knob_celsius, controls.dew_point
        no_signal = aim.kind == FOLLOW and not setpoints.is_signal(signal)
        rows[k, answer_row.STATUS] = (
            answer_row.OFF_BIT * controls.off + answer_row.NO_SIGNAL_BIT * no_signal
            + answer_row.PROGRAM_OVER_BIT * (aim.kind == PROGRAM and program_state.over)
            + answer_row.BY_HAND_BIT * (not np.isnan(controls.hand))
        )  # fmt: skip
        if asked.tunes:
            tuning = autotune.kept(law_state.memory)
            rows[k, answer_row.STATUS] += answer_row.TUNING_FROM * tuning.relay.result
            rows[k, answer_row.TUNED_GAIN] = law.pid.direction * tuning.gains.gain_per_celsius
            rows[k, answer_row.TUNED_RATE] = tuning.gains.integral_rate_per_s
            rows[k, answer_row.TUNED_TIME] = tuning.gains.derivative_time_s
        answer_row.demands(rows)[k] = demands[: asked.outputs]
        if asked.counts_ticks:
            guarded = faulty or law_state.cut_out or controls.off
            if twins is None and not np.isnan(row["asked"]):
                twins = copy.deepcopy(pins)
            answer_row.ticks(rows)[k] = answer_row.handed_ticks(rows)[k] = _ticked(asked, pins, demands, guarded)
            if twins is not None:
                handed = demands if np.isnan(row["asked"]) else [row["asked"]] * len(pins)
                answer_row.handed_ticks(rows)[k] = _ticked(asked, twins, handed, guarded)
    return rows


def _with_other_gains(law: LawNumbers) -> Any:
    """The law's numbers of the other settings."""
    gains = law.pid.gains
    heat = gains.heat._replace(gain_per_celsius=gains.heat.gain_per_celsius * Single(OTHER_GAIN))
    weight = law.pid.setpoint_weight * Single(OTHER_WEIGHT)
    own = law.pid._replace(gains=gains._replace(heat=heat), setpoint_weight=weight)
    other: Any = law
    return other._replace(pid=own)


def _led(
    numbers: ProgramNumbers, state: program.ProgramState, setpoint_celsius: float, row: Any
) -> program.ProgramState:
    """A program started anew, skipped on or resumed, as an input asks."""
    calls = int(row["calls"])
    if calls & STARTS:
        state = program.start()
    if calls & SKIPS:
        state = program.skipped(numbers, state, setpoint_celsius)
    if calls & RESUMES:
        state = program.resumed(numbers, state, int(row["knob"]), row["clock"])
    return state


def _ticked(asked: Given, pins: list[Any], demands: Sequence[Any], guarded: bool) -> list[int]:
    """What each switch or timer makes of its demand in a control step: calls that it was on, or counts."""
    tick_s, found = Single(asked.tick_s), []
    for (kind, drive), pin, demand in zip(asked.drives, pins, demands, strict=False):
        if kind == "pwm":
            counts, stands = pwm_counts(drive, demand), drive.pwm.supply_switch and not demand > 0.0
            found.append(-1 - counts if stands else counts)
        elif pin is None:
            found.append(0)
        else:
            found.append(sum([pin.tick(Single(demand), guarded, tick_s) for _ in range(asked.ticks)]))
    return found
