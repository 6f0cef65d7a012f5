"""How the steps of the loop are compiled: once, kept on disk, with the floating point rules of the processor."""

from __future__ import annotations

from collections.abc import Callable
from typing import ParamSpec, TypeVar

import numpy as np
import numpy.typing as npt
from numba import njit

P = ParamSpec("P")
R = TypeVar("R")
Column = npt.NDArray[np.float64]
"""Numbers one after the other: a column of a run, readings, coefficients."""


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
