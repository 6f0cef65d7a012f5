"""A recorded run from a CSV file: separator, decimal sign, units and times recognised, gaps marked."""

from __future__ import annotations

import csv
import re
import warnings
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from calor.compiled import Column
from calor.errors import LogError, shown, unreadable
from calor.log.columns import Role, output_scale, recognise, seconds_per_unit, temperature_unit, temperatures
from calor.loop.trace import Flag, RunEvent, Trace
from calor.units import TemperatureUnit, to_celsius

if TYPE_CHECKING:
    import pandas as pd

WANTED = "a log (CSV with a header)"
SNIFFED_BYTES = 65_536
GAP_FACTOR = 5.0
"""A pause longer than this many usual sample times is a gap."""
NO_READING = [
    "",
    "-",
    "--",
    "---",
    "err",
    "ERR",
    "error",
    "ERROR",
    "fault",
    "FAULT",
    "open",
    "OPEN",
    "NaN",
    "nan",
    "NA",
    "N/A",
]


@dataclass(frozen=True)
class Layout:
    """How a log is written: what was recognised, to be shown to its owner."""

    separator: str
    decimal: str
    encoding: str
    skipped_lines: int
    headers: tuple[str, ...]
    roles: dict[Role, str]
    unit: TemperatureUnit

    def __str__(self) -> str:
        sign = {"\t": "tab", ";": "semicolon", ",": "comma", "|": "bar"}[self.separator]
        used = ", ".join(f"{role} from {header.strip()!r}" for role, header in self.roles.items())
        point = "decimal comma" if self.decimal == "," else "decimal point"
        return f"{used}; {self.unit}; separated by {sign}, {point}"


def read(path: Path) -> Trace:
    """The recorded run in the CSV file at `path`. Raises LogError with one line that says what would do."""
    return read_with_layout(path)[0]


def read_with_layout(path: Path) -> tuple[Trace, Layout]:
    """The recorded run at `path`, and how it was understood. Raises LogError."""
    layout = sniff(path)
    frame = _load(path, layout)
    time_s, order = _times(path, frame, layout)
    measured = _numbers(path, frame, layout, layout.roles["temperature"])[order]
    measured = to_celsius(layout.unit, measured)
    steps = len(time_s)
    setpoint, output = np.full(steps, np.nan), np.full(steps, np.nan)
    if "setpoint" in layout.roles:
        header = layout.roles["setpoint"]
        own_unit = temperature_unit(header) if re.search(r"[cfk°]\W*$", header.lower()) else layout.unit
        setpoint = to_celsius(own_unit, _numbers(path, frame, layout, header)[order])
    if "output" in layout.roles:
        header = layout.roles["output"]
        output = _numbers(path, frame, layout, header)[order]
        largest = float(np.nanmax(output)) if np.isfinite(output).any() else 1.0
        output = output / output_scale(header, largest)
    return _trace(path.name, time_s, measured, setpoint, output), layout


def read_temperatures(path: Path) -> tuple[Column, dict[str, Column], Column | None]:
    """(times s, every column of temperatures by its header as it is written, output or None) of a log.

    Raises LogError as `read` does.
    """
    layout = sniff(path)
    taken = [header for role, header in layout.roles.items() if role != "temperature"]
    names = temperatures(list(layout.headers), taken)
    frame = _load(path, layout, names)
    time_s, order = _times(path, frame, layout)
    columns = {name: _numbers(path, frame, layout, name)[order] for name in names}
    output = None
    if "output" in layout.roles:
        output = _numbers(path, frame, layout, layout.roles["output"])[order]
        largest = float(np.nanmax(output)) if np.isfinite(output).any() else 1.0
        output = output / output_scale(layout.roles["output"], largest)
    return time_s - time_s[0], columns, output


def _trace(name: str, time_s: Column, measured: Column, setpoint: Column, output: Column) -> Trace:
    time_s = time_s - time_s[0]
    paces = np.diff(time_s)
    usual_s = float(np.median(paces))
    in_gap = np.concatenate(([False], paces > GAP_FACTOR * usual_s))
    flags = np.where(in_gap, float(Flag.GAP), 0.0) + np.where(np.isfinite(measured), 0.0, float(Flag.PROBE_FAULT))
    events = [
        RunEvent(float(time_s[k - 1]), "gap", f"no record for {time_s[k] - time_s[k - 1]:.0f} s", float(time_s[k]))
        for k in np.flatnonzero(in_gap)[:200]
    ]
    empty = np.full(len(time_s), np.nan)
    return Trace(
        time_s, empty, empty, empty, measured, setpoint, empty, output, flags,
        span_s=float(time_s[-1]), events=tuple(events), name=name,
        recorded_output=output if np.isfinite(output).any() else None,
    )  # fmt: skip


def sniff(path: Path) -> Layout:
    """How the log at `path` is written. Raises LogError where it is no log, or has no time or temperature."""
    try:
        with path.open("rb") as stream:
            head = stream.read(SNIFFED_BYTES)
    except OSError as error:
        raise unreadable(LogError, path, error, WANTED) from None
    if not head.strip():
        raise LogError(path, "is empty", "", f"give the path of {WANTED}")
    if b"\0" in head and not head.startswith((b"\xff\xfe", b"\xfe\xff")):
        raise LogError(path, f"is not text (a zero byte at {head.index(0)})", "", f"give the path of {WANTED}")
    text, encoding = _decoded(head)
    if sum(not (char.isprintable() or char in "\r\n\t") for char in text) > 0.05 * len(text):
        raise LogError(path, "is not text", "", f"give the path of {WANTED}")
    lines = text.splitlines()
    if len(head) == SNIFFED_BYTES:
        lines = lines[:-1]
    first = next((k for k, line in enumerate(lines) if line.strip() and not line.startswith("#")), len(lines) - 1)
    body = [line for line in lines[first + 1 : first + 200] if line.strip()]
    header = lines[first]
    separator = max(";\t,|", key=lambda sign: (header.count(sign), -";\t,|".index(sign)))
    headers = next(csv.reader([header], delimiter=separator))
    decimal = "," if separator != "," and any(re.search(r"\d,\d", line) for line in body) else "."
    if not any(re.search(r"[A-Za-z°]", name) for name in headers):
        raise LogError(
            f"{path}: line {first + 1}",
            "there is no header",
            shown(header),
            "add a first line such as time_s,temperature_celsius",
        )
    roles = recognise(headers)
    if "time" not in roles:
        raise LogError(
            path, f"no column of times among {shown(headers, 100)}", "", "name one time_s (seconds) or timestamp"
        )
    if "temperature" not in roles:
        raise LogError(
            path,
            f"no column of temperatures among {shown(headers, 100)}",
            "",
            "name one temperature_celsius (or °F, K)",
        )
    return Layout(separator, decimal, encoding, first, tuple(headers), roles, temperature_unit(roles["temperature"]))


def _decoded(head: bytes) -> tuple[str, str]:
    if head.startswith((b"\xff\xfe", b"\xfe\xff")):
        return head.decode("utf-16", errors="replace"), "utf-16"
    try:
        return head.decode("utf-8-sig"), "utf-8-sig"
    except UnicodeDecodeError as error:
        if error.start > len(head) - 4:  # a character cut in two by the end of what was read
            return head[: error.start].decode("utf-8-sig"), "utf-8-sig"
        return head.decode("latin-1"), "latin-1"


def _load(path: Path, layout: Layout, also: list[str] | None = None) -> pd.DataFrame:
    import pandas as pd

    used = list(dict.fromkeys([*layout.roles.values(), *(also or [])]))

    try:
        frame = pd.read_csv(
            path, sep=layout.separator, decimal=layout.decimal, encoding=layout.encoding, skiprows=layout.skipped_lines,
            comment="#", na_values=NO_READING, usecols=used, index_col=False,
            low_memory=False,
        )  # fmt: skip
    except (ValueError, OSError) as error:
        line = str(error).strip().splitlines()[0]
        raise LogError(path, f"cannot be read as CSV: {line}", "", "mend that line or export the log again") from None
    if len(frame) < 2:
        raise LogError(path, f"has {len(frame)} row{'s' * (len(frame) != 1)} of data", "", "a run needs at least two")
    return frame


def _line_of(layout: Layout, row: int) -> str:
    return f"row {row + 1} (about line {row + layout.skipped_lines + 2})"


def _numbers(path: Path, frame: pd.DataFrame, layout: Layout, header: str) -> Column:
    """A column as numbers; blank and the usual words for no reading are NaN. Raises LogError at the first text."""
    import pandas as pd

    column = frame[header]
    if pd.api.types.is_bool_dtype(column):
        return column.to_numpy(float)
    if not pd.api.types.is_numeric_dtype(column):
        text = column.astype("string").str.strip()
        switched = text.str.lower().map({"on": 1.0, "off": 0.0, "true": 1.0, "false": 0.0})
        plain = text.str.replace(",", ".", regex=False) if layout.decimal == "," else text
        numeric = pd.to_numeric(plain, errors="coerce").fillna(switched)
        wrong = np.flatnonzero((numeric.isna() & text.notna()).to_numpy())
        if len(wrong):
            row = int(wrong[0])
            raise LogError(
                f"{path}: {_line_of(layout, row)}, column {header.strip()!r}",
                "is not a number",
                shown(str(text.iloc[row])),
                "correct it or leave it empty",
            )
        column = numeric
    values = np.asarray(column.to_numpy(dtype=float, na_value=np.nan), dtype=float)
    return np.where(np.isfinite(values), values, np.nan)


def _times(path: Path, frame: pd.DataFrame, layout: Layout) -> tuple[Column, npt.NDArray[np.intp]]:
    """Times in s, and the rows to keep: all but those that repeat the time before."""
    import pandas as pd

    header = layout.roles["time"]
    column = frame[header]
    numeric = pd.to_numeric(column, errors="coerce")
    if "date" not in layout.roles and numeric.notna().mean() > 0.5:
        time_s = numeric.to_numpy(float) * seconds_per_unit(header)
    else:
        text = column.astype("string").str.strip()
        if "date" in layout.roles:
            text = frame[layout.roles["date"]].astype("string").str.strip() + " " + text
        time_s = _stamps(text)
    bad = np.flatnonzero(~np.isfinite(time_s))
    if len(bad):
        row = int(bad[0])
        raise LogError(
            f"{path}: {_line_of(layout, row)}, column {header.strip()!r}",
            "is not a time",
            shown(str(column.iloc[row])),
            "use seconds or stamps like 2026-03-01 14:05:00",
        )
    falls = np.flatnonzero(np.diff(time_s) < 0.0)
    if len(falls):
        row = int(falls[0]) + 1
        raise LogError(
            f"{path}: {_line_of(layout, row)}",
            "times fall",
            f"{shown(str(column.iloc[row]))} after {shown(str(column.iloc[row - 1]))}",
            "sort the log by time or split it where the logger was restarted",
        )
    keep = np.concatenate(([True], np.diff(time_s) > 0.0))
    if keep.sum() < 2:
        raise LogError(path, "all rows have the same time", shown(str(column.iloc[0])), "check the time column")
    return time_s[keep], np.flatnonzero(keep)


def _stamps(text: pd.Series) -> Column:
    """Time stamps or clock times in s; NaN where a text is neither. A clock that passes midnight goes on."""
    import pandas as pd

    first = str(text.iloc[0])
    if re.fullmatch(r"\d+:\d\d(:\d\d([.,]\d+)?)?", first):
        padded = text.str.replace(",", ".", regex=False)
        padded = padded if first.count(":") == 2 else padded + ":00"
        clock = pd.to_timedelta(padded, errors="coerce").dt.total_seconds().to_numpy(float)
        days = np.concatenate(([0.0], np.cumsum(np.diff(clock) < -43_200.0)))
        return np.asarray(clock + 86_400.0 * days, dtype=float)
    day_first = re.match(r"\d{1,2}[./]\d{1,2}[./]\d{2,4}", first) is not None
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # pandas warns of what the caller says better, with the row
        stamps = pd.to_datetime(text, errors="coerce", dayfirst=day_first, utc=True)
        if stamps.isna().any():
            stamps = pd.to_datetime(text, errors="coerce", dayfirst=day_first, utc=True, format="mixed")
    since = (stamps - stamps.iloc[0]).dt.total_seconds()
    return np.asarray(since.to_numpy(dtype=float, na_value=np.nan), dtype=float)
