"""A recorded run from a file: columns recognised, times put in order, faults set aside, and each of these said."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from calor.compiled import Column
from calor.errors import LogError, shown
from calor.log.clean import Faults, faults_of
from calor.log.finding import CAN_BE_TAKEN_BACK, MOST_PLACES, Finding, Kind
from calor.log.recognise import ColumnRead, Corrections, Recognised, recognise
from calor.log.remembered import remembered
from calor.log.text import NO_READING, SWITCHED, Table, read_table
from calor.log.times import Times, times_of
from calor.loop.trace import Flag, RunEvent, Trace
from calor.units import TemperatureUnit, format_duration, to_celsius

ROLES_BESIDE = ("output", "setpoint", "ambient")
GAP_FACTOR = 5.0
"""A pause longer than this many usual sample times is a gap."""


Rows = npt.NDArray[np.intp]

MARK, MOST_LETTERS = "mark", 120
"""The column of what somebody wrote down while it was recorded; so much of each is shown."""


@dataclass(frozen=True, eq=False)
class Record:
    """A recorded run: its trace, cleaned, how it was understood, and what was found.

    `raw_celsius` are the readings as they stand in the file. `ambient_celsius` is a column of the surroundings, `kept`
    are the other temperatures by name, °C. `begins` is the instant of the first row: s since 1970 where `has_date`,
    else s since midnight; None where the record knows no clock.
    """

    paths: tuple[Path, ...]
    trace: Trace
    raw_celsius: Column
    recognised: Recognised
    findings: tuple[Finding, ...]
    ambient_celsius: Column | None = None
    kept: dict[str, Column] = field(default_factory=dict)
    begins: float | None = None
    has_date: bool = False
    noise_celsius: float = 0.0
    rounding_celsius: float = 0.0

    @property
    def name(self) -> str:
        """What it is called: as its file."""
        return self.trace.name

    @property
    def pace_s(self) -> float:
        """Usual time between rows."""
        return float(np.median(np.diff(self.trace.time_s)))

    def finding(self, kind: str) -> Finding | None:
        """What was found of a kind."""
        return next((item for item in self.findings if item.kind == kind), None)


def read(path: Path) -> Trace:
    """The recorded run in the file at `path`. Raises LogError with one line that says what would do."""
    return read_record(path).trace


def read_with_layout(path: Path) -> tuple[Trace, Recognised]:
    """The recorded run at `path`, and how it was understood. Raises LogError."""
    record = read_record(path)
    return record.trace, record.recognised


def read_record(
    path: Path,
    corrections: Corrections | None = None,
    taken_back: frozenset[str] = frozenset(),
    afresh: bool = False,
) -> Record:
    """The recorded run in the file at `path`.

    `corrections` go before what is remembered for files with the same columns, and that before what is recognised;
    `afresh` leaves out what is remembered.
    `taken_back` are kinds of findings whose treatment is not wanted. Raises LogError.
    """
    table = read_table(path)
    earlier = Corrections() if afresh else remembered(table)
    return record_of(table, (corrections or Corrections()).over(earlier), taken_back)


def record_of(table: Table, corrections: Corrections, taken_back: frozenset[str] = frozenset()) -> Record:
    """The recorded run in a table that was read. Raises LogError."""
    understood = recognise(table, corrections)
    times = times_of(table, understood, taken_back)
    temperature = understood.of("temperature")
    assert temperature is not None
    raw = _celsius(table, temperature, times)
    faults = faults_of(times.time_s, raw)
    measured = cleaned(raw, faults, taken_back)
    steps = len(times.time_s)
    setpoint, output = np.full(steps, np.nan), np.full(steps, np.nan)
    column = understood.of("setpoint")
    if column is not None:
        setpoint = _held(_celsius(table, column, times)) if table.form == "lines" else _celsius(table, column, times)
    column = understood.of("output")
    if column is not None:
        output = _numbers(table, column.name)[times.rows] * column.scale
        output = _held(output) if table.form == "lines" else output
    ambient = understood.of("ambient")
    kept = {
        item.name: _celsius(table, item, times)
        for item in understood.columns
        if item.role == "kept" and _is_numeric(table, item.name)
    }
    trace, gaps = _trace(table.path.name, times, measured, setpoint, output, faults, taken_back)
    marks = _marks(table, times)
    if marks:
        trace = replace(trace, events=tuple(sorted((*trace.events, *marks), key=lambda event: event.at_s)))
    return Record(
        (table.path,), trace, raw, understood, _findings(table, times, raw, faults, gaps, taken_back),
        None if ambient is None else _celsius(table, ambient, times),
        kept,
        times.begins, times.has_date, faults.noise_celsius, faults.rounding_celsius,
    )  # fmt: skip


def read_temperatures(path: Path) -> tuple[Column, dict[str, Column], Column | None]:
    """(times s, every column of temperatures by its header as it is written, output or None) of a log.

    Raises LogError as `read` does.
    """
    table = read_table(path)
    understood = recognise(table, remembered(table))
    times = times_of(table, understood)
    names = [item.name for item in understood.columns if item.role in ("temperature", "ambient", "kept")]
    columns = {name: _numbers(table, name)[times.rows] for name in names}
    column = understood.of("output")
    output = None if column is None else _numbers(table, column.name)[times.rows] * column.scale
    return times.time_s, columns, output


def columns_of(table: Table, understood: Recognised, times: Times) -> dict[str, Column]:
    """Output (a fraction), setpoint and ambient (°C) of a table that may have no temperature, by role."""
    columns: dict[str, Column] = {}
    for role in ROLES_BESIDE:
        column = understood.of(role)
        if column is not None and role == "output":
            columns[role] = _numbers(table, column.name)[times.rows] * column.scale
        elif column is not None:
            columns[role] = _celsius(table, column, times)
    return columns


# ---- columns


def _celsius(table: Table, column: ColumnRead, times: Times) -> Column:
    unit: TemperatureUnit = column.unit  # type: ignore[assignment]
    return np.asarray(to_celsius(unit, _numbers(table, column.name)[times.rows]), np.float64)


def _held(values: Column) -> Column:
    """What is printed now and then holds until it is printed again."""
    rows = np.maximum.accumulate(np.where(np.isfinite(values), np.arange(len(values)), -1))
    return np.where(rows >= 0, values[np.maximum(rows, 0)], np.nan)


def _is_numeric(table: Table, name: str) -> bool:
    try:
        return bool(np.isfinite(_numbers(table, name)).any())
    except LogError:
        return False


def _numbers(table: Table, name: str) -> Column:
    """A column as numbers; blank and the usual words for no reading are NaN. Raises LogError at the first text."""
    import pandas as pd

    column = table.frame[name]
    if pd.api.types.is_bool_dtype(column):
        return np.asarray(column.to_numpy(float))
    if not pd.api.types.is_numeric_dtype(column):
        text = column.astype("string").str.strip()
        text = text.mask(text.str.lower().isin(NO_READING))
        plain = text.str.replace(",", ".", regex=False) if table.decimal == "," else text
        numeric = pd.to_numeric(plain, errors="coerce").fillna(text.str.lower().map(SWITCHED))
        wrong = np.flatnonzero((numeric.isna() & text.notna()).to_numpy())
        if len(wrong):
            row = int(wrong[0])
            raise LogError(
                f"{table.place(row)}, column {name.strip()!r}", "is not a number", shown(str(text.iloc[row])),
                "correct it or leave it empty",
            )  # fmt: skip
        column = numeric
    values = np.asarray(column.to_numpy(dtype=float, na_value=np.nan), dtype=float)
    return np.where(np.abs(values) < 1e15, values, np.nan)


def _marks(table: Table, times: Times) -> list[RunEvent]:
    """What somebody wrote down while it was recorded: the words of a column `mark`."""
    name = next((name for name in table.frame.columns if str(name).strip().lower() == MARK), None)
    if name is None:
        return []
    texts = table.frame[name].astype("string").fillna("").str.strip().to_numpy()[times.rows]
    rows = [k for k, text in enumerate(texts) if text][:MOST_PLACES]
    return [RunEvent(float(times.time_s[k]), MARK, str(texts[k])[:MOST_LETTERS]) for k in rows]


# ---- what is wrong, and what is done about it


def cleaned(raw: Column, faults: Faults, taken_back: frozenset[str]) -> Column:
    """The readings with spikes bridged, stuck ones and error values left out, unless that is taken back."""
    measured = raw.copy()
    if "error" not in taken_back:
        measured[faults.error] = np.nan
    if faults.spike.any() and "spike" not in taken_back:
        sound = np.flatnonzero(np.isfinite(measured) & ~faults.spike)
        rows = np.flatnonzero(faults.spike)
        measured[rows] = np.interp(rows, sound, raw[sound])
    if "stuck" not in taken_back:
        measured[faults.stuck] = np.nan
    for kind, mask in (("rate", faults.rate), ("clipped", faults.clipped)):
        if kind in taken_back:  # of these taking back means leaving out: by themselves they stay
            measured[mask] = np.nan
    return measured


def _trace(
    name: str,
    times: Times,
    measured: Column,
    setpoint: Column,
    output: Column,
    faults: Faults,
    taken_back: frozenset[str],
) -> tuple[Trace, Rows]:
    time_s = times.time_s
    paces = np.diff(time_s)
    usual_s = float(np.median(paces))
    in_gap = np.concatenate(([False], paces > GAP_FACTOR * usual_s))
    breaks = in_gap & ("gap" not in taken_back)
    if "reset" not in taken_back:
        breaks[times.reset] = True
    flags = np.where(breaks, float(Flag.GAP), 0.0) + np.where(np.isfinite(measured), 0.0, float(Flag.PROBE_FAULT))
    flags = flags + np.where(np.isfinite(measured), 0.0, np.where(faults.stuck, float(Flag.PROBE_STUCK), 0.0))
    resets = set(times.reset)
    events = [
        RunEvent(float(time_s[k]), "gap", "the counter starts again")
        if k in resets
        else RunEvent(float(time_s[k - 1]), "gap", f"no record for {time_s[k] - time_s[k - 1]:.0f} s", float(time_s[k]))
        for k in np.flatnonzero(breaks)[:MOST_PLACES].tolist()
    ]
    empty = np.full(len(time_s), np.nan)
    trace = Trace(
        time_s, empty, empty, empty, measured, setpoint, empty, output, flags,
        span_s=float(time_s[-1]), events=tuple(events), name=name,
        recorded_output=output if np.isfinite(output).any() else None,
    )  # fmt: skip
    return trace, np.flatnonzero(in_gap)


def _findings(
    table: Table, times: Times, raw: Column, faults: Faults, gaps: Rows, taken_back: frozenset[str]
) -> tuple[Finding, ...]:
    time_s = times.time_s
    end_s = float(time_s[-1])

    def stretches(mask: Any) -> tuple[list[float], list[float]]:
        edges = np.flatnonzero(np.diff(np.asarray(mask).astype(np.int8), prepend=0, append=0))
        return [float(time_s[k]) for k in edges[::2]], [float(time_s[k - 1]) for k in edges[1::2]]

    def at(rows: list[int]) -> tuple[list[float], list[float]]:
        return [float(time_s[k]) for k in rows], [float(time_s[k]) for k in rows]

    findings: list[Finding] = []

    def add(
        kind: Kind, count: int, places: tuple[list[float], list[float]], text: str, done: str = "", otherwise: str = ""
    ) -> None:
        if count:
            begins, ends = tuple(places[0][:MOST_PLACES]), tuple(places[1][:MOST_PLACES])
            back = kind in taken_back and kind in CAN_BE_TAKEN_BACK
            findings.append(Finding(kind, count, begins, ends, text, done, otherwise, back))

    nowhere: tuple[list[float], list[float]] = ([], [])
    said = f"lines that are no rows, the first {shown(table.first_skipped, 40)}"
    add("text", table.skipped, nowhere, said, "skipped")
    gone_s = float(sum(time_s[int(k)] - time_s[int(k) - 1] for k in gaps))
    add(
        "gap", len(gaps), ([float(time_s[int(k) - 1]) for k in gaps], [float(time_s[int(k)]) for k in gaps]),
        f"{format_duration(gone_s)} without a row", "the record is broken there", "read on as if nothing were missing",
    )  # fmt: skip
    add("reset", len(times.reset), at(times.reset), "the counter starts again", "the record is broken there",
        "read on as if it followed at once")  # fmt: skip
    add("wrapped", len(times.wrapped), at(times.wrapped), "the counter came to its end", "counted on",
        "taken as a reset")  # fmt: skip
    place = np.clip(np.searchsorted(times.rows, times.repeated) - 1, 0, len(time_s) - 1).tolist()
    add("repeated", len(times.repeated), at(place), "rows at the time of the row before", "left out",
        "spread until the next time")  # fmt: skip
    ordered = {int(row): k for k, row in enumerate(times.rows)} if len(times.falling) else {}
    late = [ordered[int(row)] for row in times.falling[:MOST_PLACES] if int(row) in ordered]
    add("falling", len(times.falling), at(late), "rows that come late", "put where they belong", "left out")
    blank = ~np.isfinite(raw)
    add("no_reading", int(blank.sum()), stretches(blank), "rows without a reading", "taken as faults of the probe")
    values = " and ".join(f"{one:g} °C".replace("-", "−") for one in faults.error_celsius)
    said = f"readings of {values}, far from all others and no temperatures"
    add("error", int(faults.error.sum()), stretches(faults.error), said, "left out", "kept")
    add("spike", int(faults.spike.sum()), stretches(faults.spike), "far from the readings on both sides",
        "bridged by a line", "kept")  # fmt: skip
    add("stuck", int(faults.stuck.sum()), stretches(faults.stuck), "one reading again and again", "left out", "kept")
    jumps = np.flatnonzero(faults.rate).tolist()
    add("rate", len(jumps), at(jumps), "jumps far faster than all else in it", "kept",
        "the reading after each is left out")  # fmt: skip
    add("clipped", int(faults.clipped.sum()), stretches(faults.clipped), "readings stand at an end of the scale",
        "kept", "left out")  # fmt: skip
    if faults.rounding_celsius >= 0.002:
        add("rounding", 1, ([0.0], [end_s]), f"readings in steps of {faults.rounding_celsius:.3g} °C", "kept")
    return tuple(findings)
