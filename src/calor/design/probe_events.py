"""What happens to a probe as a whole: it falls out of what it measures, or follows it far too slowly."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar, Literal

from calor.design.event import FALLEN, PROBE_LAG, Span, Timed
from calor.settings import choice, duration

if TYPE_CHECKING:
    from calor.design.model import Design


class ProbeFallen(Timed):
    """The probe has fallen out of the load: it reads the ambient, which the law takes for the load."""

    writes = (FALLEN, 1.0)
    at_first: ClassVar[dict[str, Any]] = {"for_s": 300.0}
    kind: Literal["probe_fallen"] = choice(
        "probe_fallen", "Event", "The probe has fallen out of the load and reads the ambient.",
        words={"probe_fallen": "Probe fallen out"},
    )  # fmt: skip


class ProbeSlow(Timed):
    """The probe follows far too slowly: loose in its pocket, without paste, in still air."""

    kind: Literal["probe_slow"] = choice(
        "probe_slow", "Event", "The probe follows far too slowly: loose in its pocket, or without paste.",
        words={"probe_slow": "Probe slow"},
    )  # fmt: skip
    time_constant_s: float = duration(300.0, "Time constant", "Of the probe while it lasts.", 0.001, 1e5)

    @property
    def says(self) -> str:
        return f"probe slow, {self.time_constant_s:g} s"

    def change(self, design: Design, span: Span) -> None:
        del design
        span.values[span.during, PROBE_LAG] = self.time_constant_s
