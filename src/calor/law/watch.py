"""All alarms of a controller, after each reading: which are raised, and whether one of them puts the output off.

A new setpoint is one that jumps, or begins to move: it moved by more than twice as far as the step before, and by more
than a hundredth of a degree. One that goes on along a ramp is not.
"""

from __future__ import annotations

from calor.compiled import Column, Table, compiled
from calor.law import alarm as alarms
from calor.law.outputs import Demands

NEW_SETPOINT_CELSIUS = 0.01
KNOWN, BEFORE_CELSIUS, MOVED_CELSIUS = range(3)
"""What is remembered of the setpoint, in the last row of the memory."""


@compiled
def _setpoint_is_new(memory: Column, setpoint_celsius: float) -> bool:
    """Whether the setpoint has jumped, or begun to move, since the step before; which it then is remembered as."""
    moved = abs(setpoint_celsius - float(memory[BEFORE_CELSIUS])) if memory[KNOWN] > 0.0 else 0.0
    is_new = moved > 2.0 * float(memory[MOVED_CELSIUS]) + NEW_SETPOINT_CELSIUS
    memory[KNOWN], memory[BEFORE_CELSIUS], memory[MOVED_CELSIUS] = 1.0, setpoint_celsius, moved
    return is_new


@compiled
def step(
    rows: Table, memory: Table, setpoint_celsius: float, measured_celsius: float, fault: bool, demands: Demands,
    dt_s: float,
) -> tuple[float, bool]:  # fmt: skip
    """(raised alarms, the nth counting 2ⁿ; whether one puts the output off) after one more reading.

    `rows` (n×NUMBERS) are the alarms, `memory` (n + 1)×MEMORY_SIZE numbers, all 0 before the first reading.
    """
    setpoint_is_new = _setpoint_is_new(memory[len(rows)], setpoint_celsius)
    raised, trips, bit = 0.0, False, 1.0
    for k in range(len(rows)):
        if setpoint_is_new or not alarms.waits(rows[k], memory[k], setpoint_celsius, measured_celsius):
            alarm = alarms.from_row(rows[k])
            if alarms.step(alarm, memory[k], setpoint_is_new, setpoint_celsius, measured_celsius, fault, demands, dt_s):
                raised += bit
                trips = trips or alarm.trips
        bit *= 2.0
    return raised, trips
