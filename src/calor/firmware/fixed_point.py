"""The generated C in Q16.16 fixed point: the same statements, with 32-bit whole numbers of 1/65536 for every float.

The C is read as the few forms it is written in and written again: `a * b` of two floats becomes `q_mul(a, b)`, a
literal `0.5f` becomes `Q16(0.5)`, the rest stays as it was, comments with it. All arithmetic is held at the ends of
the range (±32 768) and never wraps, so no input whatever has undefined behaviour.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

LARGEST = 32_767.0
STEP = 1.0 / 65_536.0
"""The largest number of Q16.16, and the distance between two."""

HEADER = """\
/* Q16.16 fixed point: whole numbers of 1/65536 from -32768 to 32768, held at the ends and never wrapped round.
 *
 * SPDX-License-Identifier: 0BSD
 */
#ifndef CALOR_Q16_H
#define CALOR_Q16_H

#include <stdint.h>

typedef int32_t q16;

/* A constant; the compiler works it out. */
#define Q16(x) ((q16)((x) * 65536.0 + ((x) < 0.0 ? -0.5 : 0.5)))

static inline q16 q_held(int64_t wide)
{
    return wide > INT32_MAX ? INT32_MAX : (wide < INT32_MIN ? INT32_MIN : (q16)wide);
}

static inline q16 q_add(q16 a, q16 b)
{
    return q_held((int64_t)a + b);
}

static inline q16 q_sub(q16 a, q16 b)
{
    return q_held((int64_t)a - b);
}

/* Rounded to the nearest, by division and not by a shift, which C leaves open for numbers below 0. */
static inline q16 q_mul(q16 a, q16 b)
{
    const int64_t wide = (int64_t)a * b;
    return q_held((wide + (wide < 0 ? -32768 : 32768)) / 65536);
}

/* A division by 0 gives the end of the range. */
static inline q16 q_div(q16 a, q16 b)
{
    if (b == 0) {
        return a < 0 ? INT32_MIN : INT32_MAX;
    }
    return q_held((int64_t)a * 65536 / b);
}

/* A whole number of times. */
static inline q16 q_times(int64_t count, q16 a)
{
    return q_held((count > INT32_MAX ? (int64_t)INT32_MAX : count) * a);
}

static inline q16 q_from(int64_t count)
{
    return q_times(count, 65536);
}

/* A whole number of parts. */
static inline q16 q_parts(int64_t count, int64_t parts)
{
    return q_held(count * 65536 / parts);
}

/* Counts in proportion: so many for each 65536. */
static inline q16 q_scaled(uint32_t counts, q16 per_65536)
{
    return q_held((int64_t)counts * per_65536 / 65536);
}

/* A share of a whole number, rounded to the nearest. */
static inline uint32_t q_counts(q16 share, uint32_t whole)
{
    return share <= 0 ? 0u : (uint32_t)(((int64_t)share * whole + 32768) / 65536);
}

/* The whole part. */
static inline int32_t q_whole(q16 a)
{
    return a / 65536;
}

#endif
"""
_TOKEN = re.compile(
    r"(?P<skip>\s+|/\*.*?\*/|\#[^\n]*)|(?P<text>\"(?:\\.|[^\"\\])*\")"
    r"|(?P<float>(?:\d+\.\d*|\d+(?=e))(?:e[+-]?\d+)?f)|(?P<whole>0x[0-9A-Fa-f]+u?|\d+u?)|(?P<name>[A-Za-z_]\w*)"
    r"|(?P<sign>->|\+\+|--|<<|>>|<=|>=|==|!=|&&|\|\||[-+*/%&|^]=|[-+*/%&|^!~<>=?:;,.(){}\[\]])",
    re.DOTALL,
)
_TYPES = {
    "void",
    "bool",
    "float",
    "double",
    "int",
    "unsigned",
    "char",
    "const",
    "static",
    "struct",
    "enum",
    "typedef",
    "extern",
    "inline",
}
_LEVELS = (
    ("||",), ("&&",), ("|",), ("^",), ("&",), ("==", "!="), ("<", ">", "<=", ">="), ("<<", ">>"),
    ("+", "-"), ("*", "/", "%"),
)  # fmt: skip
_CALLS = {"+": "q_add", "-": "q_sub", "*": "q_mul", "/": "q_div"}
_ASSIGNS = ("=", "+=", "-=", "*=", "/=", "&=", "|=", "^=")
_ATOM = len(_LEVELS)


@dataclass(frozen=True)
class _Token:
    kind: str
    text: str


@dataclass(frozen=True)
class _Node:
    """A piece of an expression as written: its text, whether it is a fixed-point number, how tightly it binds, and
    the whole number it was cast from."""

    text: str
    fixed: bool
    level: int = _ATOM
    whole: str = ""

    def within(self, level: int) -> str:
        """The text as it may stand beside an operator of a level."""
        return self.text if self.level >= level else f"({self.text})"


def _tokens(text: str) -> list[_Token]:
    found, at = [], 0
    while at < len(text):
        match = _TOKEN.match(text, at)
        if match is None:
            raise ValueError(f"not read: {text[at : at + 40]!r}")
        found.append(_Token(str(match.lastgroup), match.group()))
        at = match.end()
    return found


def _is_type(name: str) -> bool:
    return name in _TYPES or name.endswith(("_t", "_settings", "_state", "_button")) or name in ("polynomial", "step")


class _Names:
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
            if _is_type(kind):
                self._here[name] = kind == "float"

    def is_float(self, name: str) -> bool:
        """Whether a name that stands by itself is one."""
        return self._here.get(name, name in self.everywhere)


class _Expression:
    """Reads one expression from tokens without gaps between them."""

    def __init__(self, tokens: list[_Token], names: _Names) -> None:
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

    def whole(self) -> _Node:
        """All of it."""
        node = self.ternary()
        if self._at != len(self._tokens):
            raise ValueError(f"more than an expression: {' '.join(token.text for token in self._tokens)!r}")
        return node

    def ternary(self) -> _Node:
        """A choice, or what binds tighter."""
        node = self._binary(0)
        if self._peek() != "?":
            return node
        self._take()
        first = self.ternary()
        self._take(":")
        second = self.ternary()
        return _Node(f"{node.within(0)} ? {first.within(0)} : {second.text}", first.fixed, -1)

    def _binary(self, level: int) -> _Node:
        if level == _ATOM:
            return self._unary()
        node = self._binary(level + 1)
        while self._peek() in _LEVELS[level]:
            sign = self._take()
            other = self._binary(level + 1)
            if sign in _CALLS and (node.fixed or other.fixed):
                node = self._call(sign, node, other)
            else:
                # compilers want brackets where "and" stands within "or"
                least = 2 if sign == "||" else level
                node = _Node(
                    f"{node.within(least if node.level else level)} {sign} {other.within(max(least, level + 1))}",
                    False,
                    level,
                )
        return node

    def _call(self, sign: str, one: _Node, other: _Node) -> _Node:
        if not (one.fixed and other.fixed):
            raise ValueError(f"a whole number and a fixed-point one: {one.text} {sign} {other.text}")
        if sign == "*" and (one.whole or other.whole):
            count, number = (one.whole, other.text) if one.whole else (other.whole, one.text)
            return _Node(f"q_times({count}, {number})", True)
        return _Node(f"{_CALLS[sign]}({one.text}, {other.text})", True)

    def _unary(self) -> _Node:
        sign = self._peek()
        if sign == "-":
            self._take()
            node = self._unary()
            if not node.fixed:
                return _Node(f"-{node.within(_ATOM)}", False)
            if node.text.startswith("Q16("):
                return _Node("Q16(-" + node.text.removeprefix("Q16("), True)
            return _Node(f"q_sub(0, {node.text})", True)
        if sign in ("!", "~", "&", "*", "sizeof"):
            self._take()
            node = self._unary()
            gap = " " if sign == "sizeof" else ""
            return _Node(f"{sign}{gap}{node.within(_ATOM)}", node.fixed and sign in ("*", "&"))
        if sign == "(" and _is_type(self._peek(1)):
            return self._cast()
        return self._postfix()

    def _cast(self) -> _Node:
        self._take("(")
        words = []
        while self._peek() != ")":
            words.append(self._take())
        self._take(")")
        node, to = self._unary(), " ".join(words)
        if to == "float" and not node.fixed:
            return _Node(f"q_from({node.text})", True, _ATOM, node.text)
        if to == "double" and node.fixed:
            return _Node(f"((double){node.within(_ATOM)} / 65536.0)", False)
        if node.fixed and to != "void":
            return _Node(f"({to})q_whole({node.text})" if to != "int32_t" else f"q_whole({node.text})", False)
        return _Node(f"({to}){node.within(_ATOM)}", False)

    def _postfix(self) -> _Node:
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
                return _Node(f"Q16({token.text.removesuffix('f')})", True)
            node = _Node(token.text, token.kind == "name" and self._names.is_float(token.text))
        while self._peek() in ("->", ".", "[", "(", "++", "--"):
            sign = self._take()
            if sign in ("->", "."):
                name = self._take()
                node = _Node(f"{node.within(_ATOM)}{sign}{name}", name in self._names.everywhere)
            elif sign == "[":
                inner = self.ternary()
                self._take("]")
                node = _Node(f"{node.within(_ATOM)}[{inner.text}]", node.fixed)
            elif sign == "(":
                given = []
                while self._peek() != ")":
                    given.append(self.ternary().text)
                    if self._peek() == ",":
                        self._take()
                self._take(")")
                node = _Node(f"{node.text}({', '.join(given)})", node.fixed)
            else:
                node = _Node(f"{node.within(_ATOM)}{sign}", node.fixed)
        return node


class _File:
    """Rewrites one file, statement by statement."""

    def __init__(self, text: str, names: _Names) -> None:
        self._tokens, self._names = _tokens(text), names
        self._out: list[str] = []
        self._at = 0

    def rewritten(self) -> str:
        """The whole file in fixed point."""
        while self._at < len(self._tokens):
            token = self._tokens[self._at]
            if token.kind == "skip" or token.text in ("{", "}", ";", "else", "typedef", ","):
                self._copy(1)
            elif token.text in ("if", "while"):
                self._copy(self._next("(") - self._at)
                end = self._closing(self._at)
                self._out.append(f"({self._expression(self._at + 1, end)})")
                self._at = end + 1
            elif token.text == "for":
                self._for()
            elif token.text == "return":
                end = self._next(";")
                value = self._expression(self._at + 1, end)
                self._out.append(f"return {value}" if value else "return")
                self._at = end
            else:
                self._statement()
        return "".join(self._out)

    def _copy(self, count: int) -> None:
        """As it is, but for the word float and literals."""
        for token in self._tokens[self._at : self._at + count]:
            text = token.text
            if token.kind == "float":
                text = f"Q16({text.removesuffix('f')})"
                if self._out and self._out[-1] == "-":
                    self._out.pop()
                    text = text.replace("Q16(", "Q16(-")
            elif text == "float":
                text = "q16"
            self._out.append(text)
        self._at += count

    def _next(self, *signs: str, start: int | None = None) -> int:
        """Where the next of some signs is, outside brackets."""
        depth, at = 0, self._at if start is None else start
        while at < len(self._tokens):
            text = self._tokens[at].text
            if depth == 0 and text in signs:
                return at
            depth += (text in ("(", "[")) - (text in (")", "]"))
            at += 1
        return at

    def _closing(self, at: int) -> int:
        depth = 0
        while True:
            text = self._tokens[at].text
            depth += (text == "(") - (text == ")")
            if depth == 0:
                return at
            at += 1

    def _expression_node(self, begin: int, end: int) -> _Node:
        return _Expression([token for token in self._tokens[begin:end] if token.kind != "skip"], self._names).whole()

    def _expression(self, begin: int, end: int) -> str:
        empty = all(token.kind == "skip" for token in self._tokens[begin:end])
        return "" if empty else self._expression_node(begin, end).text

    def _for(self) -> None:
        begin = self._next("(")
        end = self._closing(begin)
        first = self._next(";", start=begin + 1)
        self._names.declare("".join(token.text for token in self._tokens[begin + 1 : first]))
        self._copy(first + 1 - self._at)
        middle = self._next(";")
        self._out.append(" " + self._expression(self._at, middle))
        self._at = middle
        self._copy(end + 1 - self._at)

    def _statement(self) -> None:
        end = self._next(";", "{", "}")
        sign = self._next(*_ASSIGNS)
        declares = _is_type(self._tokens[self._at].text)
        if sign > end or (sign == end and sign == len(self._tokens)):
            if declares or (end < len(self._tokens) and self._tokens[end].text != ";"):
                own = "".join(token.text for token in self._tokens[self._at : end])
                if "(" in own and end < len(self._tokens) and self._tokens[end].text == "{":
                    self._names.enter(own)
                self._copy(end - self._at)
            else:
                self._out.append(self._expression(self._at, end))
                self._at = end
            return
        following = next(token for token in self._tokens[sign + 1 :] if token.kind != "skip")
        if following.text == "{" or self._tokens[self._at].text == ".":
            # values laid down in their order
            self._copy(sign + 1 - self._at)
            if following.text != "{":
                self._copy(min(self._next(",", "}"), len(self._tokens)) - self._at)
            return
        value = self._expression(sign + 1, end)
        if declares:
            self._names.declare("".join(token.text for token in self._tokens[self._at : sign]))
            self._copy(sign - self._at)
            self._out.append(f"= {value}")
        else:
            target = self._expression_node(self._at, sign)
            how = self._tokens[sign].text
            if how[0] in _CALLS and target.fixed:
                self._out.append(f"{target.text} = {_CALLS[how[0]]}({target.text}, {value})")
            else:
                self._out.append(f"{target.text} {how} {value}")
        self._at = end


def in_fixed_point(files: dict[str, str], beside: dict[str, str] | None = None) -> dict[str, str]:
    """Files in Q16.16, by name: every C file and header among them. `beside` are translated ones that they include."""
    texts = [text for name, text in files.items() if name.endswith((".c", ".h"))]
    names = _Names(texts + [text.replace("q16 ", "float ") for text in (beside or {}).values()])
    return {
        name: _File(text, names).rewritten() if name.endswith((".c", ".h")) else text for name, text in files.items()
    }
