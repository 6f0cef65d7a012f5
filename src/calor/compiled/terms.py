"""A piece of C on its way: its text, its kind, and how tightly it holds together."""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np

from calor.compiled.kinds import REAL, TRUTH, WHOLE, Kind
from calor.compiled.words import spelled

PRIMARY, UNARY, TIMES, PLUS, ORDER, EQUAL, AND, OR, CHOICE = range(9, 0, -1)
"""How tightly C's operators bind, the tightest first."""


class Term(NamedTuple):
    """An expression in C. A `pointer` is the address of a value of its kind; a `place` has an address."""

    text: str
    kind: Kind
    level: int = PRIMARY
    pointer: bool = False
    place: bool = False

    def at(self, level: int) -> str:
        """Its text for where something binds as `level` does: in brackets where it binds less tightly."""
        return self.text if self.level >= level else f"({self.text})"

    @property
    def value(self) -> str:
        """The value itself, where it may be an address."""
        return f"*{self.at(UNARY)}" if self.pointer else self.text

    def field(self, name: str, kind: Kind) -> Term:
        """One of its fields."""
        sign = "->" if self.pointer else "."
        return Term(f"{self.at(PRIMARY)}{sign}{spelled(name)}", kind, place=self.pointer or self.place)


def number(value: Any) -> Term | None:
    """A number as C has it, to the bit; None for what is no number."""
    if isinstance(value, bool | np.bool_):
        return Term("true" if value else "false", TRUTH)
    if isinstance(value, int | np.integer):
        text = str(int(value)) if abs(int(value)) < 2**31 else f"INT64_C({int(value)})"
        return Term(text, WHOLE, PRIMARY if value >= 0 else UNARY)
    if isinstance(value, float | np.floating):
        x = float(value)
        text = "NAN" if math.isnan(x) else ("-" * (x < 0) + "INFINITY") if math.isinf(x) else repr(x)
        return Term(text, REAL, UNARY if text.startswith("-") else PRIMARY)
    return None
