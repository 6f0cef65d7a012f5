"""The loop itself, compiled: sample, decide, switch, integrate, at every control step.

One compiled function serves every combination of blocks, so that choosing another law never waits for a
compiler. Each block's own step is in its own module; here is only the order in which they run.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

from calor.compiled import Column, compiled
from calor.drive import registry as drives
from calor.drive.registry import DriveNumbers, DriveState
from calor.law import registry as laws
from calor.law.registry import LawNumbers, LawState
from calor.load import chamber
from calor.load import registry as loads
from calor.load.registry import LoadNumbers, LoadState, Surroundings
from calor.loop.conditions import Conditions
from calor.loop.trace import Flag
from calor.sense import filters, lag, reading
from calor.sense.checks import NO_FAULT
from calor.sense.filters import FilterNumbers
from calor.sense.registry import IDEAL, ProbeNumbers

PROBE_FAULT, CUT_OUT, MAINS_LOST = (float(flag) for flag in (Flag.PROBE_FAULT, Flag.CUT_OUT, Flag.MAINS_LOST))
FIRST_FAULT = float(Flag.PROBE_OPEN)
"""The flag of fault 1; that of each further kind of fault is twice the one before."""
ABORT, DONE = 0, 1
STEPS_BETWEEN_LOOKS = 4096


class LoopNumbers(NamedTuple):
    """All five blocks as plain numbers, and the control step."""

    period_s: float
    probe: ProbeNumbers
    law: LawNumbers
    drive: DriveNumbers
    load: LoadNumbers


class LoopStart(NamedTuple):
    """The state of all blocks at time 0."""

    law: LawState
    drive: DriveState
    load: LoadState


@compiled(inner=True)
def _advance(
    load: LoadNumbers,
    state: LoadState,
    lag_s: float,
    probe_celsius: float,
    level: float,
    around: Surroundings,
    dt_s: float,
) -> tuple[LoadState, float]:
    """Load and probe after `dt_s` in which nothing else changes, in steps the load is accurate over."""
    parts = max(1, int(np.ceil(dt_s / load.step_s)))
    part_s = dt_s / parts
    for _ in range(parts):
        start, start_slope = state.celsius, loads.slope(load, state, level, around)
        state = loads.step(load, state, level, around, part_s)
        end_slope = loads.slope(load, state, level, around)
        probe_celsius = lag.step(lag_s, probe_celsius, start, start_slope, state.celsius, end_slope, part_s)
    return state, probe_celsius


@compiled(inline=True, inner=True)
def _give(
    drive: DriveNumbers,
    state: DriveState,
    demand: float,
    power: float,
    begin_s: float,
    end_s: float,
    switch_s: Column,
    switch_level: Column,
    switches: int,
    given: float,
) -> tuple[DriveState, int, float, float]:
    """What the drive gives between two instants, times `power`; each change of it is written down where it happens.

    Returns the drive's state, the number of changes, the output at the end, and the output summed over time.
    """
    at_s, heat = begin_s, 0.0
    while at_s < end_s:
        state, level, until_s = drives.step(drive, state, demand, at_s, end_s)
        level *= power
        if level != given:
            switch_s[switches], switch_level[switches] = at_s, level
            switches += 1
            given = level
        heat += level * (until_s - at_s)
        at_s = until_s
    return state, switches, given, heat


@compiled(releases_gil=True)
def run(
    blocks: LoopNumbers,
    start: LoopStart,
    fresh_law: LawState,
    conditions: Conditions,
    noise: Column,
    noise_seed: int,
    memory: Column,
    span_s: float,
    control: Any,
    columns: Any,
    switch_s: Column,
    switch_level: Column,
) -> int:
    """Fill the columns row by row, and the instants at which the output changed, and to which level.

    `noise` is added to what the probe is at, °C; the converter's own noise is drawn here, from `noise_seed`.
    `memory` is what the probe's checks and filter remember, as new_memory made it.

    `columns` is 8×rows, from true_celsius on in the order of a Trace; `switch_s` and `switch_level` have room for
    most_changes. Returns how many changes there were.

    `control[0]` set to 1 from another thread ends the run early; `control[1]` counts the rows done.
    """
    true_celsius, probe_column, counts_column, measured_column = columns[0], columns[1], columns[2], columns[3]
    setpoint_column, demand_column, delivered_column, flags_column = columns[4], columns[5], columns[6], columns[7]
    steps = len(true_celsius)
    law_state, drive_state, load_state = start.law, start.drive, start.load
    probe_celsius = load_state.celsius
    # arrays taken out of their tuple once: each access through it would count references
    instants, ambients, extras = conditions.at_s, conditions.ambient_celsius, conditions.extra_w_per_k
    powers, setpoints, wirings = conditions.power, conditions.setpoint_celsius, conditions.wiring
    period_s, probe, law, drive, load = blocks.period_s, blocks.probe, blocks.law, blocks.drive, blocks.load
    lag_s, is_ideal = probe.time_constant_s, probe.kind == IDEAL
    np.random.seed(noise_seed)
    by_matrix = load.kind == loads.CHAMBER and period_s <= load.step_s
    matrix = chamber.step_matrix(load.chamber, 0.0, period_s)
    switches, arrived = 0, 0
    given, arriving = 0.0, 0.0
    now_row, load_row = 0, 0
    was_lost = False
    for k in range(steps):
        if k % STEPS_BETWEEN_LOOKS == 0:
            control[DONE] = k
            if control[ABORT] != 0:
                break
        begin_s = k * period_s
        end_s = min((k + 1) * period_s, span_s)
        while instants[now_row + 1] <= begin_s:
            now_row += 1
        setpoint = setpoints[now_row]
        lost = powers[now_row] < 0.0
        flags = 0.0
        demand, counts, measured = 0.0, np.nan, np.nan
        if lost:
            flags += MAINS_LOST
        else:
            if was_lost:
                law_state = fresh_law
                memory[:] = 0.0
            wiring = int(wirings[now_row])
            counts = reading.sample(probe, memory, probe_celsius + noise[k], wiring)
            measured, fault = reading.step(probe, memory, counts, period_s)
            if is_ideal:
                counts = np.nan
            law_state, demand = laws.step(law, law_state, setpoint, measured, fault != NO_FAULT, period_s)
            if fault != NO_FAULT:
                measured = np.nan
                flags += PROBE_FAULT + FIRST_FAULT * 2.0 ** (fault - 1)
            if law_state.cut_out:
                flags += CUT_OUT
        was_lost = lost
        true_celsius[k], probe_column[k] = load_state.celsius, probe_celsius
        counts_column[k], measured_column[k] = counts, measured
        setpoint_column[k], demand_column[k], flags_column[k] = setpoint, demand, flags

        # what is switched until the next row, at the drive's own instants
        at_s, drive_row, heat = begin_s, now_row, 0.0
        while at_s < end_s:
            while instants[drive_row + 1] <= at_s:
                drive_row += 1
            until_s = min(end_s, instants[drive_row + 1])
            power = max(powers[drive_row], 0.0)
            drive_state, switches, given, part = _give(
                drive, drive_state, demand, power, at_s, until_s, switch_s, switch_level, switches, given
            )
            heat += part
            at_s = until_s
        delivered_column[k] = heat / (end_s - begin_s)

        # the load, from one change of heat or surroundings to the next
        at_s = begin_s
        while at_s < end_s:
            while instants[load_row + 1] <= at_s:
                load_row += 1
            while arrived < switches and switch_s[arrived] + load.dead_time_s <= at_s:
                arriving = switch_level[arrived]
                arrived += 1
            until_s = min(end_s, instants[load_row + 1])
            if arrived < switches:
                until_s = min(until_s, switch_s[arrived] + load.dead_time_s)
            around = Surroundings(ambients[load_row], extras[load_row])
            dt_s = until_s - at_s
            if by_matrix and around.extra_w_per_k == 0.0 and abs(dt_s - period_s) < 1e-9 * period_s:
                # a whole step of a linear load is one matrix; only steps cut by a switch are integrated
                was_celsius, start_slope = load_state.celsius, loads.slope(load, load_state, arriving, around)
                parts = chamber.step_by_matrix(matrix, load_state.chamber, arriving, around.ambient_celsius)
                load_state = LoadState(parts.air_celsius, load_state.inner_celsius, parts)
                end_slope = loads.slope(load, load_state, arriving, around)
                probe_celsius = lag.step(
                    lag_s, probe_celsius, was_celsius, start_slope, load_state.celsius, end_slope, period_s
                )
            else:
                load_state, probe_celsius = _advance(load, load_state, lag_s, probe_celsius, arriving, around, dt_s)
            at_s = until_s
        control[DONE] = k + 1
    return switches


@compiled(releases_gil=True)
def replay(
    period_s: float,
    law: LawNumbers,
    drive: DriveNumbers,
    law_state: LawState,
    drive_state: DriveState,
    smoothing: FilterNumbers,
    memory: Column,
    readings: Column,
    setpoint: Column,
    span_s: float,
    demand_column: Column,
    delivered_column: Column,
    flags_column: Column,
    switch_s: Column,
    switch_level: Column,
) -> int:
    """The law's decisions on given readings, one a control step, smoothed; one that is NaN is a probe fault."""
    switches, given = 0, 0.0
    for k in range(len(readings)):
        begin_s, end_s = k * period_s, min((k + 1) * period_s, span_s)
        measured = readings[k]
        fault = np.isnan(measured)
        if fault:
            memory[:] = 0.0
        elif smoothing.kind != filters.NONE:
            measured = filters.step(smoothing, memory, measured, period_s)
        law_state, demand = laws.step(law, law_state, setpoint[k], measured, fault, period_s)
        flags_column[k] += (PROBE_FAULT if fault else 0.0) + (CUT_OUT if law_state.cut_out else 0.0)
        demand_column[k] = demand
        drive_state, switches, given, heat = _give(
            drive, drive_state, demand, 1.0, begin_s, end_s, switch_s, switch_level, switches, given
        )
        delivered_column[k] = heat / max(end_s - begin_s, 1e-12)
    return switches
