"""Tables of which a row is chosen: how all of them look and are gone through."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTableView


def rows_to_choose(
    table: QTableView, row_px: int, stretched: int, widths_px: dict[int, int],
    side: Qt.AlignmentFlag = Qt.AlignmentFlag.AlignRight,
) -> None:  # fmt: skip
    """Give a table rows of one height that are chosen as a whole, columns of fixed widths but for one that takes the
    rest, and headings at one side; nothing is edited in it, and Tab goes past it."""
    numbers, header = table.verticalHeader(), table.horizontalHeader()
    if numbers is not None:
        numbers.hide()
        numbers.setDefaultSectionSize(row_px)
    if header is not None:
        header.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        header.setSectionResizeMode(stretched, QHeaderView.ResizeMode.Stretch)
        header.setMinimumSectionSize(40)
        for column, wide in widths_px.items():
            header.resizeSection(column, wide)
        header.setHighlightSections(False)
        header.setDefaultAlignment(side | Qt.AlignmentFlag.AlignVCenter)
    table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
    table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
    table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
    table.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    table.setTabKeyNavigation(False)
    table.setShowGrid(False)
