"""Gains in each dialect as text. Nothing of a design is imported here: the answer is there at once."""

from __future__ import annotations


def print_gains(gains: dict[str, dict[str, float] | None]) -> None:
    """Gains in each dialect."""
    from rich.console import Console
    from rich.table import Table

    table = Table("dialect", "", "", box=None, pad_edge=False, header_style="dim")
    for column in table.columns[1:]:
        column.justify = "right"
    for dialect, numbers in gains.items():
        if numbers is None:
            table.add_row(dialect, "not possible", "integral time below 4 derivative times")
        for key, value in (numbers or {}).items():
            table.add_row(dialect, key, f"{value:.6g}")
    Console(highlight=False).print(table)
