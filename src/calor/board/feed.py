"""Bytes as they come from a line, made into rows, greetings and answers; what is none of them is counted and let go.

Where a board checks its lines, only those whose checksum is right are taken: a cut, torn or doubled-up line is none.
Firmware that only prints numbers between commas is read, too: its first line of words names the columns.
"""

from __future__ import annotations

import re

from calor.board.protocol import LONGEST_LINE, Item, Row, answer_of, greeting_of, number, row_of, unchecked

_FIELDS = re.compile(r"\s*[,;\t]\s*")
MOST_COLUMNS = 64


class Feed:
    """Takes bytes in any pieces. `garbage` counts lines that were nothing, `last_garbage` is the last of them."""

    def __init__(self) -> None:
        self._rest = b""
        self._is_torn = False
        self.checks = False
        self.garbage, self.last_garbage = 0, ""
        self._columns: list[str] = []

    def take(self, data: bytes) -> list[Item]:
        """What has become whole with these bytes, in order."""
        items = []
        *lines, self._rest = (self._rest + data).split(b"\n")
        for line in lines:
            if self._is_torn:  # the rest of a line that was far too long
                self._is_torn = False
                continue
            item = self._item(line)
            if item is not None:
                items.append(item)
        if len(self._rest) > LONGEST_LINE:
            self._rest, self._is_torn = b"", True
            self._reject("a line without end")
        return items

    def begin_afresh(self) -> None:
        """Forget what has begun: the line was cut off."""
        self._rest, self._is_torn, self._columns = b"", False, []

    def _reject(self, text: str) -> None:
        self.garbage += 1
        self.last_garbage = text[:120]

    def _item(self, raw: bytes) -> Item | None:
        line = raw.decode("utf-8", "replace").strip("\r ")
        if not line:
            return None
        text, is_right = unchecked(line)
        if is_right is False or (self.checks and is_right is None):
            self._reject(line)
            return None
        greeting = greeting_of(text)
        if greeting is not None:
            self.checks = greeting.checked
            return greeting
        if is_right:
            self.checks = True
        item = answer_of(text) or row_of(text) or self._plain(text)
        if item is None:
            self._reject(line)
        return item

    def _plain(self, text: str) -> Row | None:
        """A row of numbers between commas, semicolons or tabs; a line of words before it names its columns."""
        fields = _FIELDS.split(text)
        if len(fields) > MOST_COLUMNS:
            return None
        values = [number(field) for field in fields]
        if all(value is not None for value in values):
            if len(fields) == 1 and not self._columns:
                self._columns = ["value"]
            if len(self._columns) != len(fields):
                self._columns = [f"column_{place}" for place in range(1, len(fields) + 1)]
            return Row({key: value for key, value in zip(self._columns, values, strict=True) if value is not None})
        if len(fields) > 1 and all(value is None for value in values):
            names = [re.sub(r"[^a-z0-9_]+", "_", field.lower()).strip("_") for field in fields]
            if all(names) and len(set(names)) == len(names):
                self._columns = names
        return None
