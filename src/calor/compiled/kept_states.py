"""The states of a family's kinds in one row of numbers, each kind in its own part of it.

A step reads the part of the kind in use, and writes it where it lies: handing on the states of all kinds takes longer
than many a step.
"""

from __future__ import annotations

import typing
from collections.abc import Iterator
from typing import Any, NamedTuple

from calor.compiled.family import step_of
from calor.compiled.kinds import Column

_READ = {bool: "{} != 0.0", int: "int({})"}
_WRITTEN = {bool: "1.0 if {} else 0.0", int: "float({})"}


class Kept(NamedTuple):
    """The steps that read one kind's state from the row, and write it there."""

    read: Any
    write: Any


def _parts(state: Any) -> Iterator[tuple[str, list[str], list[Any]]]:
    """(field, its numbers as they are read from a state, their types) of each field."""
    for name, kind in typing.get_type_hints(state).items():
        items = typing.get_args(kind)
        if items:
            yield name, [f"state.{name}[{k}]" for k in range(len(items))], list(items)
        else:
            yield name, [f"state.{name}"], [kind]


def size_of(state: Any) -> int:
    """How many numbers a state is."""
    return sum(len(numbers) for _, numbers, _ in _parts(state))


def numbers_of(state: Any) -> list[float]:
    """A state as numbers, in the order in which a row keeps them."""
    return [float(n) for part in state for n in (part if isinstance(part, tuple) else (part,))]


def kept_states(place: str, states: dict[str, Any]) -> dict[str, Kept]:
    """The steps that keep the state of each kind, as functions of the module `place`; `states` are their classes, by
    kind, in the order in which the row has them."""
    kept, at = {}, 0
    for kind, state in states.items():
        fields, writes = [], []
        for _, numbers, types in _parts(state):
            reads = []
            for number, type_ in zip(numbers, types, strict=True):
                reads.append(_READ.get(type_, "{}").format(f"row[{at}]"))
                writes.append(f"    row[{at}] = {_WRITTEN.get(type_, '{}').format(number)}")
                at += 1
            fields.append(reads[0] if len(reads) == 1 else f"({', '.join(reads)})")
        uses = {"Column": Column, state.__name__: state}
        read = [
            f"def kept_{kind}(row: Column) -> {state.__name__}:",
            f'    """The state of {kind} as the row keeps it."""',
            f"    return {state.__name__}({', '.join(fields)})",
        ]
        write = [
            f"def keep_{kind}(state: {state.__name__}, row: Column) -> None:",
            f'    """Keep the state of {kind} in the row."""',
            *writes,
        ]
        kept[kind] = Kept(
            step_of(f"kept_{kind}", place, read, **uses), step_of(f"keep_{kind}", place, write, **uses)
        )  # fmt: skip
    return kept
