"""The steps of the reference: probe, setpoint, law, alarms and pins of a design on its inputs, one row for each control
step, in the kind of numbers that the process they run in has been given (`reference`)."""

from __future__ import annotations

import copy
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import numpy.typing as npt

from calor.elapsed import DAY_US, microseconds
from calor.firmware.check.arithmetic import IN_FIXED, IN_SINGLE, Arithmetic
from calor.firmware.check.controls import Controls, Given
from calor.firmware.check.in_fixed import LEAST, Fixed
from calor.firmware.check.in_single import Single
from calor.firmware.check.pins import PINS
from calor.firmware.run.adapter import OTHER_GAIN, OTHER_WEIGHT
from calor.firmware.run.exchange import CHANGES, RELEASES, RESUMES, SKIPS, STARTS
from calor.law import alarm as alarms
from calor.law import autotune, guard, pid, program, watch
from calor.law import registry as laws
from calor.law import setpoint as setpoints
from calor.law.outputs import Demands, Inputs
from calor.law.program import ProgramNumbers
from calor.law.registry import LawNumbers
from calor.law.setpoint import FOLLOW, PROGRAM
from calor.loop import answer_row
from calor.sense import checks, filters, reading
from calor.sense.checks import NO_FAULT

PREDICTIVE = list(laws.KINDS).index("predictive")


def answers(asked: Given) -> npt.NDArray[np.float32]:
    """One row for each control step, by the steps of the blocks themselves."""
    kind = IN_FIXED if asked.fixed else IN_SINGLE
    number, zeros = kind.number, kind.zeros
    probe, aim, law = kind.every(asked.probe), kind.every(asked.setpoint), kind.every(asked.law)
    if asked.by_counts is not None:
        probe = probe._replace(fault_below_counts=asked.by_counts.lowest, fault_above_counts=asked.by_counts.highest)
    watched = zeros((len(asked.alarms), alarms.NUMBERS))
    for n, alarm in enumerate(kind.every(asked.alarms)):
        watched[n] = [number(float(one)) for one in alarms.to_row(alarm)]
    latched = [k for k, one in enumerate(asked.alarms) if one.latch]
    period_s, nothing = number(asked.period_s), np.nan
    rows = np.zeros((len(asked.readings), answer_row.width(asked.outputs)), Single)
    size = checks.SIZE + filters.memory_size(probe.filter)
    aim_at_start = aim.celsius
    controls, begun, start_us = Controls(asked, kind), False, microseconds(aim.clock_at_start_s)
    pins: list[Any] = []
    plain, other, is_other = law, _with_other_gains(law, number), False
    setpoint, output = aim.celsius, number(0.0)
    twins: list[Any] | None = None
    for k, row in enumerate(asked.inputs):
        begins = bool(row["restart"]) or not begun
        if begins:
            law, is_other, setpoint, output = plain, False, aim_at_start, number(0.0)
            begun, measured = True, number(0.0)
            memory = zeros(size)
            program_state = program.start()
            law_state = laws.LawState(False, zeros(laws.MEMORY_SIZE), laws.AT_START.tolist())
            if asked.fixed:
                _finely(law_state.kept)
                law_state.memory[:] = Fixed(0, 1 if asked.law.kind == PREDICTIVE else 0)
            alarm_memory = zeros((len(watched) + 1, alarms.MEMORY_SIZE))
            controls.begin()
            pins, twins = [PINS[name](drive, kind) if name in PINS else None for name, drive in asked.drives], None
        if int(row["calls"]) & RELEASES:
            law_state = laws.released(law_state)
            for n in latched:
                alarm_memory[n][alarms.RAISED] = 0.0
        dt_s = period_s if np.isnan(row["dt"]) else kind.given(row["dt"])
        dt_s = dt_s if 0.0 < dt_s <= 3600.0 else period_s
        if aim.kind == PROGRAM:
            program_state = _led(aim.program, program_state, setpoint, row, kind)
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
        other_celsius = nothing if np.isnan(asked.other[k]) and aim.kind == FOLLOW else kind.given(asked.other[k])
        signal = controls.take(row, other_celsius if aim.kind == FOLLOW else nothing, begins)
        aim = aim._replace(celsius=controls.setpoint)
        now, fault = reading.step(probe, memory, _reading_of(asked, k, kind), dt_s)
        faulty = fault != NO_FAULT
        if not faulty:
            measured = number(now)
        passed_s = ((controls.clock_us - start_us) % DAY_US) * 1e-6
        program_state, setpoint, off = setpoints.step(
            aim, program_state, nothing if faulty else measured, signal, passed_s, dt_s
        )
        controls.clock_us = (controls.clock_us + microseconds(dt_s)) % DAY_US
        given_now = Inputs(setpoint, measured, other_celsius, controls.hand, faulty, off or controls.off, controls.tune)
        if asked.hand_overrides and not np.isnan(controls.hand):
            law_state, demands = _by_hand(law, law_state, given_now, dt_s)
        else:
            law_state, demands = laws.step(law, law_state, given_now, dt_s)
        if asked.fixed:
            _finely(law_state.kept)
        raised, trips = watch.step(watched, alarm_memory, setpoint, measured, faulty, demands, dt_s)
        if trips:
            law_state, demands = laws.tripped(law_state), Demands(0.0, 0.0, 0.0, 0.0)
        output = demands.first if demands.first > 0.0 or not law.pid.split.used else -demands.second
        flags = answer_row.PROBE_FAULT_FLAG * faulty + answer_row.CUT_OUT_FLAG * law_state.cut_out
        flags += answer_row.FIRST_FAULT_FLAG << (int(fault) - 1) if faulty else 0
        rows[k, answer_row.MEASURED], rows[k, answer_row.SETPOINT] = kind.seen(measured), kind.seen(setpoint)
        rows[k, answer_row.FLAGS] = flags
        rows[k, answer_row.ALARMS] = raised
        rows[k, answer_row.KNOB] = kind.seen(controls.knob_celsius)
        rows[k, answer_row.DEW_POINT] = controls.dew_point
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
        answer_row.demands(rows)[k] = [kind.seen(one) for one in demands[: asked.outputs]]
        if asked.counts_ticks:
            guarded = faulty or law_state.cut_out or controls.off
            if twins is None and not np.isnan(row["asked"]):
                twins = copy.deepcopy(pins)
            answer_row.ticks(rows)[k] = answer_row.handed_ticks(rows)[k] = _ticked(asked, pins, demands, guarded, kind)
            if twins is not None:
                handed = demands if np.isnan(row["asked"]) else [kind.given(row["asked"])] * len(pins)
                answer_row.handed_ticks(rows)[k] = _ticked(asked, twins, handed, guarded, kind)
    return rows


def _reading_of(asked: Given, k: int, kind: Arithmetic) -> Any:
    """A reading as the firmware is given it."""
    given = asked.readings[k]
    if not asked.fixed or asked.by_counts is not None:
        return given
    if np.isnan(given):
        return np.nan
    if asked.probe.gives_code:
        return int(given)
    own = kind.given(given)
    return np.nan if own.raw == LEAST else own


def _by_hand(law: Any, state: laws.LawState, given_now: Inputs, dt_s: Any) -> tuple[laws.LawState, Demands]:
    """A law that has no hand of its own: its output is put by hand as a guard puts it, where no guard has it."""
    if given_now.fault or given_now.off or state.cut_out or guard.trips(law.guard, given_now.measured_celsius):
        return laws.step(law, state, given_now, dt_s)
    put = law._replace(guard=law.guard._replace(probe_fault_output=given_now.hand, hand_at_fault=False))
    return laws.step(put, state, given_now._replace(fault=True), dt_s)


def _finely(kept: Any) -> None:
    """What fixed point counts in 1024ths: a 0 of these, too. What roundings have added it does not keep."""
    for name, fine, rest in (("pid", "integral", "integral_rest"), ("predictive", "model", "model_rest")):
        state = laws.KEPT[name].read(kept)
        number = getattr(state, fine)
        own = number if isinstance(number, Fixed) else Fixed(0, 1)
        laws.KEPT[name].write(state._replace(**{fine: own, rest: 0.0}), kept)


def _with_other_gains(law: LawNumbers, number: Callable[[float], Any]) -> Any:
    """The law's numbers of the other settings."""
    gains = law.pid.gains
    heat = gains.heat._replace(gain_per_celsius=gains.heat.gain_per_celsius * number(OTHER_GAIN))
    weight = law.pid.setpoint_weight * number(OTHER_WEIGHT)
    own = law.pid._replace(gains=gains._replace(heat=heat), setpoint_weight=weight)
    other: Any = law
    return other._replace(pid=own)


def _led(
    numbers: ProgramNumbers, state: program.ProgramState, setpoint_celsius: float, row: Any, kind: Arithmetic
) -> program.ProgramState:
    """A program started anew, skipped on or resumed, as an input asks."""
    calls = int(row["calls"])
    if calls & STARTS:
        state = program.start()
    if calls & SKIPS:
        state = program.skipped(numbers, state, setpoint_celsius)
    if calls & RESUMES:
        state = program.resumed(numbers, state, int(row["knob"]), kind.given(row["clock"]))
    return state


def _ticked(asked: Given, pins: list[Any], demands: Sequence[Any], guarded: bool, kind: Arithmetic) -> list[int]:
    """What each switch or timer makes of its demand in a control step: calls that it was on, or counts."""
    tick_s, found = kind.number(asked.tick_s), []
    for (name, drive), pin, demand in zip(asked.drives, pins, demands, strict=False):
        if name == "pwm":
            counts, stands = kind.timer_counts(demand, drive.pwm.steps), drive.pwm.supply_switch and not demand > 0.0
            found.append(-1 - counts if stands else counts)
        elif pin is None:
            found.append(0)
        else:
            found.append(pin.ticks(kind.number(demand), guarded, tick_s, asked.ticks))
    return found
