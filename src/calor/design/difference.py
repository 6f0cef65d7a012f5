"""What two designs differ in, key by key."""

from __future__ import annotations

from typing import Any, NamedTuple

from calor.design.model import Design


class Change(NamedTuple):
    """One key with its value in one design and in another; None where it has none there."""

    key: str
    before: Any
    after: Any

    def __str__(self) -> str:
        return f"{self.key}: {_shown(self.before)} → {_shown(self.after)}"


def difference(before: Design, after: Design) -> list[Change]:
    """The keys in which two designs differ, in the order of the file; entries of lists are counted from 1."""
    old, new = _flat("", before.model_dump()), _flat("", after.model_dump())
    keys = dict.fromkeys((*old, *new))
    return [Change(key, old.get(key), new.get(key)) for key in keys if old.get(key) != new.get(key)]


def _flat(key: str, value: Any) -> dict[str, Any]:
    """A tree of settings as one level of keys: law.gain_per_celsius, trial[2].events[1].at_s."""
    if isinstance(value, dict):
        inner = {f"{key}.{name}" if key else name: item for name, item in value.items()}
    elif isinstance(value, list | tuple):
        inner = {f"{key}[{number}]": item for number, item in enumerate(value, 1)}
    else:
        return {key: value}
    return {name: item for part, item in inner.items() for name, item in _flat(part, item).items()}


def _shown(value: Any) -> str:
    if value is None:
        return "none"
    if isinstance(value, bool):
        return "yes" if value else "no"
    return f"{value:.6g}" if isinstance(value, float) else str(value)
