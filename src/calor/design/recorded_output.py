"""A recorded output: a CSV file beside the design, with a time and a column of what was switched."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path
from typing import NamedTuple

import numpy as np

from calor.compiled import Column
from calor.design.recorded_table import read_columns
from calor.errors import CalorError, unreadable

WANTED = "a CSV file with a time in s and an output of 0 to 1"


class Output(NamedTuple):
    """What was switched: instants in s from the trial's start, and the share of full output given from each on."""

    time_s: Column
    share: Column


def read_output(path: str, column: str | None) -> Output:
    """A recorded output, changes alone. Raises CalorError with what is wrong."""
    place = Path(path)
    try:
        changed = place.stat().st_mtime_ns
    except OSError as error:
        raise unreadable(CalorError, place, error, WANTED) from None
    return _read(path, changed, column)


@lru_cache(maxsize=8)
def _read(path: str, changed: int, column: str | None) -> Output:
    del changed  # part of the key: a file that was written anew is read anew
    import pandas as pd

    table = read_columns(path, WANTED)
    names = list(table.columns)
    wanted = names[1] if column is None else column
    if wanted not in names:
        raise CalorError(f"{path}: output_column", f"there is no column {wanted!r}", "", f"it has {', '.join(names)}")
    time_s = np.asarray(pd.to_numeric(table[names[0]], errors="coerce"), np.float64)
    share = np.asarray(pd.to_numeric(table[wanted], errors="coerce"), np.float64)
    known = np.isfinite(time_s) & np.isfinite(share)
    if not known.any():
        raise CalorError(path, f"column {wanted!r} holds no number beside a time", "", "name another in output_column")
    time_s, share = time_s[known], share[known]
    if np.abs(share).max() > 1.0:
        raise CalorError(
            f"{path}: {wanted}", "is beyond full output", f"{share[np.argmax(np.abs(share))]:g}",
            "give a fraction of full output: 0 to 1, below 0 for cooling",
        )  # fmt: skip
    order = np.argsort(time_s, kind="stable")
    time_s, share = time_s[order], share[order]
    changes = np.concatenate(([True], share[1:] != share[:-1]))
    return Output(time_s[changes], share[changes])
