"""The list of kept runs: a small curve, what it was, its verdict and figures; sorted by any of them."""

from __future__ import annotations

from typing import Any

import numpy as np
from PyQt6.QtCore import QAbstractTableModel, QModelIndex, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableView,
    QWidget,
)

from calor.desk.widgets import theme as look
from calor.desk.widgets.tables import rows_to_choose
from calor.journal.entry import Curve, Kept
from calor.journal.find import figure, ordered
from calor.units import TemperatureUnit, celsius_to, difference_to, format_duration

ROW_PX, CURVE_PX, MOST_CHOSEN = 34, 92, 2
FIGURES = {
    "overshoot_celsius": "Overshoot", "time_to_band_s": "In band after", "settled_ripple_celsius": "Ripple",
    "recovery_s": "Recovery", "switchings_per_hour": "Switchings/h", "energy_wh": "Energy", "peak_celsius": "Highest",
    "mean_error_celsius": "Mean error", "in_band_fraction": "In band", "lowest_celsius": "Lowest",
    "rise_time_s": "Rise", "on_fraction": "On", "iae_celsius_s": "Error integral",
}  # fmt: skip
"""Figures by which runs can be sorted, in the order in which they are offered."""
PLAIN = {"number": "Run", "made": "Kept", "design": "Design", "trial": "Trial", "verdict": "Verdict"}
HEADS = ("", "Run", "Kept", "Design · trial", "Verdict", "")


def shown_figure(key: str, value: float | None, unit: TemperatureUnit) -> str:
    """A figure of a run in words."""
    if value is None:
        return "never" if key in ("time_to_band_s", "recovery_s") else "–"
    if key.endswith("_s") and key != "iae_celsius_s":
        return format_duration(value)
    if key in ("peak_celsius", "lowest_celsius"):
        return f"{celsius_to(unit, value):.1f} {unit}"
    if key.endswith("_fraction"):
        return f"{value * 100.0:.0f} %"
    if key.endswith("_celsius"):
        return f"{difference_to(unit, value):.2f} {unit}"
    if key == "iae_celsius_s":
        return f"{difference_to(unit, value):.0f} {unit}·s"
    return f"{value:.1f} Wh" if key.endswith("_wh") else f"{value:.0f}"


class KeptModel(QAbstractTableModel):
    """The runs that are shown, in their order."""

    def __init__(self) -> None:
        super().__init__()
        self.rows: list[Kept] = []
        self.figure, self.unit, self.theme = "overshoot_celsius", "°C", look.LIGHT

    def show_rows(self, rows: list[Kept], key: str, unit: TemperatureUnit) -> None:
        """Show runs, and one of their figures."""
        self.beginResetModel()
        self.rows, self.figure, self.unit = rows, key, unit
        self.endResetModel()

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        return 0 if parent is not None and parent.isValid() else len(self.rows)

    def columnCount(self, parent: QModelIndex | None = None) -> int:
        return 0 if parent is not None and parent.isValid() else len(HEADS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = 0) -> Any:
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return FIGURES.get(self.figure, self.figure) if section == len(HEADS) - 1 else HEADS[section]
        if orientation == Qt.Orientation.Horizontal and role == Qt.ItemDataRole.TextAlignmentRole:
            side = Qt.AlignmentFlag.AlignRight if section in (1, 5) else Qt.AlignmentFlag.AlignLeft
            return side | Qt.AlignmentFlag.AlignVCenter
        return None

    def data(self, index: QModelIndex, role: int = 0) -> Any:
        entry = self.rows[index.row()]
        column = index.column()
        if role == Qt.ItemDataRole.DisplayRole:
            return self._text(entry, column)
        if role == Qt.ItemDataRole.UserRole:
            return entry
        if role == Qt.ItemDataRole.ToolTipRole:
            return entry.note[:400] or None
        if role == Qt.ItemDataRole.ForegroundRole and column == 4 and entry.passes is not None:
            return QColor(self.theme.passed if entry.passes else self.theme.failed)
        if role == Qt.ItemDataRole.TextAlignmentRole:
            side = Qt.AlignmentFlag.AlignRight if column in (1, 5) else Qt.AlignmentFlag.AlignLeft
            return side | Qt.AlignmentFlag.AlignVCenter
        return None

    def _text(self, entry: Kept, column: int) -> str:
        unit: Any = self.unit
        mark = {"pass": "✓ pass", "fail": "✕ fail"}.get(entry.verdict, "–")
        texts = (
            "", f"{entry.number}{' ⚑' if entry.pinned else ''}", entry.made[:16].replace("T", " "),
            f"{entry.design} · {entry.trial}\n{_first_line(entry)}".rstrip(), mark,
            shown_figure(self.figure, figure(entry, self.figure), unit),
        )  # fmt: skip
        return texts[column]


def _first_line(entry: Kept) -> str:
    """What stands under a run's name: its tags and the begin of its note."""
    note = (entry.note.splitlines() or [""])[0]
    return " · ".join(part for part in (", ".join(entry.tags), note) if part)


class CurvePainter(QStyledItemDelegate):
    """Paints a run's curve in its cell."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.theme = look.LIGHT

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        super().paint(painter, option, index)
        entry = index.data(Qt.ItemDataRole.UserRole)
        if painter is None or entry is None:
            return
        box = QRectF(option.rect).adjusted(6.0, 5.0, -6.0, -5.0)
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        is_chosen = bool(option.state & QStyle.StateFlag.State_Selected)
        painter.setPen(
            QPen(option.palette.highlightedText().color() if is_chosen else QColor(self.theme.measured), 1.1)
        )
        for line in _lines(entry.curve, box):
            painter.drawPolyline(line)
        painter.restore()


def _lines(curve: Curve, box: QRectF) -> list[QPolygonF]:
    """The middle of a kept curve as lines in a box, broken where there is no reading."""
    middle = 0.5 * (curve.low_celsius + curve.high_celsius)
    known = middle[np.isfinite(middle)]
    if not len(known):
        return []
    low, high = float(known.min()), float(known.max())
    lines: list[QPolygonF] = []
    line = QPolygonF()
    for number, value in enumerate(middle.tolist()):
        if not np.isfinite(value):
            lines, line = [*lines, line], QPolygonF()
            continue
        x = box.left() + box.width() * number / max(len(middle) - 1, 1)
        line.append(QPointF(x, box.bottom() - box.height() * (value - low) / max(high - low, 1e-6)))
    return [one for one in (*lines, line) if one.count() > 1]


class RunList(QTableView):
    """Shows kept runs; one or two of them can be chosen."""

    chosen = pyqtSignal(list)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Kept runs")
        self._model = KeptModel()
        self.setModel(self._model)
        self._curves = CurvePainter(self)
        self.setItemDelegateForColumn(0, self._curves)
        widths_px = {0: CURVE_PX, 1: 48, 2: 138, 4: 70, 5: 92}
        rows_to_choose(self, ROW_PX, 3, widths_px, Qt.AlignmentFlag.AlignLeft)
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.setWordWrap(True)
        model = self.selectionModel()
        if model is not None:
            model.selectionChanged.connect(lambda *_: self._tell())

    def sizeHint(self) -> QSize:
        return QSize(500, 240)

    def set_theme(self, theme: look.Theme) -> None:
        """Take a theme's colours."""
        self._model.theme = self._curves.theme = theme
        view = self.viewport()
        if view is not None:
            view.update()

    def show_runs(self, rows: list[Kept], key: str, is_falling: bool, unit: TemperatureUnit) -> None:
        """Show runs in an order; those that are chosen stay chosen, where they are there."""
        before = [entry.uid for entry in self.picked()]
        shown = key if key in FIGURES else self._model.figure
        self._model.show_rows(ordered(rows, key, is_falling) if rows else [], shown, unit)
        at = [number for number, entry in enumerate(self._model.rows) if entry.uid in before]
        self.clearSelection()
        for number in at or ([0] if self._model.rows else []):
            self._add(number)
        self._tell()

    def _add(self, number: int) -> None:
        from PyQt6.QtCore import QItemSelectionModel

        model = self.selectionModel()
        if model is not None:
            flags = QItemSelectionModel.SelectionFlag.Select | QItemSelectionModel.SelectionFlag.Rows
            model.select(self._model.index(number, 0), flags)

    def choose(self, numbers: list[int]) -> None:
        """Choose runs by their numbers."""
        self.clearSelection()
        for at, entry in enumerate(self._model.rows):
            if entry.number in numbers:
                self._add(at)
                self.scrollTo(self._model.index(at, 0))

    def picked(self) -> list[Kept]:
        """The chosen runs, in the order of the list."""
        model = self.selectionModel()
        rows = sorted({index.row() for index in model.selectedRows()}) if model is not None else []
        return [self._model.rows[row] for row in rows if row < len(self._model.rows)]

    def _tell(self) -> None:
        self.chosen.emit(self.picked())
