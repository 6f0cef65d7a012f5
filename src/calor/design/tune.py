"""Self-tuning asked for: what a person does at the device's front."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar, Literal

from calor.design.event import TUNE, Span, Timed
from calor.law.pid import Pid
from calor.settings import choice

if TYPE_CHECKING:
    from calor.design.model import Design


class Tune(Timed):
    """The law is asked to find its gains by a relay test."""

    is_instant = True
    disturbs: ClassVar[bool] = False
    kind: Literal["tune"] = choice("tune", "Event", "The law is asked to tune itself.", words={"tune": "Self-tuning"})

    @property
    def says(self) -> str:
        return "self-tuning asked for"

    def problem(self, design: Design) -> str:
        if isinstance(design.law, Pid) and design.law.autotune is not None:
            return ""
        return "asks for self-tuning, and the law has none; give a pid law a [law.autotune]"

    def change(self, design: Design, span: Span) -> None:
        del design
        span.values[span.during, TUNE] += 1.0
