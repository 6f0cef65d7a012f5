"""The Logs room's page: records on the left, the strip in the middle, measures and fit on the right."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from calor.desk.logs.columns_panel import ColumnsPanel
from calor.desk.logs.fit_panel import FitPanel
from calor.desk.logs.measures_panel import MeasuresPanel
from calor.desk.logs.record_strip import RecordStrip
from calor.desk.logs.records_panel import RecordsPanel
from calor.desk.logs.shelf import Opened, Shelf
from calor.desk.room import Page
from calor.desk.state.desk import Desk
from calor.desk.widgets import theme as look

RIGHT_PX = 304


class LogsPage(Page):
    """Records, strip, figures."""

    def __init__(self, desk: Desk, shelf: Shelf) -> None:
        super().__init__()
        self.setObjectName("page")
        self._shelf = shelf
        self._shown: Opened | None = None
        self.records, self.strip, self.columns = RecordsPanel(shelf), RecordStrip(desk, shelf), ColumnsPanel(shelf)
        self.measures, self.fit = MeasuresPanel(desk, shelf), FitPanel(desk, shelf)
        across = QHBoxLayout(self)
        across.setContentsMargins(0, 0, 0, 0)
        across.setSpacing(0)
        across.addWidget(self.records)
        middle = QVBoxLayout()
        middle.setSpacing(0)
        middle.addWidget(self.columns)
        middle.addWidget(self.strip, 1)
        across.addLayout(middle, 1)
        right = QFrame()
        right.setObjectName("verdict")
        inside = QVBoxLayout(right)
        inside.setContentsMargins(14, 8, 12, 6)
        inside.setSpacing(8)
        inside.addWidget(self.measures)
        inside.addWidget(self.fit)
        inside.addStretch(1)
        self.right = QScrollArea()
        self.right.setObjectName("verdict")
        self.right.setWidgetResizable(True)
        self.right.setFrameShape(QFrame.Shape.NoFrame)
        self.right.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.right.setFixedWidth(RIGHT_PX)
        self.right.setWidget(right)
        across.addWidget(self.right)
        self.columns.hide()
        self.records.columns_toggled.connect(self.columns.setVisible)
        self.records.place_asked.connect(self.strip.show_place)
        shelf.changed.connect(self._show)
        self._show()

    def _show(self) -> None:
        """A record that has just come is shown whole, and its columns where they were not sure."""
        item = self._shelf.chosen
        self.right.setVisible(item is not None)
        if item is None:
            self.records.columns_button.setChecked(False)
        if item is not None and item is not self._shown:
            self._shown = item
            self.strip.started_anew()
            unsure = not item.record.recognised.has_header and not item.corrections.given
            self.records.columns_button.setChecked(unsure)
            self.strip.redraw()

    def set_theme(self, theme: look.Theme) -> None:
        self.strip.set_theme(theme)
        self.fit.set_theme(theme)

    def tab_order(self) -> list[QWidget]:
        strip = [self.strip.caliper_button, self.strip.whole_button, self.strip, self.measures.leave_out]
        return [*self.records.tab_order(), *self.columns.tab_order(), *strip, *self.fit.tab_order()]

    def focus(self) -> None:
        self.strip.setFocus(Qt.FocusReason.OtherFocusReason)
