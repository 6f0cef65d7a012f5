"""Several files of one run as one record: parts that follow one another, or columns that were kept apart, by time."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import NamedTuple

import numpy as np

from calor.compiled import Column
from calor.errors import LogError
from calor.log.finding import MOST_PLACES, Finding
from calor.log.read import GAP_FACTOR, Record, columns_of, record_of
from calor.log.recognise import Corrections, recognise
from calor.log.remembered import remembered
from calor.log.text import read_table
from calor.log.times import times_of
from calor.loop.trace import Flag, RunEvent, Trace

COLUMNS = ("measured_celsius", "setpoint_celsius", "delivered", "flags")


class _Side(NamedTuple):
    """A file without the temperature: its instants, and what it has beside."""

    path: Path
    time_s: Column
    begins: float | None
    has_date: bool
    columns: dict[str, Column]


def read_joined(
    paths: list[Path],
    corrections: Corrections | None = None,
    taken_back: frozenset[str] = frozenset(),
    afresh: bool = False,
) -> Record:
    """One record from several files of one run. The first one with a temperature names it.

    Files with stamps are joined by them; without, those with a temperature follow one another in the order given, and
    columns kept apart begin together. Raises LogError.
    """
    parts: list[Record] = []
    sides: list[_Side] = []
    for path in paths:
        table = read_table(path)
        wanted = (corrections or Corrections()).over(Corrections() if afresh else remembered(table))
        understood = recognise(table, wanted, needs=("time",))
        if understood.of("temperature") is not None:
            parts.append(record_of(table, wanted, taken_back))
        else:
            times = times_of(table, understood, taken_back)
            sides.append(_Side(path, times.time_s, times.begins, times.has_date, columns_of(table, understood, times)))
    if not parts:
        raise LogError(
            paths[0], "none of the files has a column of temperatures", "", "say which it is (--temperature)"
        )
    record = parts[0] if len(parts) == 1 else _in_a_row(parts)
    for side in sides:
        record = _beside(record, side)
    return replace(record, paths=tuple(paths))


def _in_a_row(parts: list[Record]) -> Record:
    """Parts as one, in order of time; without a common clock as they were given, with a break between."""
    clocked = all(part.begins is not None and part.has_date for part in parts)
    begins: list[float] = []
    if clocked:
        parts = sorted(parts, key=lambda part: part.begins or 0.0)
        begins = [float(part.begins or 0.0) - float(parts[0].begins or 0.0) for part in parts]
    else:
        at_s = 0.0
        for part in parts:
            begins.append(at_s)
            at_s += part.trace.span_s + part.pace_s
    first = parts[0]
    time_s = np.concatenate([part.trace.time_s + begin for part, begin in zip(parts, begins, strict=True)])
    order = np.argsort(time_s, kind="stable")
    order = order[np.concatenate(([True], np.diff(time_s[order]) > 0.0))]
    columns = {name: np.concatenate([getattr(part.trace, name) for part in parts])[order] for name in COLUMNS}
    raw = np.concatenate([part.raw_celsius for part in parts])[order]
    ambient = None
    if all(part.ambient_celsius is not None for part in parts):
        ambient = np.concatenate([part.ambient_celsius for part in parts])[order]
    kept = {
        name: np.concatenate([part.kept[name] for part in parts])[order]
        for name in first.kept
        if all(name in part.kept for part in parts)
    }
    time_s = time_s[order]
    whole = columns["flags"].astype(np.int64)
    seams = [int(np.searchsorted(time_s, begin)) for begin in begins[1:]]
    usual_s = float(np.median(np.diff(time_s)))
    events = [
        event._replace(at_s=event.at_s + begin, until_s=event.until_s + begin)
        for part, begin in zip(parts, begins, strict=True)
        for event in part.trace.events
    ]
    for row in seams:
        if 0 < row < len(time_s) and (not clocked or time_s[row] - time_s[row - 1] > GAP_FACTOR * usual_s):
            whole[row] |= int(Flag.GAP)
            events.append(RunEvent(float(time_s[row - 1]), "gap", "the next file", float(time_s[row])))
    empty = np.full(len(time_s), np.nan)
    output = columns["delivered"]
    trace = Trace(
        time_s, empty, empty, empty, columns["measured_celsius"], columns["setpoint_celsius"], empty, output,
        whole.astype(np.float64), span_s=float(time_s[-1]), events=tuple(sorted(events, key=lambda event: event.at_s)),
        name=f"{first.name} and {len(parts) - 1} more", recorded_output=output if np.isfinite(output).any() else None,
    )  # fmt: skip
    return replace(
        first, trace=trace, raw_celsius=raw, findings=_together(parts, begins), ambient_celsius=ambient, kept=kept,
        has_date=clocked,
    )  # fmt: skip


def _together(parts: list[Record], begins: list[float]) -> tuple[Finding, ...]:
    findings: dict[str, Finding] = {}
    for part, begin in zip(parts, begins, strict=True):
        for item in part.findings:
            at_s = tuple(at + begin for at in item.at_s)
            until_s = tuple(at + begin for at in item.until_s)
            earlier = findings.get(item.kind)
            if earlier is not None:
                at_s, until_s = (earlier.at_s + at_s)[:MOST_PLACES], (earlier.until_s + until_s)[:MOST_PLACES]
                item = replace(item, count=earlier.count + item.count)  # noqa: PLW2901 - the sum of both
            findings[item.kind] = replace(item, at_s=at_s, until_s=until_s)
    return tuple(findings.values())


def _beside(record: Record, side: _Side) -> Record:
    """A record with the columns of another file: an output holds until the next row, temperatures go evenly."""
    shift_s = 0.0
    if record.begins is not None and side.begins is not None and record.has_date == side.has_date:
        shift_s = side.begins - record.begins
    at_s, trace = side.time_s + shift_s, record.trace
    if at_s[-1] < trace.time_s[0] or at_s[0] > trace.time_s[-1]:
        raise LogError(side.path, f"lies at another time than {record.name}", "", "join files of one run")
    row = np.searchsorted(at_s, trace.time_s + 1e-9, side="right") - 1
    output, setpoint, ambient = trace.delivered, trace.setpoint_celsius, record.ambient_celsius
    for role, values in side.columns.items():
        known = np.isfinite(values)
        if not known.any():
            continue
        held = np.where(row >= 0, values[np.maximum(row, 0)], np.nan)
        if role == "output" and trace.recorded_output is None:
            output = held
        elif role == "setpoint" and not np.isfinite(setpoint).any():
            setpoint = held
        elif role == "ambient" and ambient is None:
            ambient = np.interp(trace.time_s, at_s[known], values[known])
    trace = replace(
        trace, delivered=output, setpoint_celsius=setpoint,
        recorded_output=output if np.isfinite(output).any() else None,
    )  # fmt: skip
    return replace(record, trace=trace, ambient_celsius=ambient)
