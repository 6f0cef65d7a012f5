"""What is printed on a terminal: texts and tables as they are, never as markup."""

from __future__ import annotations

from typing import Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

from calor.errors import as_seen


class PlainConsole(Console):
    """A terminal that takes texts as they are: no markup, no emoji, nothing that steers it."""

    def __init__(self, width: int | None = None) -> None:
        super().__init__(highlight=False, soft_wrap=True, markup=False, emoji=False, width=width)

    def print(self, *objects: Any, **how: Any) -> None:
        """Print texts and tables, one after the other."""
        super().print(*(as_seen(one) if isinstance(one, str) else one for one in objects), **how)


class PlainTable(Table):
    """A table whose cells are texts as they are."""

    def add_row(self, *cells: Any, **how: Any) -> None:
        """One more row; a cell may have a style of its own where it is a Text."""
        super().add_row(*(Text(as_seen(cell)) if isinstance(cell, str) else cell for cell in cells), **how)


BOLD = "bold"


def simple_table(*headings: str) -> Table:
    """A table without lines, its figures to the right."""
    table = PlainTable(box=None, pad_edge=False, header_style="dim")
    for number, heading in enumerate(headings):
        table.add_column(heading, justify="left" if number == 0 else "right")
    return table
