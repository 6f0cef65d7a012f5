"""A recorded ambient: a CSV file beside the design, with a time and a temperature column."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path
from typing import NamedTuple

import numpy as np

from calor.compiled import Column
from calor.design.recorded_table import read_columns
from calor.errors import CalorError, unreadable
from calor.warned import warnings_as

COLDEST_CELSIUS, HOTTEST_CELSIUS = -273.15, 3000.0
WANTED = "a CSV file with a time and a temperature column"


class Record(NamedTuple):
    """A recorded ambient: seconds from its first row, °C, and relative humidity 0 to 1 (NaN where not recorded)."""

    time_s: Column
    celsius: Column
    humidity: Column


def read_record(path: str, ambient_column: str | None, humidity_column: str | None) -> Record:
    """A recorded ambient. Raises CalorError with what is wrong."""
    place = Path(path)
    try:
        changed = place.stat().st_mtime_ns
    except OSError as error:
        raise unreadable(CalorError, place, error, WANTED) from None
    return _read(path, changed, ambient_column, humidity_column)


@lru_cache(maxsize=8)
def _read(path: str, changed: int, ambient_column: str | None, humidity_column: str | None) -> Record:
    del changed  # part of the key: a file that was written anew is read anew
    import pandas as pd

    table = read_columns(path, WANTED)
    names = list(table.columns)
    wanted = names[1] if ambient_column is None else ambient_column
    for key, name in (("ambient_column", wanted), ("humidity_column", humidity_column)):
        if name is not None and name not in names:
            raise CalorError(f"{path}: {key}", f"there is no column {name!r}", "", f"it has {', '.join(names)}")
    time_s = pd.to_numeric(table[names[0]], errors="coerce")
    if time_s.isna().all():
        with warnings_as("ignore", UserWarning):  # of stamps in no form that is known, each is looked at
            stamps = pd.to_datetime(table[names[0]], errors="coerce", utc=True)
        time_s = (stamps - stamps.iloc[0]).dt.total_seconds()
    seconds = np.asarray(time_s, dtype=np.float64)
    celsius = np.asarray(pd.to_numeric(table[wanted], errors="coerce"), dtype=np.float64)
    humidity = np.full(len(celsius), np.nan)
    if humidity_column is not None:
        humidity = np.asarray(pd.to_numeric(table[humidity_column], errors="coerce"), dtype=np.float64) / 100.0
    known = np.isfinite(seconds) & np.isfinite(celsius)
    if not known.any():
        raise CalorError(path, f"column {wanted!r} holds no number beside a time", "", "name another in ambient_column")
    seconds, celsius, humidity = seconds[known], celsius[known], humidity[known]
    worst = float(celsius[np.argmax(np.abs(celsius))])
    if not COLDEST_CELSIUS <= worst <= HOTTEST_CELSIUS:
        rule = f"holds what is no ambient temperature, from {COLDEST_CELSIUS:g} to {HOTTEST_CELSIUS:g} °C"
        raise CalorError(f"{path}: {wanted}", rule, f"{worst:g} °C", "name another in ambient_column, or mend the row")
    order = np.argsort(seconds, kind="stable")
    seconds, celsius, humidity = seconds[order], celsius[order], humidity[order]
    return Record(seconds - seconds[0], celsius, humidity)
