"""What two designs differ in, key by key."""

from __future__ import annotations

import re
from typing import Any, NamedTuple

from pydantic import BaseModel
from pydantic.fields import FieldInfo

from calor.design.model import Design
from calor.scales import plain, value_and_unit
from calor.units import TemperatureUnit


class Change(NamedTuple):
    """One key with its value in one design and in another, None where it has none there, and its field in each."""

    key: str
    before: Any
    after: Any
    fields: tuple[FieldInfo | None, FieldInfo | None] = (None, None)

    def __str__(self) -> str:
        return f"{self.key}: {plain(self.before)} → {plain(self.after)}"

    def turned(self) -> Change:
        """The same change the other way."""
        return Change(self.key, self.after, self.before, self.fields[::-1])

    def words(self, unit: TemperatureUnit = "°C") -> str:
        """It as the desk would say it: Gain 22 → 30 % per °C."""
        field, parts = self.fields[0] or self.fields[1], [_entry(part) for part in self.key.split(".")]
        # a block's settings are known by their titles; what a list holds, by the list and its place in it
        place = [part for part in parts[:-1] if part[-1:].isdigit()]
        if parts[-1] == "kind":
            place = place or parts[:-1]
        else:
            place.append(field.title if field is not None and field.title else parts[-1].replace("_", " "))
        before, after = (value_and_unit(*one, unit) for one in zip((self.before, self.after), self.fields, strict=True))
        # a unit that both have is said once
        first = before[0] if before[1] == after[1] else " ".join(before).strip()
        said = f"{' '.join(place)} {first} → {' '.join(after).strip()}"
        return said[:1].upper() + said[1:]


def _entry(part: str) -> str:
    """A part of a key in words: events[2] is event 2."""
    found = re.fullmatch(r"(\w+?)s?\[(\d+)\](\[\d+\])?", part)
    return part if found is None else f"{found[1].replace('_', ' ')} {found[2]}"


def difference(before: Design, after: Design) -> list[Change]:
    """The keys in which two designs differ, in the order of the file; entries of lists are counted from 1."""
    old, new = _flat("", before, None), _flat("", after, None)
    keys = dict.fromkeys((*old, *new))
    changes = []
    for key in keys:
        (one, of_one), (other, of_other) = old.get(key, (None, None)), new.get(key, (None, None))
        if one != other:
            changes.append(Change(key, one, other, (of_one, of_other)))
    return changes


def _flat(key: str, value: Any, field: FieldInfo | None) -> dict[str, tuple[Any, FieldInfo | None]]:
    """A tree of settings as one level of keys, each with its field: law.gain_per_celsius, trial[2].events[1].at_s."""
    inner: dict[str, tuple[Any, FieldInfo | None]]
    if isinstance(value, BaseModel):
        fields = type(value).model_fields
        inner = {f"{key}.{name}" if key else name: (getattr(value, name), one) for name, one in fields.items()}
    elif isinstance(value, dict):
        inner = {f"{key}.{name}": (item, None) for name, item in value.items()}
    elif isinstance(value, list | tuple):
        inner = {f"{key}[{number}]": (item, field) for number, item in enumerate(value, 1)}
    else:
        return {key: (value, field)}
    return {name: found for part, (item, one) in inner.items() for name, found in _flat(part, item, one).items()}
