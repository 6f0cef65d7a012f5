"""What is printed on a terminal: texts and tables as they are, never as markup, tables no wider than it is."""

from __future__ import annotations

import os
import sys
import textwrap
from typing import Any

from rich.console import Console
from rich.measure import Measurement
from rich.table import Table
from rich.text import Text

from calor.errors import as_seen

UNLIMITED = 10_000
"""Columns of what is no terminal: a file, or a program that reads on."""


class PlainConsole(Console):
    """A terminal that takes texts as they are: no markup, no emoji, nothing that steers it."""

    def __init__(self) -> None:
        has_width = sys.stdout.isatty() or "COLUMNS" in os.environ
        width = None if has_width else UNLIMITED
        super().__init__(highlight=False, soft_wrap=True, markup=False, emoji=False, width=width)

    def print(self, *objects: Any, **how: Any) -> None:
        """Print texts and tables; of a table that is wider than the terminal a paragraph for each row."""
        for one in objects or ("",):
            if isinstance(one, PlainTable):
                most = Measurement.get(self, self.options.update(max_width=UNLIMITED), one).maximum
                lines = [one] if most <= self.width else one.paragraphs(self.width)
                for line in lines:
                    super().print(line, **how)
            else:
                super().print(as_seen(one) if isinstance(one, str) else one, **how)


class PlainTable(Table):
    """A table whose cells are texts as they are."""

    def add_row(self, *cells: Any, **how: Any) -> None:
        """One more row; a cell may have a style of its own where it is a Text."""
        super().add_row(*(Text(as_seen(cell)) if isinstance(cell, str) else cell for cell in cells), **how)

    def paragraphs(self, width: int) -> list[str]:
        """The table without columns: each row under its first cell, every other one behind its heading."""
        heads, lines = [str(column.header) for column in self.columns], list[str]()
        for first, *others in zip(*([str(cell) for cell in column.cells] for column in self.columns), strict=True):
            told = [f"{head} {cell}".strip() for head, cell in zip(heads[1:], others, strict=True) if cell.strip()]
            lines += textwrap.wrap(first, width) or [""]
            lines += textwrap.wrap(" · ".join(told), width, initial_indent="  ", subsequent_indent="  ")
        return lines


BOLD = "bold"


def simple_table(*headings: str) -> PlainTable:
    """A table without lines, its figures to the right."""
    table = PlainTable(box=None, pad_edge=False, header_style="dim")
    for number, heading in enumerate(headings):
        table.add_column(heading, justify="left" if number == 0 else "right")
    return table
