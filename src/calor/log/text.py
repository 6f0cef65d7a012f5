"""A log as it is written: a table with or without a header, or lines of key=value, with other text between."""

from __future__ import annotations

import csv
import io
import re
from collections import Counter
from dataclasses import dataclass, field
from itertools import repeat
from pathlib import Path
from typing import TYPE_CHECKING, Literal

import numpy as np
import numpy.typing as npt

from calor.design.recorded_table import without_giants
from calor.errors import LogError, shown, unreadable
from calor.warned import warnings_as

if TYPE_CHECKING:
    import pandas as pd

WANTED = "a log (CSV, or lines of key=value)"
LARGEST_BYTES = 1_000_000_000
LOOKED_AT = 400
"""So many lines tell how a log is written."""
NO_READING = ("", "-", "--", "---", "err", "error", "fault", "open", "nan", "na", "n/a", "none", "null")
"""Words for no reading, in small letters."""
SWITCHED = {
    "on": 1.0, "off": 0.0, "true": 1.0, "false": 0.0, "yes": 1.0, "no": 0.0, "high": 1.0, "low": 0.0, "ein": 1.0,
    "an": 1.0, "aus": 0.0, "heating": 1.0, "cooling": 1.0, "idle": 0.0, "active": 1.0, "inactive": 0.0,
}  # fmt: skip
"""Words for an output, in small letters."""
ALONE = "\x1f"
"""Stands for the sign between the fields where there is but one."""
LINE_TIME = "time of the line"
"""What a stamp before the text of a line is called."""

_NUMBER = r"[-+]?(?:\d+(?:[.,]\d*)?|[.,]\d+)(?:[eE][-+]?\d+)?"
_CLOCK = r"\d{1,2}:\d\d(?::\d\d(?:[.,]\d+)?)?(?: ?[AP]\.?M\.?)?"
_DATE = r"(?:\d{4}[-/.]\d\d?[-/.]\d\d?|\d{1,2}[-./]\d{1,2}[-./]\d{2,4})"
_STAMP = rf"(?:{_DATE}(?:[ T]+{_CLOCK}(?: ?Z|[+-]\d\d:?\d\d)?)?|{_CLOCK})"
_WORDS = "|".join(word for word in (*NO_READING, *SWITCHED) if word.strip("-/")) + r"|n/a|-{1,3}"
_FIELD = re.compile(rf'"?\s*(?:{_NUMBER}|{_STAMP}|{_WORDS}|)\s*"?', re.IGNORECASE)
_HAS_DIGIT = re.compile(r"\d")
# it begins where no word is on: a long one is looked at once, and not from each of its letters
_WORD = r"(?<![\w.\-/%°])[A-Za-z_°][\w.\-/%°]*"
_IN_BRACKETS = r"(?: ?[\[(][^\])]{1,8}[\])])?"
# before an equals sign stands one word, before a colon there may be two
_KEY = rf"(?:{_WORD}{_IN_BRACKETS}(?=\s*=)|{_WORD}(?: {_WORD})?{_IN_BRACKETS}(?=\s*:))"
_PAIR = re.compile(
    rf"({_KEY})\s*[=:]\s*({_STAMP}|[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?|(?:{_WORDS})\b)(?:\s*(°?[CFK]\b|%|ms\b|s\b)(?!\s*[=:]))?",
    re.IGNORECASE,
)
_BEFORE = re.compile(rf"\s*\[?({_STAMP})\]?\s*(?:[-=]?>|[|,;:-])?\s+(?=\S*[A-Za-z])")


@dataclass(frozen=True, eq=False)
class Table:
    """The rows of a log as text or numbers, and how it was written.

    `lines` is the number of the line each row came from. `units` are those written after the values.
    """

    path: Path
    frame: pd.DataFrame
    form: Literal["table", "lines"]
    separator: str
    decimal: str
    encoding: str
    has_header: bool
    lines: npt.NDArray[np.int64]
    skipped: int = 0
    first_skipped: str = ""
    units: dict[str, str] = field(default_factory=dict)

    @property
    def headers(self) -> tuple[str, ...]:
        """The names of the columns, in their order."""
        return tuple(str(name) for name in self.frame.columns)

    def place(self, row: int) -> str:
        """Where a row is, in words."""
        return f"{self.path}: row {row + 1} (line {int(self.lines[row])})"


def read_table(path: Path) -> Table:
    """The rows of the log at `path`. Raises LogError where it holds none."""
    text, encoding = _text_of(path)
    # form feeds and the like inside a line are no ends of it
    lines = text.replace("\r\n", "\n").replace("\r", "\n").split("\n")
    if not text.strip():
        raise LogError(path, "is empty", "", f"give the path of {WANTED}")
    head = [(number, line) for number, line in enumerate(lines[:20_000]) if line.strip()][: 4 * LOOKED_AT]
    pairs = sum(1 for _, line in head[:LOOKED_AT] if not line.lstrip().startswith("#") and pairs_of(line))
    separator = _separator([line for _, line in head])
    rows = sum(1 for _, line in head[:LOOKED_AT] if _is_data(line, separator)) if separator else 0
    if pairs >= 2 and pairs > rows:
        return _of_pairs(path, lines, encoding)
    return _of_rows(path, lines, head, separator, encoding)


def _text_of(path: Path) -> tuple[str, str]:
    try:
        if path.is_file() and path.stat().st_size > LARGEST_BYTES:
            raise LogError(path, "is larger than a gigabyte", f"{path.stat().st_size / 1e9:.3g} GB", "split it")
        raw = path.read_bytes()
    except OSError as error:
        raise unreadable(LogError, path, error, WANTED) from None
    if not raw.strip():
        raise LogError(path, "is empty", "", f"give the path of {WANTED}")
    if raw.startswith((b"\xff\xfe", b"\xfe\xff")):
        text, encoding = raw.decode("utf-16", errors="replace"), "utf-16"
    else:
        if b"\0" in raw:
            raise LogError(path, f"is not text (a zero byte at {raw.index(0)})", "", f"give the path of {WANTED}")
        try:
            text, encoding = raw.decode("utf-8-sig"), "utf-8-sig"
        except UnicodeDecodeError:
            text, encoding = raw.decode("latin-1"), "latin-1"
    start = text[:65_536]
    if sum(not (char.isprintable() or char in "\r\n\t") for char in start) > 0.05 * len(start):
        raise LogError(path, "is not text", "", f"give the path of {WANTED}")
    return text, encoding


# ---- a table


def _is_data(line: str, separator: str) -> bool:
    """Whether a line is a row: at least half of its fields are numbers, times or words for no reading, and one has a
    digit."""
    fields = split(line, separator)
    known = [part for part in fields if _FIELD.fullmatch(part.strip())]
    return 2 * len(known) >= len(fields) and any(_HAS_DIGIT.search(part) for part in known)


def split(line: str, separator: str) -> list[str]:
    """The fields of a line."""
    if separator == " ":
        return line.split()
    if '"' in line:
        try:
            return next(csv.reader([line], delimiter=separator))
        except (csv.Error, StopIteration):
            return line.split(separator)
    return line.split(separator)


def _separator(lines: list[str]) -> str:
    """What stands between the fields; empty where no line is a row of numbers.

    A semicolon, tab or bar is never part of a number, a comma may be.
    """
    for sign in ";\t|, ":
        rows = [line for line in lines if (sign in line.strip() if sign != " " else " " in line.strip())]
        rows = [line for line in rows if _is_data(line, sign)]
        if not rows:
            continue
        usual, count = Counter(len(split(line, sign)) for line in rows).most_common(1)[0]
        if usual > 1 and 2 * count > len(rows):
            return sign
    # a table without rows still has a header
    return next((sign for sign in ";\t|," if lines and sign in lines[0]), "")


def _of_rows(path: Path, lines: list[str], head: list[tuple[int, str]], separator: str, encoding: str) -> Table:
    import pandas as pd

    if not separator and sum(1 for _, line in head if _is_data(line, ALONE)) > 1:
        separator = ALONE
    if not separator:
        raise LogError(
            path, "there is no column of numbers", shown(head[0][1].strip()),
            "give rows such as 0,20.5 under time_s,temperature_celsius",
        )  # fmt: skip
    data = [(number, line) for number, line in head if not line.startswith("#") and _is_data(line, separator)]
    width = Counter(len(split(line, separator)) for _, line in data).most_common(1)[0][0] if data else 0
    first = next((number for number, line in data if len(split(line, separator)) == width), len(lines))
    headers, header_line = _header(head, first, separator, width)
    start = header_line + 1 if headers is not None else first
    kept, aside = _kept(lines, start, separator, width - 1, lines[header_line] if headers is not None else None)
    skipped, first_skipped = len(aside), lines[aside[0]].strip() if aside else ""
    before = [line for number, line in head if number < start and number != header_line and not line.startswith("#")]
    skipped, first_skipped = skipped + len(before), before[0].strip() if before else first_skipped
    if len(kept) < 2:
        count = len(kept)
        raise LogError(path, f"has {count} row{'s' * (count != 1)} of data", "", "a run needs at least two")
    whole = len(kept) == int(kept[-1]) - int(kept[0]) + 1
    body = lines[int(kept[0]) : int(kept[-1]) + 1] if whole else [lines[number] for number in kept.tolist()]
    comma = separator not in ",\t " or separator == "\t"
    decimal = "," if comma and any(re.search(r"\d,\d", line) for line in body[:LOOKED_AT]) else "."
    names = _names(headers, width)
    try:
        # a quotation mark that shifts the columns: rather refused than read with values lost
        with warnings_as("error", pd.errors.ParserWarning):
            frame = pd.read_csv(
                io.StringIO("\n".join(body)), sep=r"\s+" if separator == " " else separator, decimal=decimal,
                header=None, names=names, index_col=False,
                na_values=[*(word for word in NO_READING if word), "ERR", "ERROR", "FAULT", "OPEN", "NaN", "NA", "N/A"],
                low_memory=False, skipinitialspace=True, skip_blank_lines=False,
            )  # fmt: skip
    except pd.errors.ParserWarning:
        rule = "cannot be read as CSV: a quotation mark is not closed, or a line has more columns than the others"
        raise LogError(path, rule, "", "mend that line or export the log again") from None
    except (ValueError, OSError, csv.Error) as error:
        line = (str(error).strip().splitlines() or ["for no reason that is known"])[0]
        raise LogError(path, f"cannot be read as CSV: {line}", "", "mend that line or export the log again") from None
    frame = without_giants(frame)
    if len(frame) != len(kept):  # a quoted field that goes over several lines
        raise LogError(
            path, "cannot be read as CSV: a quotation mark is not closed", "", "mend that line or export the log again"
        )
    return Table(
        path, frame, "table", separator, decimal, encoding, headers is not None, kept + 1, skipped, first_skipped
    )


def _kept(
    lines: list[str], start: int, separator: str, signs: int, header: str | None
) -> tuple[npt.NDArray[np.int64], list[int]]:
    """(rows, lines of other text) from a line on: rows have as many signs as the others, and are no header again."""
    body = lines[start:]
    if separator == " ":
        counts = np.fromiter((len(line.split()) - 1 for line in body), np.int64, len(body))
    else:
        counts = np.fromiter(map(str.count, body, repeat(separator)), np.int64, len(body))
    fits = counts == signs
    if signs == 0:
        fits &= np.fromiter((bool(line.strip()) for line in body), bool, len(body))
    aside = []
    for number in np.flatnonzero(~fits).tolist():
        line = body[number]
        if counts[number] > signs and '"' in line:
            fits[number] = True
        elif line.strip() and not line.startswith("#"):
            aside.append(start + number)
    # few logs have remarks or their header again between the rows; it is quick to see that one has none
    if header in body or any(map(str.startswith, body, repeat("#"))):
        for number in np.flatnonzero(fits).tolist():
            if body[number] == header:
                aside.append(start + number)
            fits[number] = body[number] != header and not body[number].startswith("#")
    return start + np.flatnonzero(fits), sorted(aside)


def _header(head: list[tuple[int, str]], first: int, separator: str, width: int) -> tuple[list[str] | None, int]:
    """The header before the row at `first`, and its line; None where there is none. It may stand behind a #."""
    above = [(number, line) for number, line in head if number < first]
    for number, line in reversed(above):
        text = line.lstrip("# ") if line.startswith("#") else line
        fields = [part.strip().strip('"').strip() for part in split(text, separator)]
        while width and len(fields) > width and not fields[-1]:
            fields.pop()
        fits = len(fields) == width or (width > 2 and len(fields) == width - 1) or (not width and len(fields) > 1)
        fits = fits and not (width == 1 and len(fields[0].split()) > 3)
        if fits and any(re.search(r"[A-Za-z°%]", part) for part in fields) and not _is_data(text, separator):
            return fields, number
    return None, -1


def _names(headers: list[str] | None, width: int) -> list[str]:
    """A name of its own for each column."""
    names: list[str] = []
    for number in range(width):
        name = headers[number] if headers is not None and number < len(headers) else ""
        name = name or f"column {number + 1}"
        again = 2
        while name in names:
            name = f"{name.removesuffix(f' ({again - 1})')} ({again})"
            again += 1
        names.append(name)
    return names


# ---- lines of key=value


def pairs_of(line: str) -> list[tuple[str, str, str]]:
    """(key, value, unit) of all pairs in a line. Quotes and braces around them are no part of them."""
    plain = line.translate(_NO_BRACES) if "{" in line or '"' in line else line
    before = _BEFORE.match(plain)
    rest = plain[before.end() :] if before else plain
    pairs = [(key.strip(), value, unit) for key, value, unit in _PAIR.findall(rest)]
    return [(LINE_TIME, before[1], ""), *pairs] if before and pairs else pairs


_NO_BRACES = str.maketrans("", "", '{}"')


def _of_pairs(path: Path, lines: list[str], encoding: str) -> Table:
    """Rows from lines of pairs: a row ends where a key comes again."""
    import pandas as pd

    columns: dict[str, list[str]] = {}
    units: dict[str, str] = {}
    numbers: list[int] = []
    skipped, first_skipped, row, row_line = 0, "", dict[str, str](), 0

    def close() -> None:
        for key in row:
            columns.setdefault(key, []).extend([""] * (len(numbers) - len(columns.get(key, ()))))
            columns[key].append(row[key])
        numbers.append(row_line)

    for number, line in enumerate(lines, 1):
        pairs = pairs_of(line) if line.strip() else []
        if not pairs:
            if line.strip():
                skipped, first_skipped = skipped + 1, first_skipped or line.strip()
            continue
        if row and any(key in row for key, _, _ in pairs):
            close()
            row = {}
        row_line = number if not row else row_line
        for key, value, unit in pairs:
            row[key] = value
            if unit:
                units.setdefault(key, unit)
    if row:
        close()
    frame = pd.DataFrame({key: values + [""] * (len(numbers) - len(values)) for key, values in columns.items()})
    for name in frame.columns:
        numeric = pd.to_numeric(frame[name], errors="coerce")
        blank = frame[name].str.lower().isin(NO_READING)
        frame[name] = numeric if (numeric.notna() | blank).all() else frame[name].mask(blank)
    # what is said once or twice, as a version is, is no column of the run
    frame = frame[[name for name in frame.columns if frame[name].notna().sum() * 20 >= len(frame)]]
    full = frame.notna().sum(axis=1) * 2 > len(frame.columns)
    skipped += int((~full).sum())
    frame, places = frame[full].reset_index(drop=True), np.asarray(numbers, np.int64)[full.to_numpy()]
    if len(frame) < 2:
        count = len(frame)
        raise LogError(path, f"has {count} row{'s' * (count != 1)} of key=value", "", "a run needs at least two")
    return Table(path, frame, "lines", "=", ".", encoding, True, places, skipped, first_skipped, units)
