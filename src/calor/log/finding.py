"""What is wrong with a record: a kind, where, how often, what was done about it, and what taking that back means."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

Kind = Literal[
    "text",
    "repeated",
    "falling",
    "wrapped",
    "reset",
    "gap",
    "no_reading",
    "error",
    "spike",
    "stuck",
    "rate",
    "clipped",
    "rounding",
]
TITLES: dict[str, str] = {
    "text": "Other text", "repeated": "Repeated times", "falling": "Falling times", "wrapped": "Counter wraps",
    "reset": "Resets", "gap": "Gaps", "no_reading": "No reading", "error": "Error values",
    "spike": "Spikes", "stuck": "Stuck readings",
    "rate": "Fast jumps", "clipped": "Clipped ends", "rounding": "Rounding",
}  # fmt: skip
CAN_BE_TAKEN_BACK = ("repeated", "falling", "wrapped", "reset", "gap", "error", "spike", "stuck", "rate", "clipped")
MOST_PLACES = 200
"""So many places of one kind are kept; the count is of all."""


@dataclass(frozen=True)
class Finding:
    """All places of one kind.

    `at_s` are the begins and `until_s` the ends, in s of the record. `done` says what was done, `otherwise` what is
    done instead where it is taken back; empty where there is nothing to take back. `taken_back` says whether it is.
    """

    kind: Kind
    count: int
    at_s: tuple[float, ...]
    until_s: tuple[float, ...]
    text: str
    done: str
    otherwise: str = ""
    taken_back: bool = False

    @property
    def title(self) -> str:
        """Its kind in words."""
        return TITLES[self.kind]

    def plain(self) -> dict[str, Any]:
        """As data."""
        return {
            "kind": self.kind, "count": self.count, "at_s": list(self.at_s), "until_s": list(self.until_s),
            "text": self.text, "done": self.otherwise if self.taken_back else self.done, "taken_back": self.taken_back,
        }  # fmt: skip
