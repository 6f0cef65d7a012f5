"""Expressions of a compiled step in C."""

from __future__ import annotations

import ast
import builtins
import types
from typing import TYPE_CHECKING, Any

import numpy as np

from calor.compiled.entries import STEPS, Entry
from calor.compiled.foreign import FOREIGN
from calor.compiled.kinds import (
    COLUMN,
    NOTHING,
    REAL,
    SINGLE,
    TRUTH,
    WHOLE,
    Array,
    Constant,
    Kind,
    Number,
    Row,
    Struct,
)  # fmt: skip
from calor.compiled.problem import TranslationError, problem
from calor.compiled.terms import AND, CHOICE, EQUAL, OR, ORDER, PLUS, PRIMARY, TIMES, UNARY, Term, number

if TYPE_CHECKING:
    from calor.compiled.unit import Unit

ARITHMETIC: dict[type[ast.operator], tuple[str, int]] = {
    ast.Add: ("+", PLUS), ast.Sub: ("-", PLUS), ast.Mult: ("*", TIMES), ast.Div: ("/", TIMES),
}  # fmt: skip
COMPARED: dict[type[ast.cmpop], tuple[str, int]] = {
    ast.Eq: ("==", EQUAL), ast.NotEq: ("!=", EQUAL), ast.Lt: ("<", ORDER), ast.LtE: ("<=", ORDER),
    ast.Gt: (">", ORDER), ast.GtE: (">=", ORDER),
}  # fmt: skip
EXTREMES = {min: ("smaller", "smaller_whole"), max: ("larger", "larger_whole")}
NUMBERS = (REAL, WHOLE)


class Expressions:
    """What an expression is in C, within one function whose names are known."""

    def __init__(self, unit: Unit, python: Any) -> None:
        self.unit, self.python = unit, python
        self.space: dict[str, Any] = python.__globals__
        self.kinds: dict[str, Kind] = {}
        self.pointers: set[str] = set()
        self.spelled: dict[str, str] = {}
        self.before: list[str] = []
        self._sometimes = 0
        self._temporaries = 0

    def fail(self, node: ast.AST, what: str, remedy: str) -> TranslationError:
        """The error for a piece of the source."""
        return problem(self.python, node, what, remedy)

    def temporary(self) -> str:
        """A fresh name."""
        self._temporaries += 1
        return f"t{self._temporaries}_"

    def expression(self, node: ast.expr) -> Term:
        """An expression. Raises TranslationError where it is outside the subset."""
        method = getattr(self, f"_{type(node).__name__.lower()}", None)
        if method is None:
            raise self.fail(node, f"{type(node).__name__} is not supported", "write it with what the subset has")
        term: Term = method(node)
        return term

    def as_kind(self, node: ast.expr, wanted: Kind, term: Term | None = None) -> Term:
        """An expression where a value of a kind is wanted. A whole number serves where a fraction is."""
        term = self.expression(node) if term is None else term
        if term.kind == wanted or (term.kind, wanted) in ((WHOLE, REAL), (SINGLE, REAL), (REAL, SINGLE)):
            return term
        what = f"{python_word(term.kind)} where {python_word(wanted)} is needed"
        raise self.fail(node, what, "convert it with float(), int() or a condition")

    def numeric(self, node: ast.expr) -> Term:
        """An expression that is a whole number or a fraction."""
        term = self.expression(node)
        if term.kind == SINGLE:
            return term._replace(kind=REAL)
        if term.kind not in NUMBERS:
            raise self.fail(node, "no number", "compute with int and float; 1.0 if x else 0.0 makes one of a bool")
        return term

    def truth(self, node: ast.expr) -> Term:
        """An expression that is a truth value."""
        return self.as_kind(node, TRUTH)

    def address(self, node: ast.expr) -> str:
        """Where the value of an expression lies."""
        term = self.expression(node)
        if term.pointer:
            return term.text
        if term.place or (isinstance(node, ast.Call) and term.text.startswith("(")):
            return f"&{term.at(UNARY)}"
        if self._sometimes:
            raise self.fail(node, "a large result inside a condition", "give it a name in a line of its own before")
        name = self.temporary()
        self.before.append(f"const {term.kind.c} {name} = {term.text};")
        return f"&{name}"

    def sometimes(self, node: ast.expr, wanted: Kind | None = None) -> Term:
        """An expression that is worked out on a condition only, so that nothing of it may come before."""
        self._sometimes += 1
        term = self.expression(node) if wanted is None else self.as_kind(node, wanted)
        self._sometimes -= 1
        return term

    # names and numbers

    def outside(self, node: ast.expr) -> Any:
        """What a name of the module, or of a module it imports, stands for; None where it is none."""
        if isinstance(node, ast.Name):
            return None if node.id in self.kinds else self.space.get(node.id, getattr(builtins, node.id, None))
        if isinstance(node, ast.Attribute):
            owner = self.outside(node.value)
            return getattr(owner, node.attr, None) if isinstance(owner, types.ModuleType) else None
        return None

    def _constant(self, node: ast.Constant) -> Term:
        term = number(node.value)
        if term is None:
            raise self.fail(node, "no number", "use numbers and truth values only")
        return term

    def _name(self, node: ast.Name) -> Term:
        if node.id in self.kinds:
            kind = self.kinds[node.id]
            return Term(self.spelled.get(node.id, node.id), kind, pointer=node.id in self.pointers, place=True)
        return self._from_outside(node)

    def _from_outside(self, node: ast.Name | ast.Attribute) -> Term:
        value = self.outside(node)
        term = number(value)
        if term is not None:
            return self.unit.named_number(node, self.space, term)
        if isinstance(value, np.ndarray):
            constant = self.unit.constant(value, node, self.space)
            return Term(constant.c, constant)
        what = "unknown here, or given a value further down only" if value is None else "no number or array"
        raise self.fail(node, what, "use arguments, local names, and numbers or arrays of a module")

    def _attribute(self, node: ast.Attribute) -> Term:
        if self.outside(node) is not None:
            return self._from_outside(node)
        owner = self.expression(node.value)
        kind = owner.kind.field(node.attr) if isinstance(owner.kind, Struct) else None
        if kind is None:
            raise self.fail(node, f"no field {node.attr!r}", "read a field of a named tuple, or shape[k] of an array")
        return owner.field(node.attr, kind)

    # arithmetic

    def _binop(self, node: ast.BinOp) -> Term:
        left, right = self.numeric(node.left), self.numeric(node.right)
        both_whole = left.kind == right.kind == WHOLE
        if type(node.op) in ARITHMETIC:
            sign, level = ARITHMETIC[type(node.op)]
            first = left.at(level)
            if both_whole and isinstance(node.op, ast.Div):
                return Term(f"(double){left.at(UNARY)} / (double){right.at(UNARY)}", REAL, level)
            return Term(f"{first} {sign} {right.at(level + 1)}", WHOLE if both_whole else REAL, level)
        pair = f"({left.text}, {right.text})"
        if isinstance(node.op, ast.Mod):
            return Term(f"{'modulo_whole' if both_whole else 'modulo'}{pair}", WHOLE if both_whole else REAL)
        if isinstance(node.op, ast.FloorDiv) and both_whole:
            return Term(f"quotient_whole{pair}", WHOLE)
        if isinstance(node.op, ast.Pow) and not both_whole:
            return Term(f"pow{pair}", REAL)
        raise self.fail(node, "no operation of the subset", "use + - * / %, // of ints, and ** of floats")

    def _unaryop(self, node: ast.UnaryOp) -> Term:
        if isinstance(node.op, ast.Not):
            return Term(f"!{self.truth(node.operand).at(UNARY)}", TRUTH, UNARY)
        if isinstance(node.op, ast.USub):
            term = self.numeric(node.operand)
            return Term(f"-{term.at(PRIMARY)}", term.kind, UNARY)
        raise self.fail(node, "no operation of the subset", "use - and not")

    def _boolop(self, node: ast.BoolOp) -> Term:
        sign, level = ("&&", AND) if isinstance(node.op, ast.And) else ("||", OR)
        parts = [self.truth(node.values[0]), *(self.sometimes(value, TRUTH) for value in node.values[1:])]
        return Term(f" {sign} ".join(part.at(EQUAL) for part in parts), TRUTH, level)

    def _compare(self, node: ast.Compare) -> Term:
        if len(node.ops) == 1 and isinstance(node.ops[0], ast.In) and isinstance(node.comparators[0], ast.Tuple):
            sides = [(node.left, ast.Eq, one) for one in node.comparators[0].elts]
            return Term(" || ".join(self._compared(*side).at(EQUAL) for side in sides), TRUTH, OR)
        firsts = [node.left, *node.comparators[:-1]]
        sides = [(a, type(op), b) for a, op, b in zip(firsts, node.ops, node.comparators, strict=True)]  # type: ignore[misc]
        parts = [self._compared(*side) for side in sides]
        return parts[0] if len(parts) == 1 else Term(" && ".join(part.at(EQUAL) for part in parts), TRUTH, AND)

    def _compared(self, left: ast.expr, sign: type[ast.cmpop], right: ast.expr) -> Term:
        if sign not in COMPARED:
            raise self.fail(left, "no comparison of the subset", "use == != < <= > >=, or `in` a tuple in place")
        word, level = COMPARED[sign]
        first = self.expression(left)
        both_truths = first.kind == TRUTH and word in ("==", "!=")
        second = self.truth(right) if both_truths else self.numeric(right)
        first = first if both_truths else self.numeric(left)
        return Term(f"{first.at(level + 1)} {word} {second.at(level + 1)}", TRUTH, level)

    def _ifexp(self, node: ast.IfExp) -> Term:
        test = self.truth(node.test)
        first, second = self.sometimes(node.body), self.sometimes(node.orelse)
        if first.kind in (REAL, SINGLE, WHOLE) and second.kind in (REAL, SINGLE, WHOLE):
            whole = first.kind == second.kind == WHOLE
            kind: Kind = WHOLE if whole else REAL
        elif first.kind == second.kind:
            kind = first.kind
        else:
            raise self.fail(node, "two kinds of value", "let both sides give the same kind")
        if isinstance(kind, Struct | Array) and all(one.pointer or one.place for one in (first, second)):
            sides = [one.text if one.pointer else f"&{one.at(UNARY)}" for one in (first, second)]
            return Term(f"{test.at(OR)} ? {sides[0]} : {sides[1]}", kind, CHOICE, pointer=True)
        return Term(f"{test.at(OR)} ? {first.at(OR)} : {second.at(OR)}", kind, CHOICE)

    # rows, tuples and calls

    def _subscript(self, node: ast.Subscript) -> Term:
        if isinstance(node.value, ast.Attribute) and node.value.attr == "shape":
            return self._length(node)
        owner = self.expression(node.value)
        if isinstance(node.slice, ast.Slice):
            return self.tail(node, owner)
        places = node.slice.elts if isinstance(node.slice, ast.Tuple) else [node.slice]
        at = [self.as_kind(place, WHOLE) for place in places]
        if isinstance(owner.kind, Constant) and len(at) == len(owner.kind.shape):
            place = at[0]
            for size, part in zip(owner.kind.shape[1:], at[1:], strict=True):
                place = Term(f"{place.at(TIMES)} * {size} + {part.at(TIMES)}", WHOLE, PLUS)
            return Term(f"{owner.text}[{place.text}]", owner.kind.item)
        if isinstance(owner.kind, Row) and len(at) == owner.kind.dims:
            text = f"{owner.at(PRIMARY)}."
            place = at[0] if len(at) == 1 else Term(f"{at[0].at(TIMES)} * {text}m + {at[1].at(TIMES)}", WHOLE, PLUS)
            return Term(f"{text}p[{place.text}]", owner.kind.item, place=True)
        if isinstance(owner.kind, Row) and owner.kind.dims == 2 and len(at) == 1:
            return Term(f"row_of({owner.text}, {at[0].text})", COLUMN)
        if isinstance(owner.kind, Array) and len(at) == 1:
            return owner.field(f"v[{at[0].text}]", owner.kind.item)
        if isinstance(owner.kind, Struct) and owner.kind.made_by is tuple and isinstance(places[0], ast.Constant):
            name = f"i{places[0].value!r}"
            return owner.field(name, owner.kind.field(name) or NOTHING)
        raise self.fail(node, "nothing that has items like this", "index a row, a table, or a tuple of alike numbers")

    def tail(self, node: ast.Subscript, owner: Term) -> Term:
        """The end of a row from a place on."""
        part = node.slice
        if not (isinstance(part, ast.Slice) and owner.kind == COLUMN and part.upper is None and part.step is None):
            raise self.fail(node, "no part of the subset", "take the end of a column, row[k:]")
        if part.lower is None:
            return owner
        return Term(f"row_from({owner.text}, {self.as_kind(part.lower, WHOLE).text})", COLUMN)

    def _length(self, node: ast.Subscript) -> Term:
        assert isinstance(node.value, ast.Attribute)
        owner = self.expression(node.value.value)
        axis = node.slice.value if isinstance(node.slice, ast.Constant) else None
        if isinstance(owner.kind, Constant) and axis in range(len(owner.kind.shape)):
            return Term(str(owner.kind.shape[int(str(axis))]), WHOLE)
        if isinstance(owner.kind, Row) and axis in range(owner.kind.dims):
            return Term(f"{owner.at(PRIMARY)}.{'nm'[int(str(axis))]}", WHOLE)
        raise self.fail(node, "no such length", "ask for shape[0] or shape[1] of a row or table")

    def _tuple(self, node: ast.Tuple) -> Term:
        parts = [self.expression(part) for part in node.elts]
        return self.whole_tuple(node, self.unit.tuple_of(tuple(part.kind for part in parts)))

    def whole_tuple(self, node: ast.Tuple, kind: Struct | Array) -> Term:
        """A tuple written in place, as a value of its kind."""
        kinds = kind.kinds if isinstance(kind, Struct) else (kind.item,) * kind.count
        if len(kinds) != len(node.elts):
            raise self.fail(node, f"{len(node.elts)} values where {len(kinds)} are needed", "give as many")
        parts = ", ".join(
            self.fitted(part, own).value for part, own in zip(node.elts, kinds, strict=True)
        )  # fmt: skip
        return Term(f"({kind.c}){{{f'{{{parts}}}' if isinstance(kind, Array) else parts}}}", kind)

    def fitted(self, node: ast.expr, wanted: Kind) -> Term:
        """An expression as a value of a kind, a tuple written in place among them."""
        if isinstance(node, ast.Tuple) and isinstance(wanted, Struct | Array):
            return self.whole_tuple(node, wanted)
        return self.as_kind(node, wanted)

    def _call(self, node: ast.Call) -> Term:
        called = self.outside(node.func)
        if called in STEPS if isinstance(called, types.FunctionType | Entry) else False:
            return self._call_step(node, called.python if isinstance(called, Entry) else called)
        if isinstance(called, type) and issubclass(called, tuple) and hasattr(called, "_fields"):
            kind = self.unit.struct_of(called)
            given = self._in_order(node, kind.names)
            parts = [self.fitted(one, own).value for one, own in zip(given, kind.kinds, strict=True)]
            return Term(f"({kind.c}){{{', '.join(parts)}}}", kind)
        if called is None or node.keywords:
            raise self.fail(node, "no function of the subset", "call steps marked @compiled, named tuples, maths")
        return self._call_foreign(node, called)

    def _in_order(self, node: ast.Call, names: tuple[str, ...]) -> list[ast.expr]:
        """The arguments of a call in the order of the parameters."""
        given = dict(zip(names, node.args, strict=False))
        given.update({one.arg: one.value for one in node.keywords if one.arg is not None})
        if set(given) != set(names) or len(node.args) > len(names):
            raise self.fail(node, f"wants {', '.join(names)}", "give every argument once; defaults are not taken")
        return [given[name] for name in names]

    def _call_step(self, node: ast.Call, python: Any) -> Term:
        signature = self.unit.require(python, node, self)
        parts = []
        for name, value in zip(signature.kinds, self._in_order(node, tuple(signature.kinds)), strict=True):
            kind = signature.kinds[name]
            if self.unit.is_by_address(kind):
                self.as_kind(value, kind)
                parts.append(self.address(value))
            else:
                parts.append(self.fitted(value, kind).value)
        return Term(f"{signature.name}({', '.join(parts)})", signature.result)

    def _call_foreign(self, node: ast.Call, called: Any) -> Term:
        try:
            foreign = FOREIGN.get(called)
        except TypeError:
            foreign = None
        if foreign is not None:
            parts = [self.expression(part) for part in node.args]
            return Term(f"{foreign.c}({', '.join(part.value for part in parts)})", foreign.result)
        if called in EXTREMES and len(node.args) > 1:
            terms = [self.numeric(part) for part in node.args]
            whole = all(term.kind == WHOLE for term in terms)
            text = terms[0].text
            for term in terms[1:]:
                text = f"{EXTREMES[called][whole]}({text}, {term.text})"
            return Term(text, WHOLE if whole else REAL)
        if len(node.args) == 1:
            return self._call_of_one(node, called, node.args[0])
        raise self.fail(node, "no function of the subset", "call steps marked @compiled, named tuples, maths")

    def _call_of_one(self, node: ast.Call, called: Any, given: ast.expr) -> Term:
        if called is len:
            owner = self.expression(given)
            if isinstance(owner.kind, Row):
                return Term(f"{owner.at(PRIMARY)}.n", WHOLE)
        if called in (float, np.float64):
            term = self.numeric(given)
            return Term(f"(double){term.at(UNARY)}", REAL, UNARY) if term.kind == WHOLE else term
        if called is int:
            term = self.numeric(given)
            return term if term.kind == WHOLE else Term(f"whole({term.text})", WHOLE)
        if called is abs:
            term = self.numeric(given)
            return Term(f"{'llabs' if term.kind == WHOLE else 'fabs'}({term.text})", term.kind)
        raise self.fail(node, "no function of the subset", "call steps marked @compiled, named tuples, maths")


def python_word(kind: Kind) -> str:
    """What a kind is called in the source."""
    return {"double": "float", "int64_t": "int", "void": "None"}.get(kind.c, kind.c)


def is_number(kind: Kind) -> bool:
    """Whether a kind is one number."""
    return isinstance(kind, Number) and kind != NOTHING
