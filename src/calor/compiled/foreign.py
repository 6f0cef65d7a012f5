"""Functions that a compiled step may call and that C has of its own: Python's, the maths library's, the runtime's."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any, NamedTuple, TypeVar

import numpy as np

from calor.compiled.kinds import REAL, TRUTH, WHOLE, Number

F = TypeVar("F", bound=Callable[..., Any])


class Foreign(NamedTuple):
    """What stands in C for a function, and the kind of its result."""

    c: str
    result: Number


FOREIGN: dict[Any, Foreign] = {
    math.exp: Foreign("exp", REAL), math.expm1: Foreign("expm1", REAL), math.log: Foreign("log", REAL),
    math.sqrt: Foreign("sqrt", REAL), math.sin: Foreign("sin", REAL), math.cos: Foreign("cos", REAL),
    math.floor: Foreign("floor_whole", WHOLE), np.ceil: Foreign("ceil", REAL), np.isnan: Foreign("isnan", TRUTH),
    math.isnan: Foreign("isnan", TRUTH),
}  # fmt: skip


def in_c(name: str, result: Number) -> Callable[[F], F]:
    """Mark a Python function for which runtime.c has one called `name`."""

    def mark(function: F) -> F:
        FOREIGN[function] = Foreign(name, result)
        return function

    return mark
