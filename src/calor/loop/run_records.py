"""What a run is given and what it writes into: all blocks as plain numbers, their states at the start, its arrays."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from calor.compiled import Column, Counts, Table
from calor.drive import registry as drives
from calor.drive.registry import DriveNumbers
from calor.law import alarm as alarms
from calor.law.outputs import MOST_OUTPUTS
from calor.law.program import ProgramState
from calor.law.registry import LawNumbers, LawState
from calor.law.setpoint import SetpointNumbers
from calor.load.registry import LoadNumbers
from calor.load.state import LoadState
from calor.loop import whole_step
from calor.sense.registry import ProbeNumbers

MOST_TUNINGS, TUNING_COLUMNS = 32, 6
"""Self-tunings that are written down, each with when it began and ended, what came of it, and the gains found."""
TRUE_ROW, PROBE_ROW, COUNTS_ROW, MEASURED_ROW, SETPOINT_ROW, FLAGS_ROW, ALARMS_ROW, OUTPUTS_FROM = range(8)
"""Rows of the columns a run fills: then the demand of each output, after them what each was given, and last, of a
thermoelectric load, the power against the Seebeck voltage, W."""


class LoopNumbers(NamedTuple):
    """All five blocks as plain numbers, and the control step: by the controller's clock, and what it takes in truth.

    `outputs` is how many there are; the first has `drive`, a second one `second_drive`, stages all have `drive`.
    `beside` is what the others are given of an output that was recorded as one number: the same where they are stages,
    the negative where the second one cools, nothing where it is of its own. `tunes` says that the law can tune itself.
    """

    period_s: float
    step_s: float
    probe: ProbeNumbers
    setpoint: SetpointNumbers
    law: LawNumbers
    drive: DriveNumbers
    second_drive: DriveNumbers
    load: LoadNumbers
    outputs: int
    beside: float
    has_watchdog: bool
    tunes: bool


class Workspace(NamedTuple):
    """Arrays that a run writes into as it goes, made outside: a compiled step makes none.

    `gave_row` is the row of the conditions in which each output was last given what its drive switches.
    """

    drive_states: Table
    alarm_memory: Table
    pins: Column
    given: Column
    arriving: Column
    asked: Column
    arrived: Counts
    gave_row: Counts
    matrix: Table
    tunings: Table
    tuned: Counts


def workspace(alarm_count: int) -> Workspace:
    """A fresh workspace for a run with so many alarms."""
    return Workspace(
        np.zeros((MOST_OUTPUTS, drives.STATE_SIZE)), np.zeros((alarm_count + 1, alarms.MEMORY_SIZE)),
        np.zeros(MOST_OUTPUTS), np.zeros(MOST_OUTPUTS), np.zeros(MOST_OUTPUTS), np.zeros(MOST_OUTPUTS),
        np.zeros(MOST_OUTPUTS, np.int64), np.full(MOST_OUTPUTS, -1), np.zeros(whole_step.SHAPE),
        np.zeros((MOST_TUNINGS, TUNING_COLUMNS)), np.zeros(1, np.int64),
    )  # fmt: skip


class LoopStart(NamedTuple):
    """The state of all blocks at time 0."""

    program: ProgramState
    law: LawState
    load: LoadState
