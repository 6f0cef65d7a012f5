"""What is given to generated C and what it answers, as columns: one input and one row for each control step."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from calor.design.model import Design
from calor.loop import answer_row
from calor.sense.digital import Digital, code_to_word
from calor.sense.registry import AnyProbe, gives_code, numbers
from calor.sense.thermocouple import Thermocouple

CLOSED, OFF, RELEASES, TURNED, STARTS, SKIPS, RESUMES, CHANGES, TUNES, ENDS = (1 << k for k in range(10))
"""Calls that an input may ask for, a bit each: the button's contact is closed; it is switched off by hand, or a button
may do so; a trip is released; the knob is read; a program is started anew, skips a segment, or is resumed at segment
`knob` after `clock` seconds; the settings are changed, to others or back; self-tuning starts, or is stopped."""
NONE = -1e9
"""A setpoint, a time of day or a humidity that is not given."""


@dataclass(frozen=True)
class Answers:
    """What the C answered, one entry a control step.

    `demands` and `all_ticks` (outputs×steps): what was asked of each output, and its ticks switched on in the step,
    or its timer's counts; `demand` and `on_ticks` are the first one's. `alarms`: a bit for each.
    """

    measured_celsius: npt.NDArray[np.float32]
    setpoint_celsius: npt.NDArray[np.float32]
    flags: npt.NDArray[np.int64]
    alarms: npt.NDArray[np.int64]
    demands: npt.NDArray[np.float32]
    all_ticks: npt.NDArray[np.int64]

    @property
    def demand(self) -> npt.NDArray[np.float32]:
        """What was asked of the first output."""
        first: npt.NDArray[np.float32] = self.demands[0]
        return first

    @property
    def on_ticks(self) -> npt.NDArray[np.int64]:
        """Ticks that the first output was on, or its timer's counts."""
        first: npt.NDArray[np.int64] = self.all_ticks[0]
        return first


def row_width(design: Design) -> int:
    """Numbers in a row of answers."""
    return answer_row.width(len(design.outputs))


def answers_from(rows: npt.NDArray[np.float32]) -> Answers:
    """Answers from their rows (steps×width)."""
    columns = rows.T
    return Answers(
        columns[answer_row.MEASURED],
        columns[answer_row.SETPOINT],
        columns[answer_row.FLAGS].astype(np.int64),
        columns[answer_row.ALARMS].astype(np.int64),
        answer_row.demands(rows).T,
        answer_row.ticks(rows).T.astype(np.int64),
    )


def as_given(probe: AnyProbe, readings: npt.NDArray[np.float64]) -> npt.NDArray[Any]:
    """Readings as the C takes them: °C, sums of conversions, or words; a NaN is a sensor that does not answer."""
    if probe.kind == "ideal":
        return readings.astype(np.float32)
    if isinstance(probe, Digital | Thermocouple) and gives_code(probe):
        bits = probe.bits if isinstance(probe, Digital) else probe.converter_bits
        return np.array(
            [code_to_word(0 if np.isnan(k) else int(k), bits, probe, bool(np.isnan(k))) for k in readings], np.uint32
        )
    return np.round(np.nan_to_num(readings) * numbers(probe).firmware.adc.oversampling).astype(np.uint32)


LAYOUT = [
    *((name, np.float32) for name in ("other", "hand")), ("restart", np.uint32),
    *((name, np.float32) for name in ("dt", "put_in", "clock", "humidity", "asked")),
    *((name, np.uint32) for name in ("knob", "calls")),
]  # fmt: skip
"""An input beside its reading, as the adapter takes it."""


def inputs(
    design: Design,
    readings: npt.NDArray[np.float64],
    other_celsius: npt.NDArray[np.float64] | None = None,
    hand_output: npt.NDArray[np.float64] | None = None,
    restart: npt.NDArray[np.bool_] | None = None,
) -> npt.NDArray[Any]:
    """Inputs as the adapter takes them, one each control step.

    `readings` are counts as a run has them (°C for an ideal probe); `other_celsius` the second temperature or the
    signal that the design looks at, NaN where there is none; `hand_output` what is set by hand, NaN in automatic;
    `restart` where the controller starts afresh before the step. The rest is left out: a NaN step of time, no setpoint,
    clock or humidity put in, no demand asked of the handed-over switches alone, and none of the calls.
    """
    own = as_given(design.probe, readings)
    given = np.zeros(len(own), [("reading", own.dtype), *LAYOUT])
    given["reading"] = own
    given["other"] = np.nan if other_celsius is None else other_celsius
    given["hand"] = np.nan if hand_output is None else hand_output
    given["restart"] = 0 if restart is None else restart
    given["dt"] = given["asked"] = np.nan
    given["put_in"] = given["clock"] = given["humidity"] = NONE
    return given
