"""How the steps of the loop are compiled: once, kept on disk, with the floating point rules of the processor."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, ParamSpec, TypeVar

import numba
import numpy as np
import numpy.typing as npt
from numba import njit

# above 2 the compiler takes a quarter longer and the loop is no faster for it (measured)
numba.config.OPT = type(numba.config.OPT)("2")  # type: ignore[attr-defined, unused-ignore]

P = ParamSpec("P")
R = TypeVar("R")
Column = npt.NDArray[np.float64]
"""Numbers one after the other: a column of a run, readings, coefficients."""


def _layout(value: Any) -> Any:
    """The type under which a number, a row of numbers or a named tuple of them lies in memory."""
    if isinstance(value, tuple) and hasattr(value, "_fields"):
        return np.dtype([(name, _layout(getattr(value, name))) for name in value._fields], align=True)
    if isinstance(value, tuple):
        return np.dtype((np.float64, (len(value),)))
    if isinstance(value, bool | np.bool_):
        return np.dtype(np.bool_)
    return np.dtype(np.int64 if isinstance(value, int | np.integer) else np.float64)


def _plain(value: Any) -> Any:
    return tuple(_plain(part) for part in value) if isinstance(value, tuple) else value


_LAYOUTS: dict[type, Any] = {}
"""The layout of each kind of tuple, found once: the numbers in it are always as many."""


def in_memory(numbers: Any) -> Any:
    """Nested named tuples of numbers as one block of memory with the same names.

    Compiled code takes either; a block is handed on by its address, where a tuple of some hundred numbers would be
    copied from function to function, which costs compile time and speed.
    """
    kind = type(numbers)
    if kind not in _LAYOUTS:
        _LAYOUTS[kind] = _layout(numbers)
    return np.array(_plain(numbers), _LAYOUTS[kind])[()]


def compiled(
    *, inline: bool = False, releases_gil: bool = False, inner: bool = False
) -> Callable[[Callable[P, R]], Callable[P, R]]:
    """Compile a function and keep its type. A division by zero gives an infinity, as in C, and no exception.

    `inline` puts it into its callers, which saves passing many settings; `releases_gil` lets other threads run. An
    `inner` function is called by compiled code only: what takes its many settings out of Python objects, which costs
    most of its compile time, is left out.
    """

    def compile_function(function: Callable[P, R]) -> Callable[P, R]:
        made: Callable[P, R] = njit(
            cache=True,
            error_model="numpy",
            forceinline=inline,
            nogil=releases_gil,
            no_cpython_wrapper=inner,
            no_cfunc_wrapper=True,
        )(function)
        return made

    return compile_function
