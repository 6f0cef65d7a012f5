"""One compiled step in C: its head, its names and its statements."""

from __future__ import annotations

import ast
import inspect
import io
import textwrap
import tokenize
from typing import TYPE_CHECKING, Any

from calor.compiled import declarations
from calor.compiled.expressions import is_number
from calor.compiled.foreign import FOREIGN
from calor.compiled.kinds import (
    NOTHING,
    REAL,
    WHOLE,
    Array,
    Row,
    Struct,
)  # fmt: skip
from calor.compiled.local_names import LocalNames, read_again
from calor.compiled.terms import PLUS, Term
from calor.compiled.words import spelled

if TYPE_CHECKING:
    from calor.compiled.unit import Signature, Unit


class Body(LocalNames):
    """A function on its way into C."""

    def __init__(self, unit: Unit, python: Any, signature: Signature) -> None:
        source = textwrap.dedent(inspect.getsource(python))
        tree = ast.parse(source).body[0]
        assert isinstance(tree, ast.FunctionDef)
        super().__init__(unit, python, signature, tree)
        self.lines: list[str] = []
        self._comments = _comments(source)

    def text(self) -> str:
        """The whole function."""
        self.kinds |= self.signature.kinds
        taken = {foreign.c for foreign in FOREIGN.values()}
        names = {*self.assigned, *self.kinds}
        self.spelled = {name: f"{name}_" for name in names if name in taken or name != spelled(name)}
        self.pointers = {name for name, kind in self.kinds.items() if self.unit.is_by_address(kind)}
        copies = []
        for name in sorted(self.pointers & self.assigned):
            # the argument is given another value in here: it is a copy of what the caller has
            copies.append(f"    {self.kinds[name].c} {self._spell(name)} = *{name}_given;")
            self.pointers.discard(name)
        self.find_kinds()
        for statement in self.statements:
            self.statement(statement, 1)
        tops = [
            f"    {self._declaration(name)}{' = 0' if is_number(self.kinds[name]) else ''};"
            for name in self.kinds
            if name in self.at_top and name not in self.loops
        ]
        words = " ".join((ast.get_docstring(self.tree) or "").split("\n\n")[0].split())
        said = textwrap.wrap(words, 112, initial_indent="/* ", subsequent_indent="   ")
        about = "\n".join(said) + " */\n" if said else ""
        return about + "\n".join([self.head(), "{", *copies, *tops, *self.lines, "}"])

    def head(self) -> str:
        """The function's name, what it takes and gives."""
        takes = []
        for name, kind in self.signature.kinds.items():
            if self.unit.is_by_address(kind):
                takes.append(f"const {kind.c} *{f'{name}_given' if name in self.assigned else self._spell(name)}")
            else:
                takes.append(f"{kind.c} {self._spell(name)}")
        text = f"static {self.signature.result.c} {self.signature.name}({', '.join(takes) or 'void'})"
        return wrapped(text)

    def _spell(self, name: str) -> str:
        return self.spelled.get(name, name)

    def _declaration(self, name: str) -> str:
        kind, spelled = self.kinds[name], self._spell(name)
        if name in self.pointers:
            return f"const {kind.c} *{spelled}"
        fixed = name in self.once and name in self.declared
        return f"{'const ' if fixed else ''}{kind.c} {spelled}"

    # statements

    def put(self, depth: int, line: str) -> None:
        """A line, after what must come before it."""
        for one in (*self.before, line):
            text = "    " * depth + one
            self.lines.append(wrapped(text, depth + 1))
        self.before = []

    def statement(self, node: ast.stmt, depth: int) -> None:
        """One statement. Raises TranslationError where it is outside the subset."""
        while self._comments and self._comments[0][0] < node.lineno:
            self.lines.append("    " * depth + f"/* {self._comments.pop(0)[1]} */")
        method = getattr(self, f"_do_{type(node).__name__.lower()}", None)
        if method is None:
            raise self.fail(node, f"{type(node).__name__} is not supported", "write it with what the subset has")
        method(node, depth)

    def block(self, nodes: list[ast.stmt], depth: int) -> None:
        """Statements one after the other."""
        for node in nodes:
            self.statement(node, depth)

    def _do_expr(self, node: ast.Expr, depth: int) -> None:
        if not isinstance(node.value, ast.Call):
            raise self.fail(node, "a value that nobody takes", "leave it out")
        self.put(depth, f"{self.expression(node.value).text};")

    def _do_pass(self, node: ast.Pass, depth: int) -> None:
        del node
        self.put(depth, ";")

    def _do_break(self, node: ast.Break, depth: int) -> None:
        del node
        self.put(depth, "break;")

    def _do_continue(self, node: ast.Continue, depth: int) -> None:
        del node
        self.put(depth, "continue;")

    def _do_return(self, node: ast.Return, depth: int) -> None:
        if node.value is None or self.signature.result == NOTHING:
            self.put(depth, "return;")
        else:
            self.put(depth, f"return {self.fitted(node.value, self.signature.result).value};")

    def _do_if(self, node: ast.If, depth: int, word: str = "if") -> None:
        test = self.truth(node.test).text
        if word != "if" and self.before:
            raise self.fail(node.test, "a large result in the condition of an elif", "give it a name before the if")
        self.put(depth, f"{word} ({test}) {{")
        self.block(node.body, depth + 1)
        if len(node.orelse) == 1 and isinstance(node.orelse[0], ast.If):
            self._do_if(node.orelse[0], depth, "} else if")
            return
        if node.orelse:
            self.put(depth, "} else {")
            self.block(node.orelse, depth + 1)
        self.put(depth, "}")

    def _do_while(self, node: ast.While, depth: int) -> None:
        self._sometimes += 1
        test = self.truth(node.test).text
        self._sometimes -= 1
        if node.orelse:
            raise self.fail(node, "else after a loop", "leave the else out")
        self.put(depth, f"while ({test}) {{")
        self.block(node.body, depth + 1)
        self.put(depth, "}")

    def _do_for(self, node: ast.For, depth: int) -> None:
        call = node.iter
        if not (isinstance(call, ast.Call) and self.outside(call.func) is range and isinstance(node.target, ast.Name)):
            raise self.fail(node, "a loop over something else than range", "loop over range(…)")
        if node.orelse:
            raise self.fail(node, "else after a loop", "leave the else out")
        name = node.target.id
        inside = {one for one, use in declarations.uses(node.body) if use.stores}
        every = [use for one, use in declarations.uses(self.statements) if one == name]
        outside = [use for use in every if not isinstance(use.statement, ast.For)]
        loops = [one for one in ast.walk(self.tree) if isinstance(one, ast.For)]
        covered = {id(part) for one in loops if getattr(one.target, "id", "") == name for part in ast.walk(one)}
        if name in inside or any(id(use.statement) not in covered for use in outside):
            raise self.fail(node.target, "a loop's name that is used after it or changed in it", "use another name")
        step = self._step(call)
        ends = [self.as_kind(part, WHOLE) for part in call.args[:2]]
        begin, end = ends if len(ends) == 2 else (Term("0", WHOLE), ends[0])
        limit = end.at(PLUS)
        if inside & {one.id for one in ast.walk(call) if isinstance(one, ast.Name)} or "(" in limit:
            limit = self.temporary()
            self.put(depth, f"const int64_t {limit} = {end.text};")
        k = self._spell(name) if name != "_" else self.temporary()
        test = f"{k} {'<' if step > 0 else '>'} {limit}"
        self.put(depth, f"for (int64_t {k} = {begin.text}; {test}; {k}{'++' if step > 0 else '--'}) {{")
        self.block(node.body, depth + 1)
        self.put(depth, "}")

    def _step(self, call: ast.Call) -> int:
        if len(call.args) < 3:
            return 1
        step = ast.unparse(call.args[2])
        if step not in ("1", "-1"):
            raise self.fail(call, "a loop in larger steps", "use steps of 1 or -1")
        return int(step)

    def _do_augassign(self, node: ast.AugAssign, depth: int) -> None:
        binary = ast.copy_location(ast.BinOp(read_again(node.target), node.op, node.value), node)
        signs = {ast.Add: "+=", ast.Sub: "-=", ast.Mult: "*=", ast.Div: "/="}
        sign = signs.get(type(node.op))
        place = self.place(node.target)
        term = self.as_kind(binary, place.kind)
        if sign is None or (sign == "/=" and place.kind != REAL):
            self.put(depth, f"{place.text} = {term.text};")
        else:
            self.put(depth, f"{place.text} {sign} {self.numeric(node.value).text};")

    def _do_assign(self, node: ast.Assign, depth: int) -> None:
        if len(node.targets) > 1:
            raise self.fail(node, "two assignments in one", "write them one after the other")
        target, value = node.targets[0], node.value
        if not isinstance(target, ast.Tuple):
            self._give(node, target, value, depth)
        elif isinstance(value, ast.Tuple):
            self._give_each(node, target, value, depth)
        else:
            self._take_apart(node, target, value, depth)

    def _give(self, node: ast.stmt, target: ast.expr, value: ast.expr, depth: int) -> None:
        """One place, one value."""
        if isinstance(target, ast.Subscript) and isinstance(target.slice, ast.Slice):
            tail = self.tail(target, self.expression(target.value))
            self.put(depth, f"fill({tail.text}, {self.as_kind(value, REAL).text});")
            return
        if isinstance(target, ast.Name) and target.id in self.pointers:
            self.put(depth, f"{self._declaration(target.id)} = {self.address(value)};")
            return
        place = self.place(target)
        term = self.fitted(value, place.kind)
        self.put(depth, f"{self._left(node, target, place)} = {term.value};")

    def _left(self, node: ast.stmt, target: ast.expr, place: Term) -> str:
        """The left side: with the name's kind where it is declared."""
        if isinstance(target, ast.Name) and self.declared.get(target.id) is node:
            return self._declaration(target.id)
        return place.text

    def _give_each(self, node: ast.Assign, target: ast.Tuple, value: ast.Tuple, depth: int) -> None:
        """Places and values side by side. All values are worked out before the first is given, where that matters."""
        if len(target.elts) != len(value.elts):
            raise self.fail(node, "another number of values than of places", "give as many")
        pairs = list(zip(target.elts, value.elts, strict=True))
        later: set[str] = set()
        clash = False
        for one, part in reversed(pairs):
            stored = {sub.id for sub in ast.walk(one) if isinstance(sub, ast.Name)}
            clash = clash or bool(stored & later)
            later |= {sub.id for sub in ast.walk(part) if isinstance(sub, ast.Name)}
        if not clash:
            for one, part in pairs:
                self._give(node, one, part, depth)
            return
        held = []
        for one, part in pairs:
            place = self.place(one)
            name = self.temporary()
            self.put(depth, f"const {place.kind.c} {name} = {self.fitted(part, place.kind).value};")
            held.append((self._left(node, one, place), name))
        for left, name in held:
            self.put(depth, f"{left} = {name};")

    def _take_apart(self, node: ast.Assign, target: ast.Tuple, value: ast.expr, depth: int) -> None:
        """A tuple that comes as one value, part by part."""
        term = self.expression(value)
        if not isinstance(term.kind, Struct | Array):
            raise self.fail(node, "no tuple", "take a tuple apart")
        is_array = isinstance(term.kind, Array)
        kinds = term.kind.kinds if isinstance(term.kind, Struct) else (term.kind.item,) * term.kind.count
        if len(kinds) != len(target.elts):
            raise self.fail(node, f"a tuple of {len(kinds)} taken as {len(target.elts)}", "name all parts; _ drops one")
        name = self.temporary()
        self.put(depth, f"const {term.kind.c} {name} = {term.value};")
        for number, (one, kind) in enumerate(zip(target.elts, kinds, strict=True)):
            if isinstance(one, ast.Name) and one.id == "_":
                continue
            place = self.place(one)
            field = f"v[{number}]" if is_array else term.kind.names[number]  # type: ignore[union-attr]
            part = self.as_kind(value, place.kind, Term(f"{name}.{field}", kind))
            self.put(depth, f"{self._left(node, one, place)} = {part.text};")

    def place(self, target: ast.expr) -> Term:
        """Where a value is put."""
        if isinstance(target, ast.Name):
            if target.id not in self.kinds:
                raise self.fail(target, "a name of no known kind", "give it a number, a tuple or a row")
            return Term(self._spell(target.id), self.kinds[target.id], place=True)
        if isinstance(target, ast.Subscript):
            owner = self.expression(target.value)
            if isinstance(owner.kind, Row):
                place = self.expression(target)
                if is_number(place.kind):
                    return place
        raise self.fail(target, "no place of the subset", "give values to names and to the items of rows")


def wrapped(text: str, depth: int = 1) -> str:
    """A line of C, broken where it is long."""
    indent = "    " * depth
    lines = textwrap.wrap(text, 116, subsequent_indent=indent, break_long_words=False, break_on_hyphens=False)
    return "\n".join(lines)


def _comments(source: str) -> list[tuple[int, str]]:
    """The comments that have a line of their own, by line."""
    lines = source.split("\n")
    return [
        (token.start[0], token.string.lstrip("# "))
        for token in tokenize.generate_tokens(io.StringIO(source).readline)
        if token.type == tokenize.COMMENT and not lines[token.start[0] - 1][: token.start[1]].strip()
    ]
