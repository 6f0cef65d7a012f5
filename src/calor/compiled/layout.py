"""How numbers, rows and named tuples of them lie in memory where C reads them."""

from __future__ import annotations

import ctypes
import struct
from collections.abc import Callable
from typing import Any

import numpy as np

from calor.compiled.kinds import TRUTH, WHOLE, Array, Constant, Kind, Number, Row, Struct

_BYTE: Callable[[Any], Any] = ctypes.c_char.from_buffer


def address_of(array: Any, row: Row) -> tuple[int, ...]:
    """Where an array lies, and its lengths. Raises TypeError where C could not walk it."""
    if not isinstance(array, np.ndarray) or array.dtype != row.dtype or array.ndim != row.dims:
        what = f"{array.dtype} of {array.ndim} dimensions" if isinstance(array, np.ndarray) else type(array).__name__
        raise TypeError(f"an array of {np.dtype(row.dtype)} of {row.dims} dimensions is needed (received {what})")
    if not array.flags.c_contiguous:
        raise TypeError("an array without gaps is needed: copy it with np.ascontiguousarray")
    if array.size and array.flags.writeable:
        # what array.ctypes.data says, in a third of the time
        return (ctypes.addressof(_BYTE(array)), *array.shape)
    return (array.ctypes.data, *array.shape)


class Layout:
    """The bytes of a kind of value, padded as C pads them.

    A named tuple of numbers is mostly the very one of the call before, in all but a part: its bytes are kept, and those
    of each such tuple in it.
    """

    def __init__(self, kind: Kind) -> None:
        self._format: list[str] = []
        self._size = 0
        self._rows: list[Row] = []
        self._inner: list[Layout] = []
        self._keeps = isinstance(kind, Struct) and not _has_rows(kind)
        self._last: tuple[Any, bytes] = (None, b"")
        parts = self._walk(kind, "v", is_whole=True)
        self._pad(_alignment(kind))
        # one function that takes a value apart, written out: walking it part by part costs ten times as much
        names: dict[str, Any] = {f"row{k}": _reader(row) for k, row in enumerate(self._rows)}
        names |= {f"inner{k}": layout for k, layout in enumerate(self._inner)}
        self._flat: Callable[[Any], tuple[Any, ...]] = eval(f"lambda v: ({', '.join(parts)},)", names)
        self._struct = struct.Struct("=" + "".join(self._format))

    def _put(self, code: str, size: int) -> None:
        self._format.append(code)
        self._size += size

    def _pad(self, alignment: int) -> None:
        gap = -self._size % alignment
        if gap:
            self._put(f"{gap}x", gap)

    def _walk(self, kind: Kind, at: str, is_whole: bool = False) -> list[str]:
        """Lay a value out; the Python expressions that read its numbers from the value `at`."""
        self._pad(_alignment(kind))
        if isinstance(kind, Struct) and not is_whole and not _has_rows(kind):
            self._inner.append(Layout(kind))
            size = self._inner[-1]._struct.size
            self._put(f"{size}s", size)
            return [f"inner{len(self._inner) - 1}({at})"]
        if isinstance(kind, Struct | Array):
            kinds = kind.kinds if isinstance(kind, Struct) else (kind.item,) * kind.count
            parts = [path for k, part in enumerate(kinds) for path in self._walk(part, f"{at}[{k}]")]
            self._pad(_alignment(kind))
            return parts
        if isinstance(kind, Row):
            self._put("Q" + "q" * kind.dims, 8 * (1 + kind.dims))
            self._rows.append(kind)
            return [f"*row{len(self._rows) - 1}({at})"]
        if kind == TRUTH:
            self._put("?", 1)
            return [at]
        self._put("q" if kind == WHOLE else "d", 8)
        return [f"int({at})" if kind == WHOLE else at]

    def __call__(self, value: Any) -> bytes:
        """The bytes of a value. Raises TypeError for an array that C could not walk."""
        last, packed = self._last
        if self._keeps and value is last:
            return packed
        packed = self._struct.pack(*self._flat(value))
        if self._keeps and _is_fixed(value):
            self._last = (value, packed)
        return packed


def _is_fixed(value: Any) -> bool:
    """Whether nothing in a value can be changed afterwards, as in a list."""
    try:
        hash(value)
    except TypeError:
        return False
    return isinstance(value, tuple)


def _has_rows(kind: Kind) -> bool:
    if isinstance(kind, Struct):
        return any(_has_rows(part) for part in kind.kinds)
    return isinstance(kind, Row)


def _reader(row: Row) -> Callable[[Any], tuple[int, ...]]:
    return lambda array: address_of(array, row)


def _alignment(kind: Kind) -> int:
    if isinstance(kind, Struct):
        return max(_alignment(part) for part in kind.kinds)
    if isinstance(kind, Array):
        return _alignment(kind.item)
    assert not isinstance(kind, Constant)
    return 1 if isinstance(kind, Number) and kind == TRUTH else 8
