"""What every event of a trial has, and the conditions that an event may change while it lasts."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar, NamedTuple

import numpy as np
import numpy.typing as npt

from calor.compiled import Column, Table
from calor.law.outputs import MOST_OUTPUTS
from calor.settings import Settings, duration, kind_word

if TYPE_CHECKING:
    from calor.design.model import Design

(
    AMBIENT, EXTRA, POWER, SETPOINT, WIRED, SIGNAL, HAND, STALLED, ADDED, ADDED_CELSIUS, HUMIDITY,
    RECORDED, HEAT, PROBE_RISE, TUNE, FALLEN, PROBE_LAG, SWITCH_FAULT,
) = range(18)  # fmt: skip
"""Columns of the conditions: ambient (°C), extra loss (W/K), power as a fraction (below 0: mains lost), setpoint put
there (°C; NaN: none), the probe's wiring, the signal a setpoint follows (°C; NaN: none), the output set by hand (NaN:
automatic), whether the firmware hangs, heat capacity put in at this instant (J/K) and its temperature (°C), the air's
relative humidity (0 to 1), an output as it was recorded, below 0 the cooling one (NaN: none), heat from outside (W),
how much hotter something makes the probe alone in the end (°C), how often self-tuning was asked for so far, whether
the probe has fallen out into the ambient, a time constant of the probe that is not its own (s; 0: its own), and the
faults of the switches, a column for each output."""
COLUMNS = SWITCH_FAULT + MOST_OUTPUTS


class Span(NamedTuple):
    """Rows of the conditions: their instants, s, what holds in them (rows × COLUMNS), and those an event lasts over."""

    at_s: Column
    values: Table
    during: npt.NDArray[np.bool_]


class Timed(Settings):
    """What all events have: when they start and how long they last, and what they do."""

    at_s: float = duration(..., "Start time", "When it starts.", 0.0, 1e8)
    for_s: float = duration(0.0, "Duration", "How long it lasts; 0: to the end of the trial.", 0.0, 1e8)
    sets_setpoint: ClassVar[bool] = False
    """Whether the setpoint is put somewhere from outside, which a locked one refuses."""
    is_instant: ClassVar[bool] = False
    """Whether it is over as it happens, and stays."""
    disturbs: ClassVar[bool] = True
    """Whether the law has to recover from it."""
    at_first: ClassVar[dict[str, Any]] = {}
    """What an event is set to as it is added on the desk."""
    writes: ClassVar[tuple[int, float] | None] = None
    """The condition it puts to one value while it lasts, and the value, where that is all it does."""
    if TYPE_CHECKING:
        kind: str

    @property
    def says(self) -> str:
        """What happens, in a few words."""
        return kind_word(type(self)).lower()

    def problem(self, design: Design) -> str:
        """What of a design it does not go with, and what would do; empty where it does."""
        del design
        return ""

    def end_s(self, span_s: float, watchdog_s: float | None) -> float:
        """When it ends; past the trial where it does not."""
        del watchdog_s
        return self.at_s + self.for_s if self.for_s else max(span_s, self.at_s) + 1.0

    def spans_s(self, span_s: float, watchdog_s: float | None) -> list[tuple[float, float]]:
        """(begin, end) of each time that it happens in a trial of `span_s`."""
        return [(self.at_s, self.end_s(span_s, watchdog_s))]

    def change(self, design: Design, span: Span) -> None:
        """Write what it does into the conditions."""
        del design
        if self.writes is None:
            raise NotImplementedError
        column, value = self.writes
        span.values[span.during, column] = value
