"""The times of a record: stamps or a counter, unrolled where it wraps or starts again, put in order."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt

from calor.compiled import Column
from calor.errors import LogError, shown
from calor.log.recognise import STAMPS, Recognised
from calor.log.text import Table
from calor.warned import warnings_as

if TYPE_CHECKING:
    import pandas as pd

WIDTHS = (2.0**32, 2.0**16)
"""Where counters of a microcontroller wrap."""
NEAR_STEPS = 20.0
"""A wrap is one where so many usual steps or fewer lie between the last value and the first after it."""
MOST_RESETS_SHARE, MOST_LATE_SHARE = 0.05, 0.3


@dataclass
class Times:
    """Times of rows in s from the first, rising; `rows` are the rows of the table they belong to.

    `begins` is the first instant: s since 1970 where `has_date`, else s since midnight; None where neither is known.
    The others are indices into `time_s`: rows that follow a wrap, a reset. `repeated` and `falling` are rows of the
    table.
    """

    time_s: Column
    rows: npt.NDArray[np.intp]
    begins: float | None = None
    has_date: bool = False
    wrapped: list[int] = field(default_factory=list)
    reset: list[int] = field(default_factory=list)
    repeated: npt.NDArray[np.intp] = field(default_factory=lambda: np.empty(0, np.intp))
    falling: npt.NDArray[np.intp] = field(default_factory=lambda: np.empty(0, np.intp))


def times_of(table: Table, read: Recognised, taken_back: frozenset[str] = frozenset()) -> Times:
    """The times of a table. `taken_back` are findings left as they are. Raises LogError where there are none."""
    every_s = read.corrections.every_s
    if every_s is not None:
        count = len(table.frame)
        return Times(np.arange(count, dtype=np.float64) * every_s, np.arange(count))
    column = read.of("time")
    assert column is not None
    stamps = column.unit == STAMPS
    raw, begins, has_date = _stamped(table, read) if stamps else (_counted(table, column.name), None, False)
    bad = np.flatnonzero(~np.isfinite(raw))
    if len(bad):
        row = int(bad[0])
        raise LogError(
            f"{table.place(row)}, column {column.name!r}", "is not a time",
            shown(str(table.frame[column.name].iloc[row])),
            "use seconds or stamps like 2026-03-01 14:05:00",
        )  # fmt: skip
    since_1970 = "since 1970" in column.why
    if since_1970:
        begins, has_date = float(raw[0]) * column.scale, True
    wrapped: list[int] = []
    reset: list[int] = []
    if not stamps and not since_1970:
        raw, wrapped, reset = _unroll(raw, column.scale, taken_back)
    times = _ordered(raw * column.scale, taken_back)
    if len(reset) > max(MOST_RESETS_SHARE * len(raw), 3) or len(times.falling) > max(MOST_LATE_SHARE * len(raw), 3):
        raise LogError(
            f"{table.path}, column {column.name!r}", f"falls back {len(reset) + len(times.falling)} times", "",
            "this is no column of times: say which is (--time)",
        )  # fmt: skip
    if len(times.time_s) < 2:
        first = shown(str(table.frame[column.name].iloc[0]))
        raise LogError(table.path, "all rows have the same time", first, "check the time column")
    place = {int(row): k for k, row in enumerate(times.rows)} if wrapped or reset else {}
    times.wrapped = [place[row] for row in wrapped if row in place]
    times.reset = [place[row] for row in reset if row in place]
    times.begins, times.has_date = begins, has_date
    times.time_s = times.time_s - times.time_s[0]
    return times


def _counted(table: Table, name: str) -> Column:
    import pandas as pd

    column = table.frame[name]
    if not pd.api.types.is_numeric_dtype(column):
        text = column.astype("string").str.strip()
        text = text.str.replace(",", ".", regex=False) if table.decimal == "," else text
        column = pd.to_numeric(text, errors="coerce")
    return np.asarray(column.to_numpy(dtype=float, na_value=np.nan), float)


def _unroll(raw: Column, scale: float, taken_back: frozenset[str]) -> tuple[Column, list[int], list[int]]:
    """A counter that goes on where it wraps or starts again; the rows after each wrap, and after each start."""
    steps = np.diff(raw)
    usual = float(np.median(steps[steps > 0.0])) if np.any(steps > 0.0) else 1.0
    wrapped: list[int] = []
    reset: list[int] = []
    added = np.zeros(len(raw))
    may_wrap = bool(np.all(raw == np.floor(raw))) and "wrapped" not in taken_back
    for row in np.flatnonzero(steps < 0.0) + 1:
        before, after = float(raw[row - 1]), float(raw[row])
        width = next((w for w in WIDTHS if before < w and 0.0 < after + w - before <= NEAR_STEPS * usual), None)
        if width is not None and may_wrap:
            added[row:] += width
            wrapped.append(int(row))
        # it starts again near nothing, and goes on from there; else a row has come late
        elif after <= max(NEAR_STEPS * usual, 0.5 * before) and (
            after <= raw[row + 1] < before if row + 1 < len(raw) else before - after > 3.0 * usual
        ):
            added[row:] += before + usual - after
            reset.append(int(row))
    return raw + added, wrapped, reset


def _ordered(time_s: Column, taken_back: frozenset[str]) -> Times:
    """Rows in order of time: one that came late is put where it belongs, of several at one time the first stays.

    Taken back: the late one is left out; those at one time are spread until the next.
    """
    rows = np.arange(len(time_s))
    late = time_s < np.maximum.accumulate(time_s)
    falling = np.flatnonzero(late)
    if len(falling) and "falling" in taken_back:
        rows = rows[~late]
    elif len(falling):
        rows = np.argsort(time_s, kind="stable")
    ordered = time_s[rows]
    again = np.concatenate(([False], np.diff(ordered) <= 0.0))
    repeated = rows[again]
    if len(repeated) and "repeated" in taken_back:
        return Times(_spread(ordered, again), rows, repeated=repeated, falling=falling)
    return Times(ordered[~again], rows[~again], repeated=repeated, falling=falling)


def _spread(time_s: Column, again: npt.NDArray[np.bool_]) -> Column:
    """Times of which some repeat, spread evenly until the next that differs."""
    firsts = np.flatnonzero(~again)
    if len(firsts) < 2:
        return time_s[firsts]
    counts = np.diff(np.append(firsts, len(time_s)))
    paces = np.append(np.diff(time_s[firsts]), 0.0)
    paces[-1] = float(np.median(paces[:-1]))
    within = np.arange(len(time_s)) - np.repeat(firsts, counts)
    return np.asarray(time_s[np.repeat(firsts, counts)] + within * np.repeat(paces / counts, counts), np.float64)


# ---- stamps


def _stamped(table: Table, read: Recognised) -> tuple[Column, float | None, bool]:
    """(times in s, the first as s since 1970 or since midnight, whether it is the former) of stamps or clock times."""
    import pandas as pd

    column, date = read.of("time"), read.of("date")
    assert column is not None
    text = table.frame[column.name].astype("string").str.strip()
    if date is not None:
        text = table.frame[date.name].astype("string").str.strip() + " " + text
    first = str(text.iloc[0])
    half_day = re.fullmatch(r"\d+:\d\d(:\d\d([.,]\d+)?)? ?[AaPp]\.?[Mm]\.?", first)
    if half_day:
        clocks = _parsed("2000-01-01 " + text.str.replace(".", "", regex=False), False, "mixed")
        clock = (clocks - pd.Timestamp("2000-01-01", tz="UTC")).dt.total_seconds().to_numpy(np.float64, na_value=np.nan)
        return _through_midnight(clock), float(clock[0]) if np.isfinite(clock[0]) else None, False
    if re.fullmatch(r"\d+:\d\d(:\d\d([.,]\d+)?)?", first):
        padded = text.str.replace(",", ".", regex=False)
        padded = padded if first.count(":") == 2 else padded + ":00"
        clock = pd.to_timedelta(padded, errors="coerce").dt.total_seconds().to_numpy(float)
        return _through_midnight(clock), float(clock[0]) if np.isfinite(clock[0]) else None, False
    day_first = re.match(r"\d{1,2}[./]\d{1,2}[./]\d{2,4}", first) is not None
    # the hour of the day is the one that is written, whatever its zone
    local = re.sub(r"(Z|[+-]\d\d:?\d\d)$", "", first)
    # pandas warns of what the caller says better, with the row, and sets warnings itself meanwhile
    with warnings_as("ignore"):
        stamps = _parsed(text, day_first, None)
        if stamps.isna().any():
            stamps = _parsed(text, day_first, "mixed")
        whole = pd.to_datetime(local, errors="coerce", dayfirst=day_first)
    begins = None if pd.isna(whole) else float((whole - pd.Timestamp(0)).total_seconds())
    since = (stamps - stamps.iloc[0]).dt.total_seconds()
    return np.asarray(since.to_numpy(dtype=float, na_value=np.nan), dtype=float), begins, begins is not None


def _through_midnight(clock: npt.NDArray[Any]) -> Column:
    """Clock times that go on through midnight."""
    days = np.concatenate(([0.0], np.cumsum(np.diff(clock) < -43_200.0)))
    return np.asarray(clock + 86_400.0 * days, dtype=float)


def _parsed(text: pd.Series, day_first: bool, form: str | None) -> pd.Series:
    """Stamps as pandas reads them; none where it gives up."""
    import pandas as pd

    try:
        return pd.to_datetime(text, errors="coerce", dayfirst=day_first, utc=True, format=form)
    except (ValueError, OverflowError, TypeError):
        return pd.Series(pd.NaT, index=text.index, dtype="datetime64[ns, UTC]")
