"""The generated C in Q16.16 fixed point: the same statements, with 32-bit whole numbers of 1/65536 for every float.

The C is read as the few forms it is written in and written again: `a * b` of two floats becomes `q_mul(a, b)`, a
literal `0.5f` becomes `Q16(0.5)`, the rest stays as it was, comments with it. All arithmetic is held at the ends of
the range (±32 768) and never wraps, so no input whatever has undefined behaviour.
"""

from __future__ import annotations

import re
from functools import lru_cache

from calor.firmware.sources.c_expression import ASSIGNS, CALLS, Expression, Names, Node, is_type, tokens_of

LARGEST = 32_767.0
STEP = 1.0 / 65_536.0
"""The largest number of Q16.16, and the distance between two."""


class _File:
    """Rewrites one file, statement by statement."""

    def __init__(self, text: str, names: Names) -> None:
        self._tokens, self._names = tokens_of(text), names
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

    def _next(self, *signs: str, start: int | None = None, before: int | None = None) -> int:
        """Where the next of some signs is, outside brackets; where the search ends if there is none."""
        depth, at = 0, self._at if start is None else start
        end = len(self._tokens) if before is None else before
        while at < end:
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

    def _expression_node(self, begin: int, end: int) -> Node:
        return Expression([token for token in self._tokens[begin:end] if token.kind != "skip"], self._names).whole()

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
        sign = self._next(*ASSIGNS, before=end)
        declares = is_type(self._tokens[self._at].text)
        if sign == end:
            if declares or (end < len(self._tokens) and self._tokens[end].text != ";"):
                span_text = "".join(token.text for token in self._tokens[self._at : end])
                if "(" in span_text and end < len(self._tokens) and self._tokens[end].text == "{":
                    self._names.enter(span_text)
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
            if how[0] in CALLS and target.fixed:
                self._out.append(f"{target.text} = {CALLS[how[0]]}({target.text}, {value})")
            else:
                self._out.append(f"{target.text} {how} {value}")
        self._at = end


def in_fixed_point(files: dict[str, str], beside: dict[str, str] | None = None) -> dict[str, str]:
    """Files in Q16.16, by name: every C file and header among them. `beside` are translated ones that they include."""
    return dict(_translated(tuple(files.items()), tuple((beside or {}).values())))


@lru_cache(maxsize=32)
def _translated(files: tuple[tuple[str, str], ...], beside: tuple[str, ...]) -> tuple[tuple[str, str], ...]:
    """Files by name with their texts, translated; the same ones are asked for again by whatever looks at a design."""
    texts = [text for name, text in files if name.endswith((".c", ".h"))]
    names = Names(texts + [text.replace("q16 ", "float ") for text in beside])
    return tuple(
        (name, _File(text, names).rewritten() if name.endswith((".c", ".h")) else text) for name, text in files
    )


_CONSTANT = re.compile(r"Q16\((-?[\d.e+-]+)\)")


def exact(files: dict[str, str]) -> dict[str, str]:
    """The files with the whole number beside each constant: a compiler whose double has 32 bits would round it."""

    def beside(constant: re.Match[str]) -> str:
        value = float(constant[1])
        return f"Q16X({constant[1]}, {int(value * 65_536.0 + (-0.5 if value < 0.0 else 0.5))})"

    return {name: _CONSTANT.sub(beside, text) if name.endswith((".c", ".h")) else text for name, text in files.items()}
