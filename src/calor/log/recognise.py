"""What was recognised in a log: each column's role, unit and scale, and why; and how its owner sets it right."""

from __future__ import annotations

import re
from dataclasses import dataclass, fields, replace

import numpy as np

from calor.compiled import Column
from calor.errors import LogError, shown
from calor.log import columns as by
from calor.log.columns import ROLES, Role
from calor.log.text import ALONE, SWITCHED, Table
from calor.units import TemperatureUnit

NOTHING = "none"
"""Given in place of a column: no column has this role."""
TIME_UNITS: dict[str, float] = {"s": 1.0, "ms": 1e-3, "us": 1e-6, "min": 60.0, "h": 3600.0}
FOUND_BY_VALUES: tuple[Role, ...] = ("time", "temperature", "output")
STAMPS = "stamps"
BY_OWNER = "as you set it"


@dataclass(frozen=True)
class Corrections:
    """What the owner of a log sets right; None leaves it as it was recognised.

    Columns are given by name or by number, from 1; "none" says that there is none. `output_scale` is the value of full
    output, `every_s` how far the rows are apart where there is no column of times, `unit` that of all temperatures.
    """

    time: str | None = None
    temperature: str | None = None
    output: str | None = None
    setpoint: str | None = None
    ambient: str | None = None
    time_unit: str | None = None
    output_scale: float | None = None
    unit: TemperatureUnit | None = None
    every_s: float | None = None

    @property
    def given(self) -> dict[str, str | float]:
        """What is set, by its name."""
        return {item.name: value for item in fields(self) if (value := getattr(self, item.name)) is not None}

    def over(self, earlier: Corrections) -> Corrections:
        """These corrections, and those made earlier where these say nothing."""
        return replace(earlier, **self.given)  # type: ignore[arg-type]


@dataclass(frozen=True)
class ColumnRead:
    """One column: its name, its role (empty where it has none), its unit, what it is multiplied by, and why.

    A temperature of another place than the control probe has the role "kept". `scale` turns a time into s, an output
    into a fraction; it is 1 for temperatures, which their unit says all of.
    """

    name: str
    role: str
    unit: str
    scale: float
    why: str


@dataclass(frozen=True)
class Recognised:
    """How a log was understood, to be shown to its owner and set right."""

    form: str
    separator: str
    decimal: str
    encoding: str
    has_header: bool
    skipped_lines: int
    first_skipped: str
    columns: tuple[ColumnRead, ...]
    corrections: Corrections

    @property
    def headers(self) -> tuple[str, ...]:
        """The names of all columns."""
        return tuple(column.name for column in self.columns)

    def of(self, role: str) -> ColumnRead | None:
        """The column of a role."""
        return next((column for column in self.columns if column.role == role), None)

    def __str__(self) -> str:
        used = [f"{column.role} from {column.name!r}" for column in self.columns if column.role not in ("", "kept")]
        temperature = self.of("temperature")
        unit = temperature.unit if temperature is not None else ""
        signs = {
            "\t": "tab",
            ";": "semicolon",
            ",": "comma",
            "|": "bar",
            " ": "spaces",
            "=": "equals signs",
            ALONE: "nothing",
        }
        written = f"separated by {signs[self.separator]}, decimal {'comma' if self.decimal == ',' else 'point'}"
        if self.form == "lines":
            written = "lines of key=value"
        elif not self.has_header:
            written += ", no header"
        count = self.skipped_lines
        skipped = f"; {count} line{'s' * (count != 1)} of other text skipped" if count else ""
        return f"{', '.join(used)}; {unit}; {written}{skipped}"


def recognise(table: Table, corrections: Corrections, needs: tuple[Role, ...] = ("time", "temperature")) -> Recognised:
    """What each column of a table is. Raises LogError where one that is needed is not found."""
    headers = list(table.headers)
    chosen: dict[Role, str | None] = {role: _column(table, role, getattr(corrections, role, None)) for role in ROLES}
    taken: dict[Role, str] = {role: name for role, name in chosen.items() if name}
    why: dict[str, str] = dict.fromkeys(taken.values(), BY_OWNER)
    free = [header for header in headers if header not in taken.values()]
    by_name = by.recognise(free) if table.has_header else {}
    if corrections.time and "date" in by_name and not _is_clock(table, taken["time"]):
        del by_name["date"]
    if "time" in by_name and "time" not in taken:
        _of_day(table, by_name, free)
        if by_name["time"].strip().lower() in ("t", "s") and not by.rises_evenly(table.frame[by_name["time"]]):
            # a T that goes up and down is no time, nor is an S that stays
            unsure = [header for header in free if header != by_name["time"]]
            by_name = {role: name for role, name in by.recognise(unsure).items() if role != "time"}
            left = [header for header in free if header not in by_name.values()]
            by_name |= {r: n for r, n in by.recognise(left).items() if r == "temperature" and r not in by_name}
    for role, name in by_name.items():
        if role not in taken and chosen.get(role) != "":
            taken[role] = name
            why[name] = "by its name"
    missing: tuple[Role, ...] = tuple(
        role for role in FOUND_BY_VALUES[table.separator == ALONE :] if role not in taken and chosen.get(role) != ""
    )
    for role, (name, reason) in by.by_content(table.frame, taken, missing, strict=table.has_header).items():
        taken[role] = name
        why[name] = reason
    if corrections.every_s is not None:
        taken.pop("time", None)
    _check(table, taken, needs, corrections)
    kept = by.temperatures(headers, list(taken.values())) if table.has_header else []
    roles: dict[str, str] = {name: role for role, name in taken.items()}
    read = []
    for name in headers:
        played = roles.get(name, "kept" if name in kept else "")
        unit, scale, reason = _unit(table, name, played, corrections)
        reasons = "; ".join(part for part in (why.get(name, ""), reason) if part)
        read.append(ColumnRead(name, played, unit, scale, reasons))
    return Recognised(
        table.form, table.separator, table.decimal, table.encoding, table.has_header, table.skipped,
        table.first_skipped, tuple(read), corrections,
    )  # fmt: skip


def _column(table: Table, role: str, wanted: str | None) -> str | None:
    """The column that the owner means; empty for none, None where nothing was said. Raises LogError."""
    if wanted is None:
        return None
    text = wanted.strip()
    if text.lower() == NOTHING:
        return ""
    for name in table.headers:
        if name.strip().lower() == text.lower():
            return name
    if text.isdigit() and 1 <= int(text) <= len(table.headers):
        return table.headers[int(text) - 1]
    names = ", ".join(table.headers)
    raise LogError(f"{table.path}: {role}", "there is no such column", shown(wanted), f"it has {names}")


def _check(table: Table, taken: dict[Role, str], needs: tuple[Role, ...], corrections: Corrections) -> None:
    headers = shown(list(table.headers), 100)
    if "time" in needs and "time" not in taken and corrections.every_s is None:
        raise LogError(
            table.path, f"no column of times among {headers}", "",
            "name one time_s (seconds) or timestamp, or say which it is (--time), or how far rows are apart (--every)",
        )  # fmt: skip
    if "temperature" in needs and "temperature" not in taken:
        raise LogError(
            table.path, f"no column of temperatures among {headers}", "",
            "name one temperature_celsius (or °F, K), or say which it is (--temperature)",
        )  # fmt: skip


def _of_day(table: Table, by_name: dict[Role, str], free: list[str]) -> None:
    """Where the times are dates, the column of clock times beside them makes them whole."""
    name = by_name["time"]
    first = table.frame[name].dropna()
    if "date" in by_name or not len(first) or not by.is_date(str(first.iloc[0])):
        return
    clock = next((header for header in free if header not in by_name.values() and _is_clock(table, header)), None)
    if clock is not None:
        by_name["date"], by_name["time"] = name, clock


def _is_clock(table: Table, name: str) -> bool:
    first = table.frame[name].dropna()
    return bool(len(first)) and re.match(r"\s*\d{1,2}:\d\d", str(first.iloc[0])) is not None


def _unit(table: Table, name: str, role: str, corrections: Corrections) -> tuple[str, float, str]:
    """(unit, scale, why) of a column in its role."""
    written = table.units.get(name, "")
    if role == "time":
        return _time_unit(table, name, written, corrections)
    if role in ("temperature", "setpoint", "ambient", "kept"):
        if corrections.unit is not None:
            return corrections.unit, 1.0, "unit as you set it"
        if written and written.upper().lstrip("°") in ("C", "F", "K"):
            return by.temperature_unit(f"({written})"), 1.0, f"{written} after the values"
        if role != "temperature" and not by.names_unit(name):
            main = next((h for h in by.recognise(list(table.headers)).items() if h[0] == "temperature"), None)
            if main is not None:
                return by.temperature_unit(main[1]), 1.0, "unit of the temperature"
        named = by.names_unit(name)
        return by.temperature_unit(name), 1.0, "" if named else "no unit named: taken as °C"
    if role == "output":
        values = _as_numbers(table, name)
        largest = float(np.nanmax(values)) if np.isfinite(values).any() else 1.0
        if corrections.output_scale is not None:
            return f"0–{corrections.output_scale:g}", 1.0 / corrections.output_scale, "scale as you set it"
        full = 100.0 if written == "%" else by.output_scale(name, largest)
        unit = "%" if full == 100.0 else "fraction" if full == 1.0 else f"0–{full:g}"
        return unit, 1.0 / full, f"largest value {largest:g}"
    return "", 1.0, ""


def _time_unit(table: Table, name: str, written: str, corrections: Corrections) -> tuple[str, float, str]:
    values = _as_numbers(table, name)
    if np.isfinite(values).mean() <= 0.5:
        return STAMPS, 1.0, "time stamps"
    if corrections.time_unit is not None:
        return corrections.time_unit, TIME_UNITS[corrections.time_unit], "unit as you set it"
    if written.lower() in TIME_UNITS:
        return written.lower(), TIME_UNITS[written.lower()], f"{written} after the values"
    scale, why = by.seconds_per_unit(name) if table.has_header else 1.0, ""
    named = re.search(r"(^|[_ (\[])(s|sec|secs|seconds?)[)\]]?$|elapsed", name.strip().lower()) is not None
    if scale == 1.0 and not named:
        scale, why = by.usual_seconds(values)
    unit = next((unit for unit, factor in TIME_UNITS.items() if factor == scale), "s")
    return unit, scale, why


def _as_numbers(table: Table, name: str) -> Column:
    """A column as far as it is numbers; words for on and off are 1 and 0."""
    import pandas as pd

    column = table.frame[name]
    if pd.api.types.is_numeric_dtype(column) or pd.api.types.is_bool_dtype(column):
        return np.asarray(column, float)
    text = column.astype("string").str.strip().str.lower()
    plain = text.str.replace(",", ".", regex=False) if table.decimal == "," else text
    numeric = pd.to_numeric(plain, errors="coerce").fillna(text.map(SWITCHED))
    return np.asarray(numeric.to_numpy(dtype=float, na_value=np.nan), float)
