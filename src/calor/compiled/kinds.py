"""The kinds of values a compiled step has, and the C type of each."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Any

import numpy as np
import numpy.typing as npt


@dataclass(frozen=True)
class Number:
    """One number, or nothing."""

    c: str


REAL, WHOLE, TRUTH, SINGLE, NOTHING = (Number(c) for c in ("double", "int64_t", "bool", "float", "void"))


@dataclass(frozen=True)
class Row:
    """Numbers one after the other in an array of NumPy's, of one or two dimensions: an address and lengths."""

    c: str
    item: Number
    dims: int
    dtype: Any


@dataclass(frozen=True)
class Array:
    """A tuple of so many numbers of one kind."""

    c: str
    item: Number
    count: int


@dataclass(frozen=True)
class Struct:
    """A named tuple, or a tuple of several kinds; `made_by` is its class."""

    c: str
    names: tuple[str, ...]
    kinds: tuple[Kind, ...]
    made_by: Any

    def field(self, name: str) -> Kind | None:
        """The kind of a field; None where it has none of that name."""
        return self.kinds[self.names.index(name)] if name in self.names else None


@dataclass(frozen=True)
class Constant:
    """An array of a module, written into the C as it is."""

    c: str
    item: Number
    shape: tuple[int, ...]


Kind = Number | Row | Array | Struct | Constant

COLUMN, TABLE = Row("column", REAL, 1, np.float64), Row("table", REAL, 2, np.float64)
COUNTS, FLAGS = Row("counts", WHOLE, 1, np.int64), Row("flags", TRUTH, 1, np.bool_)
SINGLES = Row("singles", SINGLE, 1, np.float32)

Column = Annotated[npt.NDArray[np.float64], COLUMN]
"""Numbers one after the other: a column of a run, readings, coefficients."""
Table = Annotated[npt.NDArray[np.float64], TABLE]
"""Rows of numbers."""
Counts = Annotated[npt.NDArray[np.int64], COUNTS]
"""Whole numbers one after the other."""
Flags = Annotated[npt.NDArray[np.bool_], FLAGS]
"""Truth values one after the other."""
Singles = Annotated[npt.NDArray[np.float32], SINGLES]
"""Numbers in single precision, as firmware has them."""


def bytes_of(kind: Kind) -> int:
    """How much memory a value takes, about: padding is left out."""
    if isinstance(kind, Struct):
        return sum(bytes_of(part) for part in kind.kinds)
    if isinstance(kind, Array):
        return bytes_of(kind.item) * kind.count
    if isinstance(kind, Row):
        return 8 * (1 + kind.dims)
    return 1 if kind == TRUTH else 8
