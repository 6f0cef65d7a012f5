"""Which kind of value an annotation stands for: of a function's arguments, of a named tuple's fields."""

from __future__ import annotations

import typing
from typing import Any

from calor.compiled.kinds import NOTHING, REAL, TRUTH, WHOLE, Array, Kind, Number, Row, Struct
from calor.compiled.problem import TranslationError

SHORT: dict[Number, str] = {REAL: "real", WHOLE: "whole", TRUTH: "truth"}


class Annotations:
    """The kinds that have been asked for, in an order in which C can declare them."""

    def __init__(self) -> None:
        self._structs: dict[Any, Struct | Array] = {}
        self.declared: list[Struct | Array] = []
        self.modules: set[str] = set()

    def hints(self, owner: Any) -> dict[str, Kind]:
        """The kinds of a function's arguments and result, or of a named tuple's fields."""
        self.modules.add(owner.__module__)
        found = typing.get_type_hints(owner, include_extras=True)
        return {name: self._kind(hint, owner, name) for name, hint in found.items()}

    def _kind(self, hint: Any, owner: Any, name: str) -> Kind:
        if hint in (float, int, bool):
            return {float: REAL, int: WHOLE, bool: TRUTH}[hint]
        if hint is type(None):
            return NOTHING
        if typing.get_origin(hint) is typing.Annotated and isinstance(hint.__metadata__[0], Row):
            return hint.__metadata__[0]
        if isinstance(hint, type) and issubclass(hint, tuple) and hasattr(hint, "_fields"):
            return self.struct_of(hint)
        if typing.get_origin(hint) is tuple and ... not in typing.get_args(hint):
            return self.tuple_of(tuple(self._kind(part, owner, name) for part in typing.get_args(hint)))
        raise TranslationError(
            f"{owner.__module__}.{owner.__qualname__}: {name}",
            f"no kind of value for {hint!r}",
            remedy="declare it as float, int, bool, a named tuple, a tuple, or Column, Table, Counts, Flags, Singles"
            " (docs/compiled-steps.md)",
        )

    def struct_of(self, made_by: Any) -> Struct:
        """The kind of a named tuple."""
        if made_by not in self._structs:
            kinds = self.hints(made_by)
            name = f"{made_by.__module__.partition('.')[2].replace('.', '_')}_{made_by.__name__.lstrip('_')}"
            struct = Struct(name, tuple(kinds), tuple(kinds.values()), made_by)
            self._structs[made_by] = struct
            self.declared.append(struct)
        found = self._structs[made_by]
        assert isinstance(found, Struct)
        return found

    def tuple_of(self, kinds: tuple[Kind, ...]) -> Struct | Array:
        """The kind of a tuple: an array where all its parts are numbers of one kind."""
        if kinds not in self._structs:
            alike = len(set(kinds)) == 1 and isinstance(kinds[0], Number)
            words = [SHORT[kind] if isinstance(kind, Number) else kind.c for kind in kinds]
            if alike and isinstance(kinds[0], Number):
                array = Array(f"{words[0]}_{len(kinds)}", kinds[0], len(kinds))
                self._structs[kinds] = array
                self.declared.append(array)
            else:
                struct = Struct("_".join(["tuple", *words]), tuple(f"i{k}" for k in range(len(kinds))), kinds, tuple)
                self._structs[kinds] = struct
                self.declared.append(struct)
        return self._structs[kinds]
