"""Heat from outside: on the load, as the sun or a lamp; or on the probe alone, as a hand or a hot-air gun.

The probe alone grows warmer by the heat over what it gives off per kelvin, with its own lag; the load does not notice.
"""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any, ClassVar, Literal, Self

from pydantic import model_validator

from calor.design.event import HEAT, PROBE_RISE, Span, Timed
from calor.load import registry as loads
from calor.settings import choice, number

if TYPE_CHECKING:
    from calor.design.model import Design

DAY_S = 86_400.0
PROBE_W_PER_K = 0.003
"""Heat that a small probe gives off to still air for each kelvin it is warmer (common practice: 1 to 5 mW/K)."""


class HeatAdded(Timed):
    """Heat from outside: sun, a lamp by the clock; or on the probe alone: a hand on it, a hot-air gun."""

    at_first: ClassVar[dict[str, Any]] = {"watt": 5.0, "for_s": 600.0}
    kind: Literal["heat_added"] = choice(
        "heat_added", "Event", "Heat from outside, on the load or on the probe alone.",
        words={"heat_added": "Heat from outside"},
    )  # fmt: skip
    watt: float = number(..., "Heat", "Heat that is added; below 0 it is taken away.", "watt", -1e6, 1e6)
    daily: bool = choice(False, "Every day", "Again at the same time of each day after the first.")
    on: Literal["load", "probe"] = choice(
        "load", "Warms", "The load (air, liquid, body, cold side), or the probe alone.",
        words={"load": "the load", "probe": "the probe"},
    )  # fmt: skip
    probe_w_per_k: float | None = number(
        None, "Probe dissipation", "With the probe alone: heat it gives off per kelvin; its own where left out.",
        "w_per_k", 1e-5, 100.0,
    )  # fmt: skip

    @model_validator(mode="after")
    def _a_day_at_most(self) -> Self:
        if self.daily and not 0.0 < self.for_s < DAY_S:
            raise ValueError(
                f"heat_added every day needs a for_s above 0 and below {DAY_S:g} (received {self.for_s:g})"
            )
        return self

    @property
    def says(self) -> str:
        where = "on the probe alone " if self.on == "probe" else ""
        return f"{self.watt:g} W of heat {where}{'each day' if self.daily else ''}".rstrip()

    def problem(self, design: Design) -> str:
        if self.on == "probe" or loads.loses_heat(design.load):
            return ""
        return (
            f"adds {self.watt:g} W, and a load of kind {design.load.kind} knows no watts;"
            ' use a lump, chamber, liquid or thermoelectric load, or on = "probe"'
        )

    def spans_s(self, span_s: float, watchdog_s: float | None) -> list[tuple[float, float]]:
        first_s = self.at_s
        if not self.daily:
            return super().spans_s(span_s, watchdog_s)
        days = max(1, math.ceil((span_s - first_s) / DAY_S))
        return [(first_s + day * DAY_S, first_s + day * DAY_S + self.for_s) for day in range(days)]

    def change(self, design: Design, span: Span) -> None:
        if self.on == "load":
            span.values[span.during, HEAT] += self.watt
            return
        own = getattr(design.probe, "dissipation_w_per_k", math.inf)
        given = self.probe_w_per_k or (own if math.isfinite(own) else PROBE_W_PER_K)
        span.values[span.during, PROBE_RISE] += self.watt / given
