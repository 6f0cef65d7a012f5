"""What the firmware sees in a trial: its inputs, step by step."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from calor.design.event import AMBIENT, HAND, POWER, SIGNAL, STALLED, TUNE, WIRED
from calor.design.model import Design
from calor.design.trial import Trial
from calor.firmware.run.exchange import TUNES, inputs
from calor.loop import run as run_design
from calor.loop.conditions import timeline
from calor.loop.simulate import noise_of_probe
from calor.loop.trace import Flag, Trace
from calor.sense.mounting import OPEN, SHORT, STUCK

MOST_STEPS = 400_000


@dataclass(frozen=True)
class Recorded:
    """A trial's inputs as the firmware saw them, the rows of the run that they belong to, and the run.

    `readings` are the inputs' readings as the run has them: counts, or °C of an ideal probe.
    """

    trial: Trial
    trace: Trace
    rows: npt.NDArray[np.int64]
    given: npt.NDArray[Any]
    readings: npt.NDArray[np.float64]


def recorded(design: Design, trial: Trial) -> Recorded:
    """The inputs that the firmware sees in a trial; without mains, or hung, it sees none."""
    trace = run_design(design, trial)
    around = timeline(design, trial)
    row_of = np.searchsorted(around.at_s, trace.time_s + 1e-9, side="right") - 1
    values = around.values[row_of]
    flags = trace.flags.astype(np.int64)
    lost, hung = (flags & Flag.MAINS_LOST) > 0, (flags & Flag.STALLED) > 0
    away = lost | hung
    # what came and went between two steps counts too
    ends = around.values[:, POWER] < 0.0
    if design.guard.watchdog_s is not None:
        ends = ends | (around.values[:, STALLED] > 0.0)
    counted = np.cumsum(ends)[row_of]
    between = np.diff(counted, prepend=counted[0]) > 0
    again = np.concatenate(([False], lost[:-1] | (hung[:-1] & (design.guard.watchdog_s is not None))))
    again = (again | between) & ~away
    rows = np.flatnonzero(~away)[:MOST_STEPS]
    # a clock that follows the time of day is not part of the C's inputs: it goes on in steps
    readings = _ideal(design, trial, trace, values[:, WIRED]) if design.probe.kind == "ideal" else trace.counts
    other = values[:, SIGNAL] if design.setpoint.kind == "follow" else values[:, AMBIENT]
    given = inputs(design, readings[rows], other[rows], values[rows, HAND], again[rows])
    given["calls"] = np.where(np.diff(values[:, TUNE], prepend=0.0)[rows] > 0.0, TUNES, 0)
    return Recorded(trial, trace, rows, given, readings[rows])


def _ideal(design: Design, trial: Trial, trace: Trace, wired: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    """What an ideal probe gave at each step, °C, before correction, checks and filter; NaN where nothing came."""
    noise = noise_of_probe(trial.seed, trace.steps, design.probe.noise_celsius)
    given = trace.probe_celsius + noise + design.probe.offset_celsius
    for row in np.flatnonzero(wired == STUCK):
        given[row] = given[row - 1] if row else given[row]
    given[(wired == OPEN) | (wired == SHORT)] = np.nan
    return given
