"""Rows as they come, on disk as a record that the Logs room opens: appended, and forced to disk every second."""

from __future__ import annotations

import math
import os
import re
import time
from pathlib import Path
from typing import IO

from calor.errors import CalorError, unwritable
from calor.files import save_atomically

FLUSH_EVERY_S = 1.0
MARK = "mark"
"""The column of what somebody wrote down."""
ARRIVED = "arrived_s"
"""When a row came, by this machine's clock, s since the link was opened; also its time where the board sends none."""


class Recorder:
    """Writes rows to a CSV file. Raises CalorError where it cannot."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.rows = 0
        self._columns: list[str] = []
        self._file: IO[str] | None = None
        self._mark = ""
        self._flushed_at = time.monotonic()

    def mark(self, text: str) -> None:
        """Write words down with the next row, in a column of their own."""
        plain = re.sub(r"[\s,;\"]+", " ", text).strip()
        self._mark = f"{self._mark} · {plain}".strip(" ·") if plain else self._mark

    def add(self, values: dict[str, float], arrived_s: float) -> None:
        """Append a row; a key that was not there before becomes a column more."""
        row: dict[str, float | str] = {**values, ARRIVED: arrived_s}
        if self._mark:
            row[MARK] = self._mark
        try:
            fresh = [key for key in row if key not in self._columns]
            if fresh:
                self._widen(fresh)
            assert self._file is not None
            self._file.write(",".join(_figure(row.get(key, math.nan)) for key in self._columns) + "\n")
            self.rows += 1
            self._mark = ""
            if time.monotonic() - self._flushed_at > FLUSH_EVERY_S:
                self.flush()
        except OSError as error:
            raise unwritable(CalorError, self.path, error) from None

    def _widen(self, fresh: list[str]) -> None:
        """Columns more: the rows that are there have none of them."""
        lines = []
        if self._file is not None:
            self._file.close()
            lines = self.path.read_text(encoding="utf-8").splitlines()[1:]
        ours = [key for key in self._columns if key != ARRIVED]
        before, self._columns = self._columns, [*ours, *(key for key in fresh if key != ARRIVED), ARRIVED]
        text = ",".join(self._columns) + "\n"
        for line in lines:
            old = dict(zip(before, line.split(","), strict=False))
            text += ",".join(old.get(key, "") for key in self._columns) + "\n"
        save_atomically(self.path, text)
        self._file = self.path.open("a", encoding="utf-8")

    def flush(self) -> None:
        """Force what there is to disk."""
        self._flushed_at = time.monotonic()
        if self._file is not None:
            self._file.flush()
            os.fsync(self._file.fileno())

    def close(self) -> None:
        """Force all to disk, and end."""
        if self._file is not None:
            self.flush()
            self._file.close()
            self._file = None


def _figure(value: float | str) -> str:
    if isinstance(value, str):
        return value
    return f"{value:.9g}" if math.isfinite(value) else ""
