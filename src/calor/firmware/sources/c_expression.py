"""Expressions of the C that Calor generates, read and written again with fixed-point calls for floats.

The generated C is written in few forms, so a small reader does: tokens, which names are floats, and expressions by
precedence. A float literal becomes `Q16(…)`, an operation of two floats a call, a cast between the two a conversion.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

TOKEN = re.compile(
    r"(?P<skip>\s+|/\*.*?\*/|\#[^\n]*)|(?P<text>\"(?:\\.|[^\"\\])*\")"
    r"|(?P<float>(?:\d+\.\d*|\d+(?=e))(?:e[+-]?\d+)?f)|(?P<whole>0x[0-9A-Fa-f]+u?|\d+u?)|(?P<name>[A-Za-z_]\w*)"
    r"|(?P<sign>->|\+\+|--|<<|>>|<=|>=|==|!=|&&|\|\||[-+*/%&|^]=|[-+*/%&|^!~<>=?:;,.(){}\[\]])",
    re.DOTALL,
)
TYPES = frozenset(
    ("void", "bool", "float", "double", "int", "unsigned", "char", "const", "static", "struct", "enum", "typedef",
     "extern", "inline")
)  # fmt: skip
_LITERAL = re.compile(r"Q16\((?P<sign>-?)(?P<digits>[^()]*)\)")
LEVELS = (
    ("||",), ("&&",), ("|",), ("^",), ("&",), ("==", "!="), ("<", ">", "<=", ">="), ("<<", ">>"),
    ("+", "-"), ("*", "/", "%"),
)  # fmt: skip
CALLS = {"+": "q_add", "-": "q_sub", "*": "q_mul", "/": "q_div"}
ASSIGNS = ("=", "+=", "-=", "*=", "/=", "&=", "|=", "^=")
ATOM = len(LEVELS)
NUMBER = "_NUMBER"
"""How the name ends of what reads a number of a table."""


@dataclass(frozen=True)
class Token:
    """One token: what it is, and its text. What separates tokens, comments with it, is a token of kind "skip"."""

    kind: str
    text: str


@dataclass(frozen=True)
class Node:
    """A piece of an expression as written: its text, whether it is a fixed-point number, how tightly it binds, and
    the whole number it was cast from."""

    text: str
    fixed: bool
    level: int = ATOM
    whole: str = ""

    def within(self, level: int) -> str:
        """The text as it may stand beside an operator of a level."""
        return self.text if self.level >= level else f"({self.text})"


def tokens_of(text: str) -> list[Token]:
    """The tokens of a text. Raises ValueError where it is no C of this kind."""
    found, at = [], 0
    while at < len(text):
        match = TOKEN.match(text, at)
        if match is None:
            raise ValueError(f"not read: {text[at : at + 40]!r}")
        found.append(Token(str(match.lastgroup), match.group()))
        at = match.end()
    return found


def is_type(name: str) -> bool:
    """Whether a word names a type, or begins a declaration."""
    return name in TYPES or name.endswith(("_t", "_settings", "_state", "_button")) or name in ("polynomial", "step")


class Names:
    """Which names are floats: members of structures and functions everywhere, and the names of the function at hand."""

    def __init__(self, texts: list[str]) -> None:
        self.everywhere = {"q_scaled", "q_parts"} | {
            name for text in texts for name in re.findall(r"\bfloat \*?([A-Za-z_]\w*)", text)
        }
        self._here: dict[str, bool] = {}

    def enter(self, header: str) -> None:
        """Forget the function before; its parameters are those of a header."""
        self._here = {}
        self.declare(header[header.index("(") :])

    def declare(self, text: str) -> None:
        """Note what a declaration or a list of parameters declares."""
        for kind, name in re.findall(r"([A-Za-z_]\w*) \*?([A-Za-z_]\w*)", text):
            if is_type(kind):
                self._here[name] = kind == "float"

    def is_float(self, name: str) -> bool:
        """Whether a name that stands by itself is one."""
        return self._here.get(name, name in self.everywhere or name.endswith(NUMBER))


class Expression:
    """Reads one expression from tokens without gaps between them."""

    def __init__(self, tokens: list[Token], names: Names) -> None:
        self._tokens, self._names, self._at = tokens, names, 0

    def _peek(self, ahead: int = 0) -> str:
        at = self._at + ahead
        return self._tokens[at].text if at < len(self._tokens) else ""

    def _take(self, expected: str = "") -> str:
        text = self._peek()
        if expected and text != expected:
            raise ValueError(f"{expected!r} expected in {' '.join(token.text for token in self._tokens)!r}")
        self._at += 1
        return text

    def whole(self) -> Node:
        """All of it."""
        node = self.ternary()
        if self._at != len(self._tokens):
            raise ValueError(f"more than an expression: {' '.join(token.text for token in self._tokens)!r}")
        return node

    def ternary(self) -> Node:
        """A choice, or what binds tighter."""
        node = self._binary(0)
        if self._peek() != "?":
            return node
        self._take()
        first = self.ternary()
        self._take(":")
        second = self.ternary()
        return Node(f"{node.within(0)} ? {first.within(0)} : {second.text}", first.fixed, -1)

    def _binary(self, level: int) -> Node:
        if level == ATOM:
            return self._unary()
        node = self._binary(level + 1)
        while self._peek() in LEVELS[level]:
            sign = self._take()
            other = self._binary(level + 1)
            if sign in CALLS and (node.fixed or other.fixed):
                node = self._call(sign, node, other)
            else:
                # compilers want brackets where "and" stands within "or"
                least = 2 if sign == "||" else level
                node = Node(
                    f"{node.within(least if node.level else level)} {sign} {other.within(max(least, level + 1))}",
                    False,
                    level,
                )
        return node

    def _call(self, sign: str, one: Node, other: Node) -> Node:
        if not (one.fixed and other.fixed):
            raise ValueError(f"a whole number and a fixed-point one: {one.text} {sign} {other.text}")
        if sign == "*" and (one.whole or other.whole):
            count, number = (one.whole, other.text) if one.whole else (other.whole, one.text)
            return Node(f"q_times({count}, {number})", True)
        return Node(f"{CALLS[sign]}({one.text}, {other.text})", True)

    def _unary(self) -> Node:
        sign = self._peek()
        if sign == "-":
            self._take()
            node = self._unary()
            if not node.fixed:
                return Node(f"-{node.within(ATOM)}", False)
            literal = _LITERAL.fullmatch(node.text)
            if literal is not None:
                sign = "" if literal["sign"] else "-"
                return Node(f"Q16({sign}{literal['digits']})", True)
            return Node(f"q_sub(0, {node.text})", True)
        if sign in ("!", "~", "&", "*", "sizeof"):
            self._take()
            node = self._unary()
            gap = " " if sign == "sizeof" else ""
            return Node(f"{sign}{gap}{node.within(ATOM)}", node.fixed and sign in ("*", "&"))
        if sign == "(" and is_type(self._peek(1)):
            return self._cast()
        return self._postfix()

    def _cast(self) -> Node:
        self._take("(")
        words = []
        while self._peek() != ")":
            words.append(self._take())
        self._take(")")
        node, to = self._unary(), " ".join(words)
        if to == "float" and not node.fixed:
            return Node(f"q_from({node.text})", True, ATOM, node.text)
        if to == "double" and node.fixed:
            return Node(f"((double){node.within(ATOM)} / 65536.0)", False)
        if node.fixed and to != "void":
            return Node(f"({to})q_whole({node.text})" if to != "int32_t" else f"q_whole({node.text})", False)
        return Node(f"({to}){node.within(ATOM)}", False)

    def _postfix(self) -> Node:
        if self._peek() == "(":
            self._take()
            inner = self.ternary()
            self._take(")")
            # the brackets are made anew where they are needed
            node = inner
        else:
            token = self._tokens[self._at]
            self._take()
            if token.kind == "float":
                return Node(f"Q16({token.text.removesuffix('f')})", True)
            node = Node(token.text, token.kind == "name" and self._names.is_float(token.text))
        while self._peek() in ("->", ".", "[", "(", "++", "--"):
            sign = self._take()
            if sign in ("->", "."):
                name = self._take()
                node = Node(f"{node.within(ATOM)}{sign}{name}", name in self._names.everywhere)
            elif sign == "[":
                inner = self.ternary()
                self._take("]")
                node = Node(f"{node.within(ATOM)}[{inner.text}]", node.fixed)
            elif sign == "(":
                given = []
                while self._peek() != ")":
                    given.append(self.ternary().text)
                    if self._peek() == ",":
                        self._take()
                self._take(")")
                node = Node(f"{node.text}({', '.join(given)})", node.fixed)
            else:
                node = Node(f"{node.within(ATOM)}{sign}", node.fixed)
        return node
