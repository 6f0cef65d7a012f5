"""The table of rules: a row for each, sorted by any column, the present gains among them."""

from __future__ import annotations

import math
from typing import Any

from PyQt6.QtCore import QSignalBlocker, Qt, pyqtSignal
from PyQt6.QtGui import QBrush, QColor
from PyQt6.QtWidgets import QTableWidget, QTableWidgetItem

from calor.desk.tune.small_curve import SmallCurve, points_of
from calor.desk.widgets import theme as look
from calor.desk.widgets.tables import rows_to_choose
from calor.tune.table import PRESENT, SEARCH, Candidate, beyond_of
from calor.units import TemperatureUnit, difference_to, format_duration

COLUMNS = (
    "Gains", "Trial", "Gain · Ti · Td", "Overshoot", "In band", "Recovery", "Ripple", "Error", "Ms", "Verdict",
)  # fmt: skip
CURVE = COLUMNS.index("Trial")
HINTS = (
    "Which rule, and where its gains are from", "The reading on the trial, about the setpoint; the setpoint dashed",
    "Gain in % of full output per degree, integral and derivative time in s", "Furthest past the setpoint",
    "When it is in the band to stay", "Longest time back into the band after a disturbance",
    "Swing once it has settled",
    "Integral of the absolute error; less is better",
    "Largest sensitivity: 1.2 to 2 is usual, more is close to trouble; none where it swings ever further",
    "Whether the design's limits are kept on this trial",
)  # fmt: skip
VALUE = Qt.ItemDataRole.UserRole
ROW_PX, HEAD_PX, MOST_ROWS = 20, 26, 18
WIDTHS_PX = (48, 108, 64, 52, 58, 44, 50, 38, 52)
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
        rows_to_choose(self, ROW_PX, 0, dict(enumerate(WIDTHS_PX, 1)))
        header = self.horizontalHeader()
        if header is not None:
            header.sortIndicatorChanged.connect(lambda *_: self._keep_choice())
        first = self.horizontalHeaderItem(0)
        if first is not None:
            first.setTextAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        self.setWordWrap(False)
        # the end of a rule's name says whether it is PI or PID
        self.setTextElideMode(Qt.TextElideMode.ElideMiddle)
        self._curves = SmallCurve(self)
        self.setItemDelegateForColumn(CURVE, self._curves)
        self.name = ""
        self.sortByColumn(len(COLUMNS) - 1, Qt.SortOrder.AscendingOrder)
        self.itemSelectionChanged.connect(self._choose)

    def set_theme(self, theme: look.Theme) -> None:
        """Take a theme's colours."""
        self._theme = self._curves.theme = theme
        self._paint()
        view = self.viewport()
        if view is not None:
            view.update()

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
                    if column == CURVE:
                        item.setData(VALUE + 1, points_of(row, trial))
                    if column == 0:
                        item.setData(VALUE + 1, row.name)
                        item.setToolTip(". ".join(part for part in (row.source, row.note) if part))
                    self.setItem(at, column, item)
            self._paint()
            self.setSortingEnabled(True)
        # as high as its rows, and lower where the window has no room for them
        self.setMaximumHeight(HEAD_PX + ROW_PX * min(max(len(rows), 4), MOST_ROWS))
        self._keep_choice()

    def _paint(self) -> None:
        t = self._theme
        for at in range(self.rowCount()):
            name, verdict = self.item(at, 0), self.item(at, len(COLUMNS) - 1)
            row = self._row_at(at)
            if name is None or verdict is None or row is None:
                continue
            colours = {"passes": t.passed, "not judged": t.quiet}
            verdict.setForeground(QBrush(QColor(colours.get(verdict.text(), t.failed))))
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
        ms = (f"{margins.ms:.2f}" if margins.ms < 10.0 else f"{margins.ms:.0f}", margins.ms)
        ms = ms if margins.is_stable else ("none", math.inf)
    recoveries = list(metrics.recovery_s)
    longest = max((math.inf if one is None else one for one in recoveries), default=math.nan)
    recovery = ("–", -1.0) if math.isnan(longest) else ("never", longest)
    if math.isfinite(longest):
        recovery = (format_duration(longest), longest)
    times = " · ".join(_three(time) if time else "–" for time in (gains.integral_time_s, gains.derivative_time_s))
    verdict = on.word
    in_band = metrics.time_to_band_s
    return [
        (row.title + ("" if row.in_range else " *"), row.title),
        ("", math.inf if metrics.iae_celsius_s is None else metrics.iae_celsius_s),
        (f"{_three(gains.gain_per_celsius * 100.0 / per)} · {times}", gains.gain_per_celsius),
        figure(metrics.overshoot_celsius, ".2f", per),
        ("never", math.inf) if in_band is None else (format_duration(in_band), in_band),
        recovery,
        figure(metrics.settled_ripple_celsius, ".2f", per),
        figure(metrics.iae_celsius_s, ".0f" if (metrics.iae_celsius_s or 0.0) * per >= 100.0 else ".3g", per),
        ms,
        # of those that are as far inside, the one with less error is before
        (verdict, (beyond_of(on), math.inf if metrics.iae_celsius_s is None else metrics.iae_celsius_s)),
    ]  # fmt: skip


def _three(value: float) -> str:
    """Three digits, without an exponent."""
    return f"{value:.0f}" if value >= 100.0 else f"{value:.3g}"
