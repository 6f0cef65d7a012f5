"""A family of kinds, made from the list of their modules: its records, and the step that carries out any of them.

So that one kind more is one module and one word in a list. What is made is as if it had been written out: a named
tuple, and a step whose source the translator reads.
"""

from __future__ import annotations

import linecache
import sys
import typing
from collections.abc import Callable, Iterable
from types import ModuleType
from typing import Any, NamedTuple

from calor.compiled.entries import compiled


def name_of(module: ModuleType) -> str:
    """What a kind is called: as its module."""
    return module.__name__.rpartition(".")[2]


def made_by(function: Callable[..., Any]) -> Any:
    """The type that a function answers."""
    return typing.get_type_hints(function)["return"]


def record(name: str, place: str, fields: dict[str, Any]) -> Any:
    """A named tuple with these fields, as a class of the module `place`."""
    made: Any = NamedTuple(name, list(fields.items()))  # type: ignore[misc]
    made.__module__ = place
    return made


def step_of(name: str, place: str, lines: Iterable[str], **uses: Any) -> Any:
    """A compiled step from the lines of its source, as a function of the module `place`; `uses` are names in them."""
    source = "\n".join(lines) + "\n"
    file = f"<{place}.{name}>"
    linecache.cache[file] = (len(source), None, source.splitlines(keepends=True), file)
    names = vars(sys.modules[place])
    names.update(uses)
    exec(compile(source, file, "exec", dont_inherit=True, flags=_ANNOTATIONS), names)
    return compiled(names[name])


_ANNOTATIONS = __import__("__future__").annotations.compiler_flag
