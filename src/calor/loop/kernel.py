"""The loop itself, compiled: sample, decide, switch, integrate, at every control step.

One compiled function serves every combination of blocks, so that choosing another law never waits for a
compiler. Each block's own step is in its own module; here is only the order in which they run.
"""

from __future__ import annotations

import math

import numpy as np

from calor.compiled import Column, Counts, Table, compiled, entry_in_one_piece
from calor.compiled import noise as noises
from calor.design.event import (
    ADDED,
    ADDED_CELSIUS,
    AMBIENT,
    EXTRA,
    FALLEN,
    HAND,
    HEAT,
    HUMIDITY,
    POWER,
    PROBE_LAG,
    PROBE_RISE,
    SETPOINT,
    SIGNAL,
    TUNE,
    WIRED,
)
from calor.design.event import STALLED as HUNG
from calor.drive import registry as drives
from calor.law import autotune, watch
from calor.law import registry as laws
from calor.law import setpoint as setpoints
from calor.law.autotune import APPLIED, BY_GUARD, NOTHING, RUNNING, STARTS
from calor.law.outputs import Demands, Inputs
from calor.load import chamber, thermoelectric
from calor.load import registry as loads
from calor.load.state import Surroundings
from calor.loop import answer_row, whole_step
from calor.loop import seat as seats
from calor.loop.advance import advance
from calor.loop.conditions import Conditions
from calor.loop.run_records import (
    ALARMS_ROW,
    COUNTS_ROW,
    FLAGS_ROW,
    MEASURED_ROW,
    MOST_TUNINGS,
    OUTPUTS_FROM,
    PROBE_ROW,
    SETPOINT_ROW,
    TRUE_ROW,
    LoopNumbers,
    LoopStart,
    Workspace,
)
from calor.loop.seat import Seat, call_address
from calor.loop.switching import NEVER_S, give_outputs, next_arrival_s
from calor.loop.trace import Flag
from calor.sense import lag, reading
from calor.sense.checks import NO_FAULT
from calor.sense.registry import IDEAL

PROBE_FAULT, CUT_OUT, MAINS_LOST, BY_HAND, STALLED, TRIPPED, TUNING = (
    float(flag)
    for flag in (
        Flag.PROBE_FAULT, Flag.CUT_OUT, Flag.MAINS_LOST, Flag.BY_HAND, Flag.STALLED, Flag.TRIPPED, Flag.TUNING,
    )
)  # fmt: skip
FIRST_FAULT = float(Flag.PROBE_OPEN)
"""The flag of fault 1; that of each further kind of fault is twice the one before."""
ABORT, DONE = 0, 1
TOO_HOT, TOO_COLD = 2, 3
"""What the kernel itself puts into control[ABORT] where the load is hotter or colder than anything can be."""
COLDEST_CELSIUS, HOTTEST_CELSIUS = -273.15, 1e7
STEPS_BETWEEN_LOOKS = 256


@compiled
def _answered(seat: Seat, counts: float, values: Column, restarts: bool, tune: int) -> tuple[float, float, float]:
    """(measured, NaN where it reads a fault; setpoint; flags) of the program in the law's seat, after one more step."""
    given = seat.given
    signal = values[SIGNAL]
    given[seats.COUNTS], given[seats.BY_HAND], given[seats.PUT_IN] = counts, values[HAND], values[SETPOINT]
    given[seats.OTHER] = values[AMBIENT] if np.isnan(signal) else signal
    given[seats.RESTART] = 1.0 if restarts else 0.0
    given[seats.TUNE] = 1.0 if tune == STARTS else 0.0
    call_address(seat.address, seat.state_address, given, seat.row)
    said = float(seat.row[answer_row.FLAGS])
    faulty = int(said) % 2 == 1
    return np.nan if faulty else float(seat.row[answer_row.MEASURED]), float(seat.row[answer_row.SETPOINT]), said


@compiled
def _note_tuning(
    work: Workspace, began_s: float, ended_s: float, result: int, gain: float, rate_per_s: float, time_s: float
) -> None:
    """Write down what came of a self-tuning."""
    row = work.tuned[0]
    if row < MOST_TUNINGS:
        into, has_found = work.tunings[row], result == APPLIED
        into[0], into[1], into[2] = began_s, ended_s, result
        into[3] = abs(gain) if has_found else np.nan
        into[4] = 1.0 / rate_per_s if has_found else np.nan
        into[5] = time_s if has_found else np.nan
        work.tuned[0] = row + 1


@compiled
def _share(demand: float) -> float:
    """A demand of a program, held between 0 and 1; one that is no number asks for nothing."""
    return 0.0 if np.isnan(demand) else min(max(demand, 0.0), 1.0)


@compiled
def _around(values: Column) -> Surroundings:
    """What the load stands in, from a row of the conditions."""
    return Surroundings(values[AMBIENT], values[EXTRA], values[HUMIDITY], values[HEAT])


@entry_in_one_piece
def run(
    blocks: LoopNumbers,
    start: LoopStart,
    conditions: Conditions,
    weights: Table,
    watched: Table,
    noise: Column,
    noise_seed: int,
    memory: Column,
    work: Workspace,
    seat: Seat,
    span_s: float,
    control: Counts,
    columns: Table,
    switch_s: Table,
    switch_level: Table,
    changes: Counts,
) -> None:
    """Fill the columns row by row, and for each output the instants at which it changed, and to which level.

    `weights` (2×outputs) is what each output adds to the load's two
    inputs; `watched` (n×NUMBERS) are the alarms. `noise` is added to what the probe is at, °C; the
    converter's own noise is drawn here, from `noise_seed`. `work` is written into. `seat` holds the program that
    decides, if one does. `memory` is what the probe's checks and filter remember, as new_memory made it.

    `columns` is (7 + 2·outputs)×rows, and one more for a thermoelectric load: the power against the Seebeck voltage
    (W); `switch_s` and `switch_level` are outputs×most_changes; `changes` counts them.
    `control[0]` set to 1 from another thread ends the run early, and is TOO_HOT or TOO_COLD where the load ended it;
    `control[1]` counts the rows done.
    """
    steps = columns.shape[1]
    program_state, law_state, load_state = start.program, start.law, start.load
    law_memory = law_state.memory
    probe_celsius = load_state.celsius
    instants, values = conditions.at_s, conditions.values
    period_s, probe, law, load = blocks.period_s, blocks.probe, blocks.law, blocks.load
    # what a control step takes by the controller's clock, and in truth
    step_s = blocks.step_s
    outputs, aim = blocks.outputs, blocks.setpoint
    lag_s, is_ideal = probe.time_constant_s, probe.kind == IDEAL
    noises.seed(noise_seed)
    by_matrix = load.kind == loads.CHAMBER and step_s <= load.step_s and chamber.is_linear(load.chamber)
    drive_states, alarm_memory, matrix = work.drive_states, work.alarm_memory, work.matrix
    arriving, asked, arrived = work.arriving, work.asked, work.arrived
    if values[0, ADDED] > 0.0:
        load_state = loads.with_added(load, load_state, values[0, ADDED], values[0, ADDED_CELSIUS])
    probe_celsius = load_state.celsius
    lag_now_s = lag_s
    if values[0, PROBE_LAG] > 0.0:
        lag_now_s = values[0, PROBE_LAG]
    for output in range(outputs):
        drives.begin(drive_states[output], 0.0)
    # what applies now, and where the load has got to; both go on from row to row
    now_row, load_row = 0, 0
    now, there = values[0], values[0]
    now_ends_s, there_ends_s = instants[1], instants[1]
    around = _around(there)
    if by_matrix:
        whole_step.fill(matrix, load.chamber, load_state.added_j_per_k, around.extra_w_per_k, lag_now_s, step_s)
    # what a whole step adds, until an output or the surroundings change
    knows_shift, shift, probe_shift = False, load_state, 0.0
    # what warms the probe alone, beside what it takes from the load: both follow its own lag and add up
    probe_rise = 0.0
    was_lost, was_hung, was_reset = False, False, False
    tunes_asked, was_tuning, tuning_began_s = 0.0, 0, 0.0
    overridden, raised = False, 0.0
    setpoint = aim.celsius
    measured = np.nan
    level, second, arrives_s = 0.0, 0.0, NEVER_S
    between_looks = max(1, int(STEPS_BETWEEN_LOOKS * load.step_s / max(load.step_s, step_s)))
    next_look = 0
    for k in range(steps):
        if k == next_look:
            next_look += between_looks
            control[DONE] = k
            if control[ABORT] != 0:
                break
        begin_s = k * step_s
        end_s = min((k + 1) * step_s, span_s)
        while now_ends_s <= begin_s:
            now_row += 1
            now, now_ends_s = values[now_row], instants[now_row + 1]
            # what came and went between two steps counts too; a firmware that hangs is reset where the mains goes
            was_lost = was_lost or now[POWER] < 0.0
            was_hung = was_hung or now[HUNG] > 0.0
            was_reset = was_reset or (now[POWER] < 0.0 and now[HUNG] > 0.0)
        if lag_s <= 0.0 and now[PROBE_LAG] <= 0.0:
            probe_rise = now[PROBE_RISE]
        lost, hung = now[POWER] < 0.0, now[HUNG] > 0.0
        was_reset = hung and (was_reset or lost)
        hung = hung and not was_reset
        flags = 0.0
        counts = np.nan
        tune = STARTS if now[TUNE] > tunes_asked else NOTHING
        tunes_asked = now[TUNE]
        if lost:
            flags += MAINS_LOST
            measured, raised, overridden = np.nan, 0.0, False
            asked[0], asked[1], asked[2], asked[3] = 0.0, 0.0, 0.0, 0.0
        elif hung:
            flags += STALLED
        else:
            restarts = was_lost or (was_hung and blocks.has_watchdog)
            if restarts:
                law_state, program_state = laws.restarted(law_state), start.program
                memory[:] = 0.0
                for k_alarm in range(len(alarm_memory)):
                    alarm_memory[k_alarm][:] = 0.0
                for output in range(outputs):
                    drives.begin(drive_states[output], begin_s)
            counts = reading.sample(probe, memory, probe_celsius + probe_rise + noise[k], int(now[WIRED]))
            hand = now[HAND]
            if seat.address != 0:
                measured, setpoint, said = _answered(seat, counts, now, restarts, tune)
                flags += said
                overridden = int(said) % 4 != 0
                for output in range(outputs):
                    asked[output] = _share(seat.row[answer_row.DEMANDS_FROM + answer_row.PER_OUTPUT * output])
                if is_ideal:
                    counts = np.nan
                raised = float(seat.row[answer_row.ALARMS])
                if not seat.has_alarms and len(watched) > 0:
                    demands = Demands(asked[0], asked[1], asked[2], asked[3])
                    raised, _ = watch.step(
                        watched, alarm_memory, setpoint, measured, np.isnan(measured), demands, period_s
                    )
            else:
                measured, fault = reading.step(probe, memory, counts, period_s)
                if is_ideal:
                    counts = np.nan
                faulty = fault != NO_FAULT
                program_state, setpoint, off = setpoints.step(
                    aim,
                    program_state,
                    np.nan if faulty else measured,
                    now[SIGNAL],
                    k * period_s,
                    period_s,
                )
                if not np.isnan(now[SETPOINT]):
                    setpoint = now[SETPOINT]
                law_state, demands = laws.step(
                    law,
                    law_state,
                    Inputs(setpoint, measured, now[AMBIENT], hand, faulty, off, tune),
                    period_s,
                )
                if len(watched) > 0:
                    raised, trips = watch.step(watched, alarm_memory, setpoint, measured, faulty, demands, period_s)
                    if trips:
                        law_state = laws.tripped(law_state)
                        demands = Demands(0.0, 0.0, 0.0, 0.0)
                        flags += TRIPPED
                asked[0], asked[1], asked[2], asked[3] = demands.first, demands.second, demands.third, demands.fourth
                if faulty:
                    measured = np.nan
                    flags += PROBE_FAULT + FIRST_FAULT * 2.0 ** (fault - 1)
                if law_state.cut_out:
                    flags += CUT_OUT
                overridden = faulty or law_state.cut_out
            if not np.isnan(hand):
                flags += BY_HAND
            if blocks.tunes:
                tuning, gain = int(law_memory[autotune.RESULT]), law_memory[autotune.GAIN]
                rate_per_s, lead_s = law_memory[autotune.RATE], law_memory[autotune.LEAD]
                if seat.address != 0:
                    row = seat.row
                    tuning, gain = int(row[answer_row.STATUS]) // answer_row.TUNING_FROM, row[answer_row.TUNED_GAIN]
                    rate_per_s, lead_s = row[answer_row.TUNED_RATE], row[answer_row.TUNED_TIME]
                if tune == STARTS and was_tuning != RUNNING:
                    tuning_began_s = begin_s
                    if tuning != RUNNING:
                        # a guard had the output, or the very first reading ended it
                        refused = BY_GUARD if overridden else tuning
                        _note_tuning(work, begin_s, begin_s, refused, np.nan, 1.0, np.nan)
                elif was_tuning == RUNNING and tuning != RUNNING:
                    _note_tuning(work, tuning_began_s, begin_s, tuning, gain, rate_per_s, lead_s)
                if tuning == RUNNING:
                    flags += TUNING
                was_tuning = tuning
        was_lost, was_hung = lost, hung
        columns[TRUE_ROW, k], columns[PROBE_ROW, k] = load_state.celsius, probe_celsius + probe_rise
        columns[COUNTS_ROW, k], columns[MEASURED_ROW, k] = counts, np.nan if hung else measured
        columns[SETPOINT_ROW, k], columns[FLAGS_ROW, k], columns[ALARMS_ROW, k] = setpoint, flags, raised

        # what each output is switched to until the next row, at its drive's own instants
        has_changed = give_outputs(
            blocks, conditions, now_row, work, overridden, hung, was_reset, begin_s, end_s, switch_s, switch_level,
            changes, columns, k,
        )  # fmt: skip
        if has_changed:
            arrives_s = next_arrival_s(switch_s, arrived, changes, load.dead_time_s)

        # the load, from one change of heat or surroundings to the next
        at_s = begin_s
        against = 0.0
        while at_s < end_s:
            while there_ends_s <= at_s:
                load_row += 1
                there, there_ends_s = values[load_row], instants[load_row + 1]
                was_lag_s, lag_now_s = lag_now_s, lag_s
                if there[PROBE_LAG] > 0.0:
                    lag_now_s = there[PROBE_LAG]
                if there[ADDED] > 0.0:
                    load_state = loads.with_added(load, load_state, there[ADDED], there[ADDED_CELSIUS])
                was_extra, around = around.extra_w_per_k, _around(there)
                is_other = there[ADDED] > 0.0 or lag_now_s != was_lag_s or around.extra_w_per_k != was_extra
                if by_matrix and is_other:
                    extra = around.extra_w_per_k
                    whole_step.fill(matrix, load.chamber, load_state.added_j_per_k, extra, lag_now_s, step_s)
                knows_shift = False
            if arrives_s <= at_s:
                level, second = 0.0, 0.0
                for output in range(outputs):
                    while arrived[output] < changes[output] and (
                        switch_s[output, arrived[output]] + load.dead_time_s <= at_s
                    ):
                        arriving[output] = switch_level[output, arrived[output]]
                        arrived[output] += 1
                    level += weights[0, output] * arriving[output]
                    second += weights[1, output] * arriving[output]
                arrives_s = next_arrival_s(switch_s, arrived, changes, load.dead_time_s)
                knows_shift = False
            until_s = min(end_s, there_ends_s, arrives_s)
            dt_s = until_s - at_s
            before_celsius = probe_celsius
            if probe_rise != there[PROBE_RISE]:
                left = math.exp(-dt_s / lag_now_s) if lag_now_s > 0.0 else 0.0
                probe_rise = there[PROBE_RISE] + left * (probe_rise - there[PROBE_RISE])
            if load.kind == loads.THERMOELECTRIC:
                against += 0.5 * dt_s * thermoelectric.against_watt(load.thermoelectric, load_state, level, second)
            if by_matrix and abs(dt_s - step_s) < 1e-9 * step_s:
                # a whole step of a linear load is one matrix; only steps cut by a switch are integrated
                if not knows_shift:
                    shift, probe_shift = whole_step.shift(matrix, load.chamber, level, second, around)
                    knows_shift = True
                load_state, probe_celsius = whole_step.step(matrix, load_state, probe_celsius, shift, probe_shift)
            else:
                load_state, probe_celsius = advance(
                    load, load_state, lag_now_s, probe_celsius, level, second, around, dt_s
                )
            if there[FALLEN] > 0.0:
                air = around.ambient_celsius
                probe_celsius = lag.step(lag_now_s, before_celsius, air, 0.0, air, 0.0, dt_s)
            at_s = until_s
            if load.kind == loads.THERMOELECTRIC:
                against += 0.5 * dt_s * thermoelectric.against_watt(load.thermoelectric, load_state, level, second)
        if load.kind == loads.THERMOELECTRIC:
            columns[OUTPUTS_FROM + 2 * outputs, k] = against / (end_s - begin_s)
        coldest, hottest = min(load_state.celsius, load_state.source_celsius), load_state.celsius
        if not (coldest >= COLDEST_CELSIUS and hottest <= HOTTEST_CELSIUS):
            control[ABORT] = TOO_HOT if hottest > HOTTEST_CELSIUS else TOO_COLD
            break
        control[DONE] = k + 1
