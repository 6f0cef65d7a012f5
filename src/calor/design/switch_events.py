"""What a switch may do that nobody asked of it: stay on, stay off, be the wrong way round, bounce."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar, Literal

from calor.design.event import SWITCH_FAULT, Span, Timed
from calor.drive import registry as drives
from calor.law.outputs import MOST_OUTPUTS
from calor.settings import choice, kind_word, number

if TYPE_CHECKING:
    from calor.design.model import Design

INVERTED, STUCK_ON, STUCK_OFF, BOUNCING = 1.0, 2.0, 3.0, 4.0
"""Faults of a switch."""


class SwitchFault(Timed):
    """What faults of a switch share: which output's it is."""

    fault: ClassVar[float] = 0.0
    at_first: ClassVar[dict[str, Any]] = {"for_s": 300.0}
    output: int = number(1, "Output", "Whose switch it is; 1 is the first output.", "integer", 1, MOST_OUTPUTS)

    @property
    def says(self) -> str:
        of = f" of output {self.output}" if self.output > 1 else ""
        return kind_word(type(self)).lower() + of

    def problem(self, design: Design) -> str:
        count = len(design.outputs)
        if self.output <= count:
            return ""
        return f"is about the switch of output {self.output}, and the law has {count}; give output = 1 to {count}"

    def change(self, design: Design, span: Span) -> None:
        del design
        span.values[span.during, SWITCH_FAULT + self.output - 1] = self.fault


class OutputStuckOn(SwitchFault):
    """The switch stays on: a welded contact, a solid-state relay that failed shorted."""

    fault = STUCK_ON
    kind: Literal["output_stuck_on"] = choice(
        "output_stuck_on",
        "Event",
        "The switch stays on: welded or shorted.",
        words={"output_stuck_on": "Switch stuck on"},
    )


class OutputStuckOff(SwitchFault):
    """The switch stays off: a broken wire, a burnt-out element."""

    fault = STUCK_OFF
    kind: Literal["output_stuck_off"] = choice(
        "output_stuck_off",
        "Event",
        "The switch, or what it feeds, stays off.",
        words={"output_stuck_off": "Switch stuck off"},
    )


class OutputInverted(SwitchFault):
    """An active-low module wired as an active-high one: on where it should be off."""

    fault = INVERTED
    kind: Literal["output_inverted"] = choice(
        "output_inverted",
        "Event",
        "An active-low module driven as an active-high one.",
        words={"output_inverted": "Output inverted"},
    )


class OutputBouncing(SwitchFault):
    """The contact bounces: each time it closes it opens and closes again some times, which wears it."""

    fault = BOUNCING
    kind: Literal["output_bouncing"] = choice(
        "output_bouncing",
        "Event",
        "The contact opens and closes again some times as it closes.",
        words={"output_bouncing": "Contact bounces"},
    )

    def problem(self, design: Design) -> str:
        wrong = super().problem(design)
        drive = design.drive_of(self.output - 1).kind
        if wrong or drive in drives.SWITCHES:
            return wrong
        return f"lets a contact bounce, and a {drive} drive has none; use a relay or time_proportional drive"
