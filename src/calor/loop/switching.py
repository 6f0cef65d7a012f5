"""What an output is switched to between two decisions: its drive's own instants, the supply, a switch that fails."""

from __future__ import annotations

import numpy as np

from calor.compiled import Column, Counts, Table, compiled
from calor.design.event import POWER, RECORDED, STALLED, SWITCH_FAULT
from calor.design.switch_events import BOUNCING, INVERTED, STUCK_OFF, STUCK_ON
from calor.drive import registry as drives
from calor.drive.registry import DriveNumbers
from calor.loop.conditions import Conditions
from calor.loop.run_records import OUTPUTS_FROM, LoopNumbers, Workspace

BOUNCES, BOUNCE_S = 3, 0.002
"""How often a contact that bounces opens again as it closes, and for how long each time it is closed and open (common
practice: some bounces of some milliseconds)."""

NEVER_S = float("inf")


@compiled
def next_arrival_s(switch_s: Table, arrived: Counts, changes: Counts, dead_time_s: float) -> float:
    """When the next change of any output reaches the load, s, of those that have not `arrived`; NEVER_S: none is on its
    way."""
    first_s = NEVER_S
    for output in range(len(changes)):
        if arrived[output] < changes[output]:
            first_s = min(first_s, switch_s[output, arrived[output]] + dead_time_s)
    return first_s


@compiled
def _switched(level: float, fault: float) -> float:
    """What a faulty switch gives for a level."""
    if fault == INVERTED:
        return 1.0 - level
    if fault == STUCK_ON:
        return 1.0
    if fault == STUCK_OFF:
        return 0.0
    return level


@compiled
def give(
    drive: DriveNumbers,
    drive_state: Column,
    demand: float,
    overridden: bool,
    hangs: bool,
    power: float,
    fault: float,
    put_on: float,
    begin_s: float,
    end_s: float,
    switch_s: Table,
    switch_level: Table,
    output: int,
    switches: int,
    pins: Column,
    given: Column,
) -> tuple[int, float]:
    """What the drive gives between two instants, times `power`; each change of it is written down where it happens.

    `pins` holds what the controller last set each output to, and stays while it `hangs`; `given` what then came through
    supply and switch. `put_on` is a level that a record puts in its place, held between 0 and 1; NaN where none does.

    Returns the number of changes, and the output summed over time. The drive's state is written in place.
    """
    at_s, heat = begin_s, 0.0
    while at_s < end_s:
        level, until_s = pins[output], end_s
        if not hangs:
            level, until_s = drives.step(drive, drive_state, demand, overridden, at_s, end_s)
        pins[output] = level
        if not np.isnan(put_on):
            level = min(max(put_on, 0.0), 1.0)
        if fault != 0.0:
            level = _switched(level, fault)
        level *= power
        if fault == BOUNCING and level > 0.0 and given[output] == 0.0:
            for _ in range(BOUNCES):
                if at_s + 2.0 * BOUNCE_S < until_s:
                    switch_s[output, switches], switch_level[output, switches] = at_s, level
                    switch_s[output, switches + 1], switch_level[output, switches + 1] = at_s + BOUNCE_S, 0.0
                    switches += 2
                    heat += level * BOUNCE_S
                    at_s += 2.0 * BOUNCE_S
        if level != given[output]:
            switch_s[output, switches], switch_level[output, switches] = at_s, level
            switches += 1
            given[output] = level
        heat += level * (until_s - at_s)
        at_s = until_s
    return switches, heat


@compiled
def give_outputs(
    blocks: LoopNumbers,
    conditions: Conditions,
    now_row: int,
    work: Workspace,
    overridden: bool,
    hangs: bool,
    is_reset: bool,
    begin_s: float,
    end_s: float,
    switch_s: Table,
    switch_level: Table,
    changes: Counts,
    columns: Table,
    row: int,
) -> bool:
    """Switch every output from one decision to the next, at its drive's own instants, and write what was asked and
    given into a row of the columns; whether any of them changed.

    `now_row` is the row of the conditions that holds at `begin_s`. A firmware that hangs does so at that very instant,
    and `is_reset` says that the mains has ended it; where the mains goes, the outputs stay off until the next decision.
    """
    outputs, has_changed, drive_states = blocks.outputs, False, work.drive_states
    instants, values = conditions.at_s, conditions.values
    for output in range(outputs):
        columns[OUTPUTS_FROM + output, row] = work.asked[output]
        held_until_s = min(drive_states[output, drives.HOLDS_UNTIL_S], instants[now_row + 1])
        if end_s <= held_until_s and work.gave_row[output] == now_row and not overridden:
            # within a pulse or a pause, all else as it was
            columns[OUTPUTS_FROM + outputs + output, row] = work.given[output]
            continue
        at_s, given_row, heat, count = begin_s, now_row, 0.0, changes[output]
        is_dead = False
        while at_s < end_s:
            while instants[given_row + 1] <= at_s:
                given_row += 1
                is_dead = is_dead or values[given_row, POWER] < 0.0
            until_s = min(end_s, instants[given_row + 1])
            now = values[given_row]
            put_on = now[RECORDED]
            if output > 0:
                put_on *= blocks.beside
            count, part = give(
                blocks.second_drive if output == 1 else blocks.drive, drive_states[output], work.asked[output],
                overridden, hangs or (now[STALLED] > 0.0 and not is_reset), 0.0 if is_dead else max(now[POWER], 0.0),
                now[SWITCH_FAULT + output], put_on,
                at_s, until_s, switch_s, switch_level, output, count, work.pins, work.given,
            )  # fmt: skip
            heat += part
            at_s = until_s
        work.gave_row[output] = given_row
        has_changed = has_changed or count != changes[output]
        changes[output] = count
        columns[OUTPUTS_FROM + outputs + output, row] = heat / (end_s - begin_s)
    return has_changed
