"""The row that a controller answers a control step with: how its numbers lie, for all who write or read one.

measured °C, setpoint °C, flags, alarms (a bit for each), the setpoint by the knob °C, the dew point °C, what else
stands in its state (a bit each, and above them what came of self-tuning), the gain (per °C, below 0 cooling), rate of
the integral (1/s) and derivative time (s) that self-tuning found, then for each output its demand, its ticks
switched on, and those of its twin that an interrupt would switch.
"""

from __future__ import annotations

from typing import Any

MEASURED, SETPOINT, FLAGS, ALARMS, KNOB, DEW_POINT, STATUS, TUNED_GAIN, TUNED_RATE, TUNED_TIME, DEMANDS_FROM = range(11)
OFF_BIT, NO_SIGNAL_BIT, PROGRAM_OVER_BIT, BY_HAND_BIT = 1, 2, 4, 8
"""What else stands in its state: switched off, no signal, the program over, the output by hand."""
TUNING_FROM = 16
"""What came of self-tuning (`law.autotune`, 0 to 15) times this is added to the bits."""
PER_OUTPUT = 3
"""Demand, ticks, and the ticks where what is asked is handed over to an interrupt."""
PROBE_FAULT_FLAG, CUT_OUT_FLAG, FIRST_FAULT_FLAG = 1, 2, 16
"""Flags; fault n of the probe is FIRST_FAULT_FLAG times 2ⁿ⁻¹."""


def width(outputs: int) -> int:
    """How many numbers a row has."""
    return DEMANDS_FROM + PER_OUTPUT * outputs


def demand_at(output: int) -> int:
    """Where the demand of an output stands."""
    return DEMANDS_FROM + PER_OUTPUT * output


def ticks_at(output: int) -> int:
    """Where the ticks of an output stand, or its timer's counts."""
    return demand_at(output) + 1


def demands(rows: Any) -> Any:
    """The demands of rows: steps×outputs."""
    return rows[:, DEMANDS_FROM::PER_OUTPUT]


def ticks(rows: Any) -> Any:
    """The ticks of rows: steps×outputs."""
    return rows[:, DEMANDS_FROM + 1 :: PER_OUTPUT]


def handed_ticks(rows: Any) -> Any:
    """The ticks of rows where what is asked is handed over: steps×outputs."""
    return rows[:, DEMANDS_FROM + 2 :: PER_OUTPUT]


def has_fault(rows: Any) -> Any:
    """Whether the probe reads a fault, for each row."""
    return rows[:, FLAGS].astype(int) % 2 == PROBE_FAULT_FLAG
