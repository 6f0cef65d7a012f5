"""Which kind of value each local name of a step has, and which of them are read where they lie."""

from __future__ import annotations

import ast
from typing import TYPE_CHECKING, Any

from calor.compiled import declarations
from calor.compiled.expressions import Expressions, python_word
from calor.compiled.kinds import NOTHING, REAL, SINGLE, WHOLE, Array, Kind, Struct
from calor.compiled.problem import TranslationError

if TYPE_CHECKING:
    from calor.compiled.unit import Signature, Unit


class LocalNames(Expressions):
    """A function whose names are known."""

    def __init__(self, unit: Unit, python: Any, signature: Signature, tree: ast.FunctionDef) -> None:
        super().__init__(unit, python)
        self.signature, self.tree = signature, tree
        self.statements = tree.body[1:] if ast.get_docstring(tree) is not None else tree.body
        self.declared, self.at_top, self.once = declarations.places(self.statements, set(signature.kinds))
        self.assigned = {name for name, use in declarations.uses(self.statements) if use.stores}
        self.loops: dict[str, int] = {}

    def find_kinds(self) -> None:
        """By what each name is given, gone over until nothing changes; a name given int and float is a float."""
        stores: dict[str, list[ast.expr | None]] = {}
        while True:
            known, stores = dict(self.kinds), {}
            for node in ast.walk(self.tree):
                if isinstance(node, ast.Assign):
                    for target in node.targets:
                        self._note(target, node.value, stores)
                elif isinstance(node, ast.For) and isinstance(node.target, ast.Name):
                    self._take(node.target, WHOLE)
                    self.loops[node.target.id] = self.loops.get(node.target.id, 0) + 1
                elif isinstance(node, ast.AugAssign) and isinstance(node.target, ast.Name):
                    binary = ast.copy_location(ast.BinOp(read_again(node.target), node.op, node.value), node)
                    self._note(node.target, binary, stores)
            if known == self.kinds:
                break
        for name, values in stores.items():
            # a large value that only ever names a part of what is given is read where it lies
            if (
                name in self.declared and name in self.once and self.unit.is_by_address(self.kinds.get(name, NOTHING))
                and all(value is not None and self._lies_still(value) for value in values)
            ):  # fmt: skip
                self.pointers.add(name)

    def _note(self, target: ast.expr, value: ast.expr, stores: dict[str, list[ast.expr | None]]) -> None:
        if isinstance(target, ast.Tuple) and isinstance(value, ast.Tuple):
            for one, part in zip(target.elts, value.elts, strict=False):
                self._note(one, part, stores)
        elif isinstance(target, ast.Tuple):
            kind = self._quiet(value)
            for number, one in enumerate(target.elts):
                if isinstance(one, ast.Name) and one.id != "_" and isinstance(kind, Struct | Array):
                    stores.setdefault(one.id, []).append(None)
                    parts = kind.kinds if isinstance(kind, Struct) else (kind.item,) * kind.count
                    if number < len(parts):
                        self._take(one, parts[number])
        elif isinstance(target, ast.Name):
            stores.setdefault(target.id, []).append(value)
            kind = self._quiet(value)
            if kind is not None:
                self._take(target, REAL if kind == SINGLE else kind)

    def _take(self, name: ast.Name, kind: Kind) -> None:
        now = self.kinds.get(name.id)
        if now is None or (now == WHOLE and kind == REAL):
            if now is not None and name.id in self.signature.kinds:
                raise self.fail(name, "an int argument that is given a float", "declare it as float")
            self.kinds[name.id] = kind
        elif now != kind and not (now == REAL and kind == WHOLE):
            what = f"a name for {python_word(now)} that is given {python_word(kind)}"
            raise self.fail(name, what, "use one name for one kind of value")

    def _quiet(self, value: ast.expr) -> Kind | None:
        """The kind of an expression; None as long as it has names whose kinds are not known."""
        kept = self.before, self._temporaries, self._sometimes
        self.before = []
        try:
            return self.expression(value).kind
        except TranslationError:
            return None
        finally:
            self.before, self._temporaries, self._sometimes = kept

    def _lies_still(self, value: ast.expr) -> bool:
        """Whether an expression names a part of an argument, or of another name, that is never given anything else."""
        if isinstance(value, ast.IfExp):
            return self._lies_still(value.body) and self._lies_still(value.orelse)
        while isinstance(value, ast.Attribute):
            value = value.value
        if not isinstance(value, ast.Name) or value.id in self.spelled:
            return False
        return value.id in (self.signature.kinds.keys() - self.assigned) or value.id in self.pointers


def read_again(target: ast.expr) -> ast.expr:
    """The same place, read."""
    read = ast.parse(ast.unparse(target), mode="eval").body
    for node in ast.walk(read):
        ast.copy_location(node, target)
    return read
