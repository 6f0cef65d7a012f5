"""The local names of a compiled step: where in the C each is declared.

A name is declared where it is first given a value, if that line always runs before every other use of it; else at the
top of the function, because in Python it would keep its value from one round of a loop to the next.
"""

from __future__ import annotations

import ast
from collections.abc import Iterator
from typing import NamedTuple

Path = tuple[tuple[int, int], ...]
"""From the function's body down to a statement: which list of statements, and which one of it."""


class Use(NamedTuple):
    """One place at which a name stands."""

    path: Path
    statement: ast.stmt
    stores: bool


def blocks_of(statement: ast.stmt) -> list[list[ast.stmt]]:
    """The lists of statements inside one."""
    return [block for name in ("body", "orelse") if (block := getattr(statement, name, []))]


def uses(body: list[ast.stmt], path: Path = ()) -> Iterator[tuple[str, Use]]:
    """Every place at which a name stands, in the order of the source."""
    for number, statement in enumerate(body):
        here = (*path, (id(body), number))
        inner = blocks_of(statement)
        own: list[ast.AST] = [statement]
        if inner:
            own = [node for node in (getattr(statement, name, None) for name in ("test", "target", "iter")) if node]
        for part in own:
            for node in ast.walk(part):
                if isinstance(node, ast.Name):
                    stores = isinstance(node.ctx, ast.Store)
                    yield node.id, Use(here, statement, stores)
                    if stores and isinstance(statement, ast.AugAssign):
                        yield node.id, Use(here, statement, False)
        for block in inner:
            yield from uses(block, here)


def places(body: list[ast.stmt], arguments: set[str]) -> tuple[dict[str, ast.stmt], set[str], set[str]]:
    """(the statement that declares each name; names declared at the top; names given a value once only)."""
    found: dict[str, list[Use]] = {}
    for name, use in uses(body):
        found.setdefault(name, []).append(use)
    declared: dict[str, ast.stmt] = {}
    at_top, once = set(), set()
    for name, all_uses in found.items():
        stores = [use for use in all_uses if use.stores]
        if not stores or name in arguments:
            continue
        if len(stores) == 1:
            once.add(name)
        first = stores[0]
        depth = len(first.path) - 1
        block, number = first.path[depth]
        after = all(
            use.path[:depth] == first.path[:depth] and use.path[depth][0] == block and use.path[depth][1] >= number
            for use in all_uses
        )
        reads_itself = any(use.statement is first.statement and not use.stores for use in all_uses)
        if isinstance(first.statement, ast.Assign) and after and not reads_itself:
            declared[name] = first.statement
        else:
            at_top.add(name)
    return declared, at_top, once
