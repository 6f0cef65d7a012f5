"""One C file: the kinds, constants and functions that the entries need, each written when it is first met."""

from __future__ import annotations

import ast
import inspect
import re
from importlib import resources
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from calor.compiled.annotations import Annotations
from calor.compiled.body import Body, wrapped
from calor.compiled.entries import Entry, c_name
from calor.compiled.expressions import Expressions
from calor.compiled.kinds import (
    NOTHING,
    REAL,
    WHOLE,
    Array,
    Constant,
    Kind,
    Number,
    Struct,
    bytes_of,
)  # fmt: skip
from calor.compiled.problem import problem
from calor.compiled.terms import Term, number
from calor.compiled.words import spelled

BY_ADDRESS_BYTES = 16
"""Named tuples that are larger are handed on by their address: copying them costs more than reading through it."""


class Signature(NamedTuple):
    """What a function is called in C, what it takes and what it gives."""

    name: str
    kinds: dict[str, Kind]
    result: Kind


class Unit(Annotations):
    """The C of some entries."""

    def __init__(self) -> None:
        super().__init__()
        self._arrays: dict[int, tuple[Constant, Any]] = {}
        self._numbers: dict[str, str] = {}
        self._signatures: dict[Any, Signature] = {}
        self._bodies: list[str] = []
        self._under_way: list[Any] = []
        self._exports: list[str] = []

    def is_by_address(self, kind: Kind) -> bool:
        """Whether a function takes a value of a kind by its address."""
        return isinstance(kind, Struct | Array) and bytes_of(kind) > BY_ADDRESS_BYTES

    # numbers and arrays of modules

    def _home(self, node: ast.expr, space: dict[str, Any]) -> tuple[str, str]:
        """(module, name) of what a name of a module stands for."""
        if isinstance(node, ast.Attribute):
            owner = space.get(node.value.id) if isinstance(node.value, ast.Name) else None
            return getattr(owner, "__name__", ""), node.attr
        return str(space["__name__"]), ast.unparse(node)

    def named_number(self, node: ast.expr, space: dict[str, Any], term: Term) -> Term:
        """A number of a module under a name of its own, so that the C says what it is."""
        module, name = self._home(node, space)
        package, _, rest = module.partition(".")
        if package != __name__.partition(".")[0] and not rest:
            return term
        self.modules.add(module)
        spelled = f"{rest.replace('.', '_')}_{name.lstrip('_')}"
        if spelled not in self._numbers:
            kind = term.kind.c
            self._numbers[spelled] = f"static const {kind} {spelled} = {term.text};"
        return Term(spelled, term.kind)

    def constant(self, values: npt.NDArray[Any], node: ast.expr, space: dict[str, Any]) -> Constant:
        """An array of a module, written out."""
        if id(values) not in self._arrays:
            module, name = self._home(node, space)
            self.modules.add(module)
            item = WHOLE if values.dtype.kind == "i" else REAL
            found = Constant(f"{module.partition('.')[2].replace('.', '_')}_{name.lstrip('_')}", item, values.shape)
            self._arrays[id(values)] = (found, values)
        return self._arrays[id(values)][0]

    def _array_text(self, constant: Constant, values: npt.NDArray[Any]) -> str:
        terms = [number(x) for x in np.asarray(values).ravel()]
        words = [term.text for term in terms if term is not None]
        rows = [", ".join(words[k : k + 6]) for k in range(0, len(words), 6)]
        return f"static const {constant.item.c} {constant.c}[{values.size}] = {{\n    " + ",\n    ".join(rows) + "\n};"

    # functions

    def require(self, python: Any, node: ast.AST | None = None, caller: Expressions | None = None) -> Signature:
        """The signature of a step; its C is written where it is not yet. Raises TranslationError."""
        if python in self._under_way and node is not None and caller is not None:
            raise caller.fail(node, "a step that calls itself", "use a loop")
        if python not in self._signatures:
            kinds = self.hints(python)
            result = kinds.pop("return", NOTHING)
            missing = set(inspect.signature(python).parameters) - set(kinds)
            if missing:
                what = f"an argument without annotation: {min(missing)}"
                raise problem(python, ast.Name(min(missing)), what, "say which kind of value it is")
            signature = Signature(c_name(python), kinds, result)
            if signature.name in {one.name for one in self._signatures.values()}:
                raise problem(python, ast.Name(python.__name__), "two steps of one name in C", "rename one of them")
            self._under_way.append(python)
            try:
                text = Body(self, python, signature).text()
            finally:
                self._under_way.pop()
            self._signatures[python] = signature
            self._bodies.append(f"/* {python.__module__} */\n{text}")
        return self._signatures[python]

    def export(self, entry: Entry[..., Any]) -> None:
        """Make an entry callable from outside: tuples and rows by their address, numbers as they are."""
        signature = self.require(entry.python)
        takes, gives = [], []
        for name, kind in signature.kinds.items():
            if isinstance(kind, Number):
                takes.append(f"{kind.c} {name}_")
                gives.append(f"{name}_")
            else:
                takes.append(f"const {kind.c} *{name}_")
                gives.append(f"{name}_" if self.is_by_address(kind) else f"*{name}_")
        call = f"{signature.name}({', '.join(gives)})"
        result = signature.result
        if not isinstance(result, Number):
            raise problem(entry.python, ast.Name("result"), "an entry that gives a tuple", "fill a row that is given")
        back = "" if result == NOTHING else "return "
        piece = "__attribute__((flatten)) " if entry.in_one_piece else ""
        head = wrapped(f"{piece}EXPORTED {result.c} calor_{signature.name}({', '.join(takes)})")
        self._exports.append(f"{head}\n{{\n{wrapped(f'    {back}{call};')}\n}}")

    def text(self) -> str:
        """The whole file."""
        runtime = resources.files("calor.compiled").joinpath("runtime.c").read_text(encoding="utf-8")
        arrays = [self._array_text(*found) for found in self._arrays.values()]
        types = "\n".join(_typedef(kind) for kind in self.declared)
        parts = [runtime, types, "\n".join(self._numbers.values()), *arrays, *self._bodies, *self._exports]
        return re.sub(r"[ \t]+\n", "\n", "\n\n".join(part for part in parts if part)) + "\n"


def _typedef(kind: Struct | Array) -> str:
    if isinstance(kind, Array):
        return f"typedef struct {{ {kind.item.c} v[{kind.count}]; }} {kind.c};"
    fields = "".join(f"    {part.c} {spelled(name)};\n" for name, part in zip(kind.names, kind.kinds, strict=True))
    return f"typedef struct {{\n{fields}}} {kind.c};"
