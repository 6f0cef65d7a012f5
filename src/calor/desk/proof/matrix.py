"""The matrix: rows are trials with their faults and tolerances, columns limits; a cell has a mark and a margin."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QSignalBlocker, Qt, pyqtSignal
from PyQt6.QtGui import QBrush, QColor, QResizeEvent
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget, QTableWidgetItem

from calor.desk.widgets import theme as look
from calor.proof.outcome import TITLES, shown
from calor.proof.plan import CORNER, DRAWN, FAULT
from calor.proof.summary import Cell, MatrixRow
from calor.units import TemperatureUnit, format_duration

ROW_PX, HEAD_PX, NAME_PX, NARROW_NAME_PX, MOST_MARGIN = 21, 40, (176, 240), 146, 9.99
LIMIT_PX, BAR_PX = 62, 10
SHORT = {
    "safe.highest_celsius": "Highest at a fault", "safe.lowest_celsius": "Lowest at a fault",
    "safe.energy_wh": "Energy at a fault", "safe.off_within_s": "Off after a fault",
}  # fmt: skip


def decides(row: MatrixRow, cell: Cell) -> bool:
    """Whether a cell decides over its row: beside a fault the ordinary limits are told, and do not."""
    return row.kind != FAULT or cell.limit.startswith("safe.")


def margin_text(row: MatrixRow, cell: Cell) -> str:
    """A cell in a few characters: its mark where it decides, and by which share of the limit it is kept or missed."""
    mark = "·" if not decides(row, cell) else "✓" if cell.judged.passes else "✕"
    if cell.judged.value is None:
        return f"{mark} –"
    if abs(cell.margin) > MOST_MARGIN:
        return f"{mark} far"
    return f"{mark} {cell.margin * 100.0:+.0f}".replace("-", "−")


def title_of(row: MatrixRow) -> str:
    """What a row is called."""
    if row.kind in (CORNER, DRAWN):
        return f"{row.title}: {row.passed} of {row.judged}" if row.judged else f"{row.title}: not judged"
    return f"{row.title}, {format_duration(row.at_s)}" if row.kind == FAULT and row.at_s else row.title


class Matrix(QTableWidget):
    """Shows rows as they come, and says which cell is chosen: its row, and the cell's run or the row's own."""

    chosen = pyqtSignal(object, object)

    def __init__(self) -> None:
        super().__init__(0, 1)
        self.setAccessibleName("Proof: trials and faults by limits")
        self._theme = look.LIGHT
        self._rows: list[MatrixRow | None] = []
        self._limits: list[str] = []
        self._is_narrow = False
        self._choice: tuple[str, int, str] | None = None
        side = self.verticalHeader()
        if side is not None:
            side.hide()
            side.setDefaultSectionSize(ROW_PX)
        header = self.horizontalHeader()
        if header is not None:
            header.setFixedHeight(HEAD_PX)
            header.setHighlightSections(False)
            header.setMinimumSectionSize(56)
            header.setDefaultAlignment(
                Qt.AlignmentFlag(int(Qt.AlignmentFlag.AlignCenter) | int(Qt.TextFlag.TextWordWrap))
            )
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setTabKeyNavigation(False)
        self.setWordWrap(False)
        self.setTextElideMode(Qt.TextElideMode.ElideMiddle)  # when a fault comes stands last, and tells rows apart
        self.setShowGrid(False)
        self.itemSelectionChanged.connect(self._choose)

    def set_narrow(self, is_narrow: bool) -> None:
        """Take less room for the names of rows."""
        self._is_narrow = is_narrow
        header = self.horizontalHeader()
        if header is not None:
            header.setFont(look.font(look.SMALL_PX))
            header.setMinimumSectionSize(44 if is_narrow else 56)
        self._fit_names()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._fit_names()

    def _fit_names(self) -> None:
        header = self.horizontalHeader()
        if header is not None:
            header.resizeSection(0, self._name_px())

    def _name_px(self) -> int:
        """Of the names of rows: as wide as the columns of limits let them be."""
        if self._is_narrow:
            return NARROW_NAME_PX
        least, most = NAME_PX
        return min(max(self.width() - BAR_PX - LIMIT_PX * len(self._limits), least), most)

    def set_theme(self, theme: look.Theme) -> None:
        """Take a theme's colours."""
        self._theme = theme
        self._paint()

    def show_rows(self, rows: tuple[MatrixRow, ...], trials: list[str], unit: TemperatureUnit) -> None:
        """Show the rows there are, under the names of their trials; the chosen cell stays chosen."""
        listed: list[MatrixRow | None] = []
        heads: dict[int, str] = {}
        trial = -1
        for row in rows:
            if row.trial != trial:
                trial = row.trial
                heads[len(listed)] = trials[trial]
                listed.append(None)
            listed.append(row)
        found = dict.fromkeys(cell.limit for row in rows for cell in row.cells)
        limits = [name for name in TITLES if name in found]
        with QSignalBlocker(self):
            if limits != self._limits:
                self._limits = limits
                self.setColumnCount(1 + len(limits))
                self.setHorizontalHeaderLabels(["", *(SHORT.get(name, TITLES[name]) for name in limits)])
                header = self.horizontalHeader()
                if header is not None:
                    header.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
                    header.setSectionResizeMode(0, QHeaderView.ResizeMode.Fixed)
                self._fit_names()
            self.clearSpans()
            self.setRowCount(len(listed))
            self._rows = listed
            for at, one in enumerate(listed):
                if one is None:
                    self._put(at, 0, heads[at])
                    self.setSpan(at, 0, 1, 1 + len(limits))
                    continue
                mark = {True: "✓ ", False: "✕ ", None: "– "}[one.passes]
                self._put(at, 0, mark + title_of(one), one.failed or ("" if one.judged else "No limit is set."))
                cells = {cell.limit: cell for cell in one.cells}
                for column, name in enumerate(limits, 1):
                    cell = cells.get(name)
                    figure = "" if cell is None else (
                        f"{shown(name, cell.judged.value, unit)}, limit {shown(name, cell.judged.limit, unit)};"
                        f" run {cell.number}"
                    )  # fmt: skip
                    self._put(at, column, "" if cell is None else margin_text(one, cell), figure, cell)
            self._paint()
        self._keep_choice()

    def _put(self, at: int, column: int, text: str, tip: str = "", cell: Cell | None = None) -> None:
        item = self.item(at, column)
        if item is None:
            item = QTableWidgetItem()
            self.setItem(at, column, item)
        item.setText(text)
        item.setToolTip(tip)
        item.setData(Qt.ItemDataRole.UserRole, cell)
        side = Qt.AlignmentFlag.AlignLeft if column == 0 else Qt.AlignmentFlag.AlignRight
        item.setTextAlignment(side | Qt.AlignmentFlag.AlignVCenter)

    def _paint(self) -> None:
        t = self._theme
        for at, row in enumerate(self._rows):
            name = self.item(at, 0)
            if name is None:
                continue
            font = name.font()
            font.setBold(row is None)
            name.setFont(font)
            passes = None if row is None else row.passes
            colour = t.ink if row is None else t.quiet if passes is None else t.passed if passes else t.failed
            name.setForeground(QBrush(QColor(colour)))
            for column in range(1, self.columnCount() if row is not None else 0):
                item = self.item(at, column)
                cell: Any = None if item is None else item.data(Qt.ItemDataRole.UserRole)
                if item is None or cell is None or row is None:
                    continue
                shade = t.quiet if not decides(row, cell) else t.passed if cell.judged.passes else t.failed
                item.setForeground(QBrush(QColor(shade)))

    def choose_drawn(self, trial: int) -> None:
        """Choose the worst of a trial's drawn runs, where there are some."""
        for at, row in enumerate(self._rows):
            if row is not None and row.kind == DRAWN and row.trial == trial and row.cells:
                worst = min(row.cells, key=lambda cell: cell.margin)
                self.setCurrentCell(at, 1 + self._limits.index(worst.limit))
                return

    def _key(self, at: int, column: int) -> tuple[str, int, str] | None:
        row = self._rows[at] if 0 <= at < len(self._rows) else None
        if row is None:
            return None
        return f"{row.kind}{row.title}{row.at_s}", row.trial, self._limits[column - 1] if column > 0 else ""

    def _keep_choice(self) -> None:
        for at in range(len(self._rows)):
            for column in range(self.columnCount()):
                if self._choice is not None and self._key(at, column) == self._choice:
                    with QSignalBlocker(self):
                        self.setCurrentCell(at, column)
                    return

    def _choose(self) -> None:
        at, column = self.currentRow(), self.currentColumn()
        row = self._rows[at] if 0 <= at < len(self._rows) else None
        if row is None:
            return
        self._choice = self._key(at, column)
        item = self.item(at, column)
        self.chosen.emit(row, None if item is None else item.data(Qt.ItemDataRole.UserRole))
