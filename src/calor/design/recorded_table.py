"""The table of a CSV file that a trial names: a header, a column of times, and numbers beside it."""

from __future__ import annotations

import io
from pathlib import Path
from typing import TYPE_CHECKING

from calor.errors import CalorError, unreadable
from calor.warned import warnings_as

if TYPE_CHECKING:
    import pandas as pd

SEPARATORS = ";\t|,"
LARGEST_BYTES = 200_000_000
LONGEST_NUMBER = 300
"""Signs: with more of them it is beyond what a float can hold."""


def read_columns(path: str, wanted: str) -> pd.DataFrame:
    """The columns of a file by their names, two of them at least, and a row. `wanted` says what it should be.

    Raises CalorError with what is wrong.
    """
    import pandas as pd

    place = Path(path)
    try:
        with place.open("rb") as stream:
            raw = stream.read(LARGEST_BYTES + 1)
    except OSError as error:
        raise unreadable(CalorError, place, error, wanted) from None
    if len(raw) > LARGEST_BYTES:
        raise CalorError(path, f"is larger than {LARGEST_BYTES // 1_000_000} MB", "", "leave out rows")
    if b"\0" in raw:
        raise CalorError(path, f"is not text (a zero byte at {raw.index(0)})", "", f"give {wanted}")
    try:
        text = raw.decode("utf-8-sig")
    except UnicodeDecodeError:
        text = raw.decode("latin-1")
    header = next((line for line in text.splitlines() if line.strip() and not line.lstrip().startswith("#")), "")
    if not header:
        raise CalorError(path, "is empty", "", f"give {wanted}")
    separator = next((sign for sign in SEPARATORS if sign in header), r"\s+")
    decimal = "," if separator == ";" else "."
    try:
        with warnings_as("error", pd.errors.ParserWarning):
            table = pd.read_csv(
                io.StringIO(text), sep=separator, decimal=decimal, comment="#", skipinitialspace=True, index_col=False,
                low_memory=False,
            )  # fmt: skip
    except (ValueError, OSError, pd.errors.ParserError, pd.errors.ParserWarning) as error:
        line = (str(error).strip().splitlines() or ["for no reason that is known"])[0]
        raise CalorError(path, f"is not a table ({line})", "", f"give {wanted}") from None
    table.columns = [str(name).strip() for name in table.columns]
    columns, rows = len(table.columns), len(table)
    if columns < 2 or not rows:
        raise CalorError(path, f"has {columns} column(s) and {rows} row(s)", "", f"give {wanted}")
    return without_giants(table)


def without_giants(table: pd.DataFrame) -> pd.DataFrame:
    """A table in which no field is longer than any number is: such a one is no reading."""
    for place in range(len(table.columns)):
        column = table.iloc[:, place]
        if column.dtype == object or str(column.dtype) in ("str", "string"):
            is_giant = (column.astype("string").str.len() > LONGEST_NUMBER).fillna(False).to_numpy(bool)
            if is_giant.any():
                table = table.assign(**{str(table.columns[place]): column.mask(is_giant)})
    return table
