"""How far the C in fixed point, or with a table, is from the C in float with the formula: measured, not estimated."""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np

from calor.design.model import Design
from calor.design.ranges import working_range
from calor.firmware.check.readings import scale
from calor.firmware.check.recorded import recorded
from calor.firmware.controller.seat import seated
from calor.firmware.run import host
from calor.firmware.sources.form import PLAIN, Form
from calor.loop import answer_row
from calor.loop import run as run_design


class Difference(NamedTuple):
    """The greatest differences over a design's trials: °C, counts of the converter, fractions.

    `reading_celsius`, and in counts, are on the same codes, over what the design works with; the others are between two
    runs of the loop, one under each program: of the temperature at most and as root of the mean square, of the mean
    demand, and of how often the outputs switch, as a share of that.
    """

    reading_celsius: float
    reading_counts: float
    temperature_celsius: float
    temperature_rms_celsius: float
    mean_demand: float
    switchings_fraction: float

    def data(self) -> dict[str, float]:
        """It as plain data."""
        return self._asdict()


BOUND = Difference(0.05, 1.0, math.inf, math.inf, 0.01, 0.05)
"""More than this is another thermostat. Of the reading the larger of both counts; where the loop swings a rounding
moves the switching, so temperatures at an instant are told and not bounded."""
FEW_SWITCHINGS = 40
"""So few switchings are counted as so many: one more or less is no difference."""


def beyond(apart: Difference) -> list[str]:
    """What of a difference is beyond the bound, in words."""
    found = []
    if apart.reading_celsius > BOUND.reading_celsius and apart.reading_counts > BOUND.reading_counts:
        found.append(
            f"reading {apart.reading_celsius:.2g} °C from the formula in float, beyond {BOUND.reading_celsius:g} °C and"
            f" {BOUND.reading_counts:g} count"
        )
    for name, value, most in (
        ("mean demand", apart.mean_demand, BOUND.mean_demand),
        ("switchings", apart.switchings_fraction, BOUND.switchings_fraction),
    ):
        if value > most:
            found.append(f"{name} {value * 100.0:.2g} % from float, beyond {most * 100.0:g} %")
    return found


def difference(design: Design, form: Form) -> Difference:
    """What a form of the C changes in the trials of a design, at most. Raises FirmwareError where it does not build."""
    found: list[tuple[float, ...]] = []
    codes, places = scale(design)
    known = np.isfinite(places)
    per_count = np.abs(np.gradient(places[known], codes[known]))
    low, high = working_range(design)
    order = np.argsort(places[known])
    for trial in design.trial:
        record = recorded(design, trial)
        plain, own = (host.rows(design, record.given, host.CHECKED_FLAGS, one) for one in (PLAIN, form))
        flags, at = answer_row.FLAGS, answer_row.MEASURED
        both = (plain[:, flags] == own[:, flags]) & ~answer_row.has_fault(plain)
        both &= (plain[:, at] >= low) & (plain[:, at] <= high)
        apart = np.abs(plain[:, at] - own[:, at])[both]
        counts = apart / np.interp(plain[both, at], places[known][order], per_count[order])
        traces: list[Any] = []
        for one in (PLAIN, form):
            with seated(design, "host", one) as seat:
                traces.append(run_design(design, trial, seat=seat))
        away = np.abs(traces[0].true_celsius - traces[1].true_celsius)
        demand = abs(float(traces[0].demand.mean() - traces[1].demand.mean()))
        switchings = [trace.switchings() for trace in traces]
        share = abs(switchings[0] - switchings[1]) / max(switchings[0], FEW_SWITCHINGS)
        found.append((
            float(apart.max(initial=0.0)), float(counts.max(initial=0.0)), float(away.max()),
            float(np.sqrt(np.mean(away**2))), demand, share,
        ))  # fmt: skip
    return Difference(*(max(values) for values in zip(*found, strict=True)))
