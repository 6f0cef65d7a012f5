"""The law and the drives on recorded readings, compiled: what they would have decided and switched."""

from __future__ import annotations

import numpy as np

from calor.compiled import Column, Counts, Table, entry
from calor.drive import registry as drives
from calor.law import registry as laws
from calor.law import setpoint as setpoints
from calor.law import watch
from calor.law.outputs import Demands, Inputs
from calor.loop.kernel import CUT_OUT, PROBE_FAULT, TRIPPED
from calor.loop.run_records import (
    ALARMS_ROW,
    FLAGS_ROW,
    OUTPUTS_FROM,
    SETPOINT_ROW,
    LoopNumbers,
    LoopStart,
    Workspace,
)
from calor.loop.switching import give
from calor.sense import filters
from calor.sense.filters import FilterNumbers


@entry
def replay(
    blocks: LoopNumbers,
    start: LoopStart,
    smoothing: FilterNumbers,
    memory: Column,
    work: Workspace,
    watched: Table,
    readings: Column,
    span_s: float,
    columns: Table,
    switch_s: Table,
    switch_level: Table,
    changes: Counts,
) -> None:
    """The law's decisions on given readings, one a control step, smoothed; one that is NaN is a probe fault.

    `watched` are the alarms. `columns` is as that of a run; the rows of temperatures and counts are
    left alone, flags are added to.
    """
    period_s, law, drive, second_drive = blocks.period_s, blocks.law, blocks.drive, blocks.second_drive
    outputs, aim = blocks.outputs, blocks.setpoint
    program_state, law_state = start.program, start.law
    drive_states, asked = work.drive_states, work.asked
    for output in range(outputs):
        drives.begin(drive_states[output], 0.0)
    for k in range(len(readings)):
        begin_s, end_s = k * period_s, min((k + 1) * period_s, span_s)
        measured = readings[k]
        fault = np.isnan(measured)
        if fault:
            memory[:] = 0.0
        elif smoothing.kind != filters.NONE:
            measured = filters.step(smoothing, memory, measured, period_s)
        program_state, setpoint, off = setpoints.step(aim, program_state, measured, np.nan, begin_s, period_s)
        law_state, demands = laws.step(law, law_state, Inputs(setpoint, measured, 0.0, np.nan, fault, off, 0), period_s)
        flags = 0.0
        if len(watched) > 0:
            columns[ALARMS_ROW, k], trips = watch.step(
                watched, work.alarm_memory, setpoint, measured, fault, demands, period_s
            )
            if trips:
                law_state = laws.tripped(law_state)
                demands = Demands(0.0, 0.0, 0.0, 0.0)
                flags += TRIPPED
        overridden = fault or law_state.cut_out
        asked[0], asked[1], asked[2], asked[3] = demands.first, demands.second, demands.third, demands.fourth
        columns[SETPOINT_ROW, k] = setpoint
        columns[FLAGS_ROW, k] += (PROBE_FAULT if fault else 0.0) + (CUT_OUT if law_state.cut_out else 0.0) + flags
        for output in range(outputs):
            changes[output], heat = give(
                second_drive if output == 1 else drive, drive_states[output], asked[output],
                overridden, False, 1.0, 0.0, np.nan, begin_s, end_s, switch_s, switch_level, output, changes[output],
                work.pins, work.given,
            )  # fmt: skip
            columns[OUTPUTS_FROM + output, k] = asked[output]
            columns[OUTPUTS_FROM + outputs + output, k] = heat / max(end_s - begin_s, 1e-12)
