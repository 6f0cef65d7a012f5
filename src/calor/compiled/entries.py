"""The marks that put a function among the compiled steps."""

from __future__ import annotations

import functools
from collections.abc import Callable
from typing import Any, Generic, ParamSpec, TypeVar

P = ParamSpec("P")
R = TypeVar("R")
F = TypeVar("F", bound=Callable[..., Any])

ENTRIES: dict[str, Entry[..., Any]] = {}
"""All entries that have been imported, by their name in C."""
STEPS: set[Any] = set()
"""All functions that may be called in C."""


FINDERS: list[Callable[[Entry[..., Any]], tuple[Callable[..., Any], bool]]] = []
"""How an entry's C is found, and whether that is for good; the library of compiled steps puts itself here."""


def c_name(python: Any) -> str:
    """What a function is called in C: its module, below the package, and its own name."""
    return f"{python.__module__.partition('.')[2].replace('.', '_')}_{python.__name__.lstrip('_')}"


def compiled(function: F) -> F:
    """Mark a step. In Python it stays the function it is."""
    STEPS.add(function)
    return function


class Entry(Generic[P, R]):
    """A function that runs as C when Python calls it; `python` is the same function uncompiled."""

    def __init__(self, python: Callable[P, R], in_one_piece: bool = False) -> None:
        self.python, self.in_one_piece = python, in_one_piece
        self.name = c_name(python)
        self._native: Callable[P, R] | None = None
        functools.update_wrapper(self, python)

    def __call__(self, *args: P.args, **kwargs: P.kwargs) -> R:
        if self._native is None:
            call, to_stay = FINDERS[-1](self)
            if not to_stay:
                passing: R = call(*args, **kwargs)
                return passing
            self._native = call
        return self._native(*args, **kwargs)

    def forget(self) -> None:
        """Look the C up again at the next call."""
        self._native = None


def entry(function: Callable[P, R]) -> Entry[P, R]:
    """Mark a step that Python calls: it takes whole columns, and fills those it is given."""
    return _enter(Entry(function))


def entry_in_one_piece(function: Callable[P, R]) -> Entry[P, R]:
    """As `entry`, for the few that take the time: the C of all they call is put into them, which takes longest to
    compile and runs fastest."""
    return _enter(Entry(function, in_one_piece=True))


def _enter(found: Entry[P, R]) -> Entry[P, R]:
    STEPS.update((found, found.python))
    ENTRIES[found.name] = found
    return found
