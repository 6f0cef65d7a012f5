"""The error for what a compiled step may not use."""

from __future__ import annotations

import ast
import inspect
from typing import Any

from calor.errors import CalorError, shown


class TranslationError(CalorError):
    """A step uses what the subset has not: file, line, what, and what would do."""


def problem(python: Any, node: ast.AST, what: str, remedy: str) -> TranslationError:
    """The error for a piece of a function's source."""
    line = python.__code__.co_firstlineno + getattr(node, "lineno", 1) - 1
    source = shown(ast.unparse(node)).strip("'\"")
    where = f"{inspect.getsourcefile(python)}:{line}: {python.__name__}"
    return TranslationError(where, f"{what}: {source}", remedy=f"{remedy} (docs/compiled-steps.md)")
