"""Small CSV files of points: a header, then one point a line."""

from __future__ import annotations

import csv
from pathlib import Path

from calor.errors import CalorError, shown, unreadable

Row = tuple[int, dict[str, str]]
"""Line number in the file, and the cells by column."""


def read_rows(path: Path, columns: tuple[str, ...], wanted: str) -> list[Row]:
    """The rows of the CSV at `path`. Raises CalorError where it cannot be read or lacks one of `columns`.

    Commas, semicolons or tabs separate; lines that are empty or begin with # are skipped.
    """
    try:
        text = path.read_text(encoding="utf-8-sig")
    except OSError as error:
        raise CalorError(unreadable(path, error, wanted)) from None
    except UnicodeDecodeError as error:
        raise CalorError(f"{path}: is not text in UTF-8 (byte {error.start + 1}); give the path of {wanted}") from None
    lines = [
        (number, line) for number, line in enumerate(text.splitlines(), 1) if line.strip(" ,;\t") and line[0] != "#"
    ]
    if not lines:
        raise CalorError(f"{path}: is empty; give the path of {wanted}")
    first, header = lines[0]
    separator = next((sign for sign in (";", "\t") if sign in header), ",")
    names = [name.strip() for name in next(csv.reader([header], delimiter=separator))]
    for column in columns:
        if column not in names:
            raise CalorError(f"{path}: line {first}: there is no column {column} (received {shown(names)}); add it")
    if len(lines) == 1:
        raise CalorError(f"{path}: has a header and no points; add lines under it")
    rows = []
    for number, line in lines[1:]:
        cells = [cell.strip() for cell in next(csv.reader([line], delimiter=separator))]
        rows.append((number, dict(zip(names, cells, strict=False))))
    return rows


def number_in(path: Path, row: Row, column: str) -> float:
    """The number in a cell, with decimal point or comma. Raises CalorError with the line."""
    line, cells = row
    text = cells.get(column, "")
    try:
        return float(text.replace(",", "."))
    except ValueError:
        raise CalorError(f"{path}: line {line}: {column}: must be a number (received {shown(text)})") from None
