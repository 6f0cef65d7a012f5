"""Kept runs found: by words, tag, design, verdict and date; sorted by any figure; and two of them compared."""

from __future__ import annotations

import datetime
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from calor.design.difference import Change, difference
from calor.design.file import parse
from calor.errors import CalorError
from calor.journal.entry import Kept
from calor.units import TemperatureUnit

PLAIN_KEYS = ("number", "made", "design", "trial", "verdict", "span_s")


@dataclass(frozen=True)
class Wanted:
    """What is looked for: every one that is given has to hold. Dates are ISO days, both included."""

    text: str = ""
    tag: str = ""
    design: str = ""
    verdict: str = ""
    since: str = ""
    until: str = ""

    def __post_init__(self) -> None:
        for name in ("since", "until"):
            value = getattr(self, name)
            if value:
                try:
                    datetime.date.fromisoformat(value)
                except ValueError:
                    raise CalorError(name, "takes a day as 2026-11-02", repr(value)) from None

    def among(self, entries: list[Kept]) -> list[Kept]:
        """The runs that are wanted, in the order in which they are given."""
        found = list(entries)
        for word in self.text.lower().split():
            found = [entry for entry in found if word in entry.words]
        if self.tag:
            wanted = self.tag.lower()
            found = [entry for entry in found if wanted in (tag.lower() for tag in entry.tags)]
        if self.design:
            wanted = self.design.lower()
            found = [entry for entry in found if wanted in entry.design.lower()]
        if self.verdict:
            found = [entry for entry in found if entry.verdict == self.verdict]
        if self.since:
            found = [entry for entry in found if entry.made[:10] >= self.since]
        if self.until:
            found = [entry for entry in found if entry.made[:10] <= self.until]
        return found


def sort_keys(entries: Iterable[Kept]) -> list[str]:
    """By what runs can be sorted: what all have, and every figure that one has."""
    figures = dict.fromkeys(key for entry in entries for key in entry.metrics)
    return [*PLAIN_KEYS, *figures]


def ordered(entries: list[Kept], key: str, is_falling: bool = False) -> list[Kept]:
    """The runs by a figure or by what all have; those without it come last. Raises CalorError for an unknown key."""
    if entries and key not in sort_keys(entries):
        raise CalorError("sort", f"takes one of {', '.join(sort_keys(entries))}", repr(key))
    there = [entry for entry in entries if _value(entry, key) is not None]
    rest = [entry for entry in entries if _value(entry, key) is None]
    return [*sorted(there, key=lambda entry: _value(entry, key), reverse=is_falling), *rest]


def _value(entry: Kept, key: str) -> Any:
    if key in PLAIN_KEYS:
        return getattr(entry, key)
    return figure(entry, key)


def figure(entry: Kept, key: str) -> float | None:
    """A figure of a run: of several the largest, None where one never came."""
    value = entry.metrics.get(key)
    if isinstance(value, list):
        return None if not value or None in value else float(max(value))
    return None if value is None else float(value)


@dataclass(frozen=True)
class Compared:
    """Two runs side by side: each figure of both, and in what their designs differ, key by key."""

    first: Kept
    second: Kept
    figures: tuple[tuple[str, float | None, float | None], ...]
    changes: tuple[Change, ...]

    def in_words(self, unit: TemperatureUnit) -> list[str]:
        """In what the designs differ, from that of the older run to that of the newer."""
        is_turned = self.second.made < self.first.made
        return [(one.turned() if is_turned else one).words(unit) for one in self.changes]

    def plain(self) -> dict[str, Any]:
        """It as data."""
        return {
            "first": self.first.plain(),
            "second": self.second.plain(),
            "figures": [{"name": name, "first": one, "second": other} for name, one, other in self.figures],
            "design": [{"key": one.key, "first": one.before, "second": one.after} for one in self.changes],
        }


def compared(first: Kept, second: Kept, first_design: str, second_design: str) -> Compared:
    """Two runs compared; designs by their text, empty where a run has none."""
    keys = dict.fromkeys((*first.metrics, *second.metrics))
    figures = tuple((key, figure(first, key), figure(second, key)) for key in keys)
    changes: tuple[Change, ...] = ()
    if first_design and second_design:
        changes = tuple(difference(_design(first_design), _design(second_design)))
    return Compared(first, second, figures, changes)


def _design(text: str) -> Any:
    """A kept design without the files it names, which lie in the journal: they are compared by name."""
    return parse(text, reads_files=False)
