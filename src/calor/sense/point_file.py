"""Small CSV files of points: a header, then one point a line."""

from __future__ import annotations

import csv
import datetime
import math
from pathlib import Path

from pydantic import ValidationError

from calor.errors import CalorError, shown, unreadable
from calor.sense.calibration import CalibrationPoint

Row = tuple[int, dict[str, str]]
"""Line number in the file, and the cells by column."""


def read_rows(path: Path, columns: tuple[str, ...], wanted: str) -> list[Row]:
    """The rows of the CSV at `path`. Raises CalorError where it cannot be read or lacks one of `columns`.

    Commas, semicolons or tabs separate; lines that are empty or begin with # are skipped.
    """
    try:
        text = path.read_text(encoding="utf-8-sig")
    except OSError as error:
        raise unreadable(CalorError, path, error, wanted) from None
    except UnicodeDecodeError as error:
        raise CalorError(
            path, f"is not text in UTF-8 (byte {error.start + 1})", "", f"give the path of {wanted}"
        ) from None
    lines = [
        (number, line) for number, line in enumerate(text.splitlines(), 1) if line.strip(" ,;\t") and line[0] != "#"
    ]
    if not lines:
        raise CalorError(path, "is empty", "", f"give the path of {wanted}")
    first, header = lines[0]
    separator = next((sign for sign in (";", "\t") if sign in header), ",")
    names = [name.strip() for name in next(csv.reader([header], delimiter=separator))]
    for column in columns:
        if column not in names:
            raise CalorError(f"{path}: line {first}", f"there is no column {column}", shown(names), "add it")
    if len(lines) == 1:
        raise CalorError(path, "has a header and no points", "", "add lines under it")
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
        value = float(text.replace(",", "."))
    except ValueError:
        value = math.nan
    if not math.isfinite(value):
        raise CalorError(f"{path}: line {line}: {column}", "must be a number", shown(text), "correct it")
    return value


CALIBRATION_WANTED = "a CSV of calibration points with the columns true_celsius and reading_celsius"


def calibration_points(path: Path) -> tuple[CalibrationPoint, ...]:
    """Calibration points of a CSV: true_celsius, reading_celsius; date, against, uncertainty_celsius may be.

    Raises CalorError with the line where one cannot be read.
    """
    points = []
    for row in read_rows(path, ("true_celsius", "reading_celsius"), CALIBRATION_WANTED):
        line, cells = row
        date = None
        if cells.get("date"):
            try:
                date = datetime.date.fromisoformat(cells["date"])
            except ValueError:
                raise CalorError(
                    f"{path}: line {line}: date", "must be a day as in 2026-11-02", shown(cells["date"])
                ) from None
        doubt = number_in(path, row, "uncertainty_celsius") if cells.get("uncertainty_celsius") else 0.0
        values = {
            "true_celsius": number_in(path, row, "true_celsius"),
            "reading_celsius": number_in(path, row, "reading_celsius"),
            "date": date,
            "against": cells.get("against", "")[:80],
            "uncertainty_celsius": doubt,
        }
        try:
            points.append(CalibrationPoint.model_validate(values))
        except ValidationError as error:
            detail = error.errors()[0]
            key = str(detail["loc"][0])
            raise CalorError(
                f"{path}: line {line}: {key}", detail["msg"].removeprefix("Input ").lower(), shown(detail["input"])
            ) from None
    return tuple(points)
