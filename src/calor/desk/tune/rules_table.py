"""The table of rules: a row for each, sorted by any column, the present gains among them."""

from __future__ import annotations

import math
from typing import Any

from PyQt6.QtCore import QSignalBlocker, Qt, pyqtSignal
from PyQt6.QtGui import QBrush, QColor
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget, QTableWidgetItem

from calor.desk.widgets import theme as look
from calor.tune.table import PRESENT, SEARCH, Candidate, beyond_of
from calor.units import TemperatureUnit, difference_to, format_duration

COLUMNS = ("Gains", "Gain", "Integral", "Derivative", "Overshoot", "In band", "Error", "Ms", "Verdict")
HINTS = (
    "Which rule, and where its gains are from", "Share of full output per degree, in %", "Integral time, s",
    "Derivative time, s", "Furthest past the setpoint", "When it is in the band to stay",
    "Integral of the absolute error; less is better",
    "Largest sensitivity: 1.2 to 2 is usual, more is close to trouble",
    "Whether the design's limits are kept on this trial",
)  # fmt: skip
VALUE = Qt.ItemDataRole.UserRole
ROW_PX, HEAD_PX, MOST_ROWS = 20, 26, 18
WIDTHS_PX = (44, 52, 62, 64, 52, 50, 50, 54)
"""Of all columns but the first, which takes what is left."""


class _Item(QTableWidgetItem):
    """A cell that sorts by its value and not by its text."""

    def __lt__(self, other: QTableWidgetItem) -> bool:
        own, others = self.data(VALUE), other.data(VALUE)
        if isinstance(own, str) or isinstance(others, str):
            return str(own) < str(others)
        return bool(own < others)


class RulesTable(QTableWidget):
    """Shows rows and says which one is chosen."""

    chosen = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__(0, len(COLUMNS))
        self.setAccessibleName("Gains by rule")
        self._rows: list[Candidate] = []
        self._theme = look.LIGHT
        self.setHorizontalHeaderLabels(COLUMNS)
        for column, hint in enumerate(HINTS):
            item = self.horizontalHeaderItem(column)
            if item is not None:
                item.setToolTip(hint)
        side, header = self.verticalHeader(), self.horizontalHeader()
        if side is not None:
            side.hide()
            side.setDefaultSectionSize(ROW_PX)
        if header is not None:
            header.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
            header.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
            header.setMinimumSectionSize(40)
            for column, wide in enumerate(WIDTHS_PX, 1):
                header.resizeSection(column, wide)
            header.setHighlightSections(False)
            header.setDefaultAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            header.sortIndicatorChanged.connect(lambda *_: self._keep_choice())
        first = self.horizontalHeaderItem(0)
        if first is not None:
            first.setTextAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setTabKeyNavigation(False)
        self.setWordWrap(False)
        self.setShowGrid(False)
        self.name = ""
        self.sortByColumn(len(COLUMNS) - 1, Qt.SortOrder.AscendingOrder)
        self.itemSelectionChanged.connect(self._choose)

    def set_theme(self, theme: look.Theme) -> None:
        """Take a theme's colours."""
        self._theme = theme
        self._paint()

    def show_rows(self, rows: list[Candidate], unit: TemperatureUnit, trial: str) -> None:
        """Show rows, their figures on one trial; the chosen one stays chosen, else the best is."""
        self._rows = rows
        names = [row.name for row in rows]
        if self.name not in names and rows:
            usable = [row for row in rows if row.margins is None or row.margins.is_stable]
            self.name = min(usable or rows, key=lambda row: (row.beyond, row.iae_celsius_s)).name
        with QSignalBlocker(self):
            self.setSortingEnabled(False)
            self.setRowCount(len(rows))
            for at, row in enumerate(rows):
                for column, (text, value) in enumerate(cells_of(row, unit, trial)):
                    item = _Item(text)
                    item.setData(VALUE, value)
                    side = Qt.AlignmentFlag.AlignLeft if column == 0 else Qt.AlignmentFlag.AlignRight
                    item.setTextAlignment(side | Qt.AlignmentFlag.AlignVCenter)
                    if column == 0:
                        item.setData(VALUE + 1, row.name)
                        item.setToolTip(". ".join(part for part in (row.source, row.note) if part))
                    self.setItem(at, column, item)
            self._paint()
            self.setSortingEnabled(True)
        self.setFixedHeight(HEAD_PX + ROW_PX * min(max(len(rows), 4), MOST_ROWS))
        self._keep_choice()

    def _paint(self) -> None:
        t = self._theme
        for at in range(self.rowCount()):
            name, verdict = self.item(at, 0), self.item(at, len(COLUMNS) - 1)
            row = self._row_at(at)
            if name is None or verdict is None or row is None:
                continue
            verdict.setForeground(QBrush(QColor(t.passed if verdict.text() == "passes" else t.failed)))
            font = name.font()
            font.setBold(row.name in (PRESENT, SEARCH))
            name.setFont(font)

    def _row_at(self, at: int) -> Candidate | None:
        item = self.item(at, 0)
        name = None if item is None else item.data(VALUE + 1)
        return next((row for row in self._rows if row.name == name), None)

    def _keep_choice(self) -> None:
        for at in range(self.rowCount()):
            row = self._row_at(at)
            if row is not None and row.name == self.name:
                with QSignalBlocker(self):
                    self.selectRow(at)
                self.chosen.emit(row)
                return
        self.chosen.emit(None)

    def _choose(self) -> None:
        row = self._row_at(self.currentRow())
        if row is not None:
            self.name = row.name
            self.chosen.emit(row)


def cells_of(row: Candidate, unit: TemperatureUnit, trial: str) -> list[tuple[str, Any]]:
    """(text, what it is sorted by) of each column; of one that was run on several trials the figures on one of them."""
    on = row.verdicts[row.trials.index(trial) if trial in row.trials else 0]
    gains, metrics, per = row.setting.gains, on.metrics, difference_to(unit, 1.0)
    margins = row.margins

    def figure(value: float | None, form: str, scale: float = 1.0) -> tuple[str, float]:
        return ("–", math.inf) if value is None else (f"{value * scale:{form}}", value)

    ms = ("–", math.inf)
    if margins is not None:
        ms = (f"{margins.ms:.2f}", margins.ms) if margins.is_stable else ("unstable", math.inf)
    fails = sum(not item.passes for item in on.limits)
    verdict = f"fails {fails}" if fails else "passes"
    in_band = metrics.time_to_band_s
    return [
        (row.title + ("" if row.in_range else " *"), row.title),
        figure(gains.gain_per_celsius, ".3g", 100.0 / per),
        figure(gains.integral_time_s, ".4g") if gains.integral_time_s else ("none", 0.0),
        figure(gains.derivative_time_s, ".3g") if gains.derivative_time_s else ("none", 0.0),
        figure(metrics.overshoot_celsius, ".2f", per),
        ("never", math.inf) if in_band is None else (format_duration(in_band), in_band),
        figure(metrics.iae_celsius_s, ".0f" if (metrics.iae_celsius_s or 0.0) * per >= 100.0 else ".3g", per),
        ms,
        # of those that are as far inside, the one with less error is before
        (verdict, (beyond_of(on), math.inf if metrics.iae_celsius_s is None else metrics.iae_celsius_s)),
    ]  # fmt: skip
