"""How far the C in fixed point, or with a table, is from the C in float with the formula: measured, not estimated."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from calor.design.model import Design
from calor.firmware.check import reference
from calor.firmware.check.recorded import Recorded, recorded
from calor.firmware.controller.seat import seated
from calor.firmware.run import host
from calor.firmware.sources.form import PLAIN, Form
from calor.loop import answer_row
from calor.loop import run as run_design


class Difference(NamedTuple):
    """The greatest differences over a design's trials, °C and fractions.

    `reading_celsius` is on the same codes; the others are between two runs of the loop, one under each program: of the
    temperature at most and as root of the mean square, and of the mean demand.
    """

    reading_celsius: float
    temperature_celsius: float
    temperature_rms_celsius: float
    mean_demand: float

    def data(self) -> dict[str, float]:
        """It as plain data."""
        return self._asdict()


def difference(design: Design, form: Form) -> Difference:
    """What a form of the C changes in the trials of a design, at most. Raises FirmwareError where it does not build."""
    found: list[tuple[float, ...]] = []
    for trial in design.trial:
        record = recorded(design, trial)
        plain, own = (host.rows(design, record.given, host.CHECKED_FLAGS, one) for one in (PLAIN, form))
        flags, at = answer_row.FLAGS, answer_row.MEASURED
        both = (plain[:, flags] == own[:, flags]) & ~answer_row.has_fault(plain)
        reading = np.abs(plain[:, at] - own[:, at])[both].max(initial=0.0)
        traces: list[Any] = []
        for one in (PLAIN, form):
            with seated(design, "host", one) as seat:
                traces.append(run_design(design, trial, seat=seat))
        apart = np.abs(traces[0].true_celsius - traces[1].true_celsius)
        demand = abs(float(traces[0].demand.mean() - traces[1].demand.mean()))
        found.append((float(reading), float(apart.max()), float(np.sqrt(np.mean(apart**2))), demand))
    return Difference(*(max(values) for values in zip(*found, strict=True)))


def expected_rows(design: Design, form: Form, record: Recorded) -> Any:
    """(measured, probe fault, demands) for inputs, as the reference of this form answers them."""
    if form.fixed or form.table:
        rows = host.rows(design, record.given, host.CHECKED_FLAGS, form)
    else:
        rows = reference.rows(design, record.given, record.readings)
    return rows[:, answer_row.MEASURED], answer_row.has_fault(rows), answer_row.demands(rows)
