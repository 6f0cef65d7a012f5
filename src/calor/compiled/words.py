"""Words that mean something else in the C."""

from __future__ import annotations

_WORDS = """
    auto break case char const continue default do double else enum extern float for goto if inline int long
    register restrict return short signed sizeof static struct switch typedef union unsigned void volatile while
    bool true false column table counts flags singles pow fabs llabs whole fill smaller larger smaller_whole
    larger_whole modulo modulo_whole quotient_whole row_of row_from series NAN INFINITY EXPORTED linux unix
"""
RESERVED = frozenset(_WORDS.split())


def spelled(name: str) -> str:
    """A name of the source in the C: with an underscore where it is a word of C or of the runtime."""
    return f"{name}_" if name in RESERVED else name
