"""The figures of the chosen record, or of the stretch between the calipers; a second column for the one beneath."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from calor.desk.logs.shelf import Shelf
from calor.desk.state.desk import Desk
from calor.desk.widgets.fields import emptied, label
from calor.judge.record_text import lines
from calor.units import format_duration

LONGEST_UNBROKEN = 13


class MeasuresPanel(QWidget):
    """Titles and values, in the unit of the window."""

    def __init__(self, desk: Desk, shelf: Shelf) -> None:
        super().__init__()
        self._desk, self._shelf = desk, shelf
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        head = QHBoxLayout()
        self.title = label("Measures", "heading")
        self.leave_out = QPushButton("Leave out of the fit")
        self.leave_out.setProperty("role", "link")
        self.leave_out.setToolTip("Leave the stretch between the calipers out of the fit: a door, a lid, a test.")
        self.leave_out.clicked.connect(self._leave_out)
        head.addWidget(self.title, 1)
        head.addWidget(self.leave_out)
        column.addLayout(head)
        self.of_stretch = label("", "quiet")
        column.addWidget(self.of_stretch)
        self._place = QWidget()
        self._grid = QGridLayout(self._place)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setHorizontalSpacing(8)
        self._grid.setVerticalSpacing(2)
        column.addWidget(self._place)
        for signal in (shelf.changed, shelf.measured, shelf.compared_changed, desk.view.unit_changed):
            signal.connect(self.show_model)
        self.show_model()

    def _leave_out(self) -> None:
        if self._shelf.stretch is not None:
            self._shelf.leave_out(*self._shelf.stretch)

    def texts(self) -> list[tuple[str, str, str]]:
        """(title, value, value of the record beneath; empty where there is none) as shown."""
        item, unit = self._shelf.chosen, self._desk.view.unit
        if item is None or item.figures is None:
            return []
        own = dict(lines(item.figures, unit))
        beneath = {} if self._shelf.compared_figures is None else dict(lines(self._shelf.compared_figures, unit))
        titles = list(own) + [title for title in beneath if title not in own]
        return [(title, own.get(title, "–"), beneath.get(title, "–" if beneath else "")) for title in titles]

    def show_model(self) -> None:
        """Show the figures there are."""
        emptied(self._grid)
        item, stretch = self._shelf.chosen, self._shelf.stretch
        self.leave_out.setVisible(stretch is not None)
        self.title.setText("Measures of a stretch" if stretch is not None else "Measures")
        self.of_stretch.setVisible(stretch is not None)
        if stretch is not None:
            self.of_stretch.setText(f"{format_duration(stretch[0])} to {format_duration(stretch[1])}")
        if item is None:
            return
        texts = self.texts()
        if not texts:
            there = "Measuring …" if item.figures is None and stretch is None else "No readings between the calipers."
            self._grid.addWidget(label(there, "quiet"), 0, 0)
        two = any(beneath for _, _, beneath in texts)
        row = 0
        if two:
            for number, name in ((1, "this"), (2, "other")):
                head = label(name, "quiet")
                head.setAlignment(Qt.AlignmentFlag.AlignRight)
                self._grid.addWidget(head, 0, number)
            row = 1
        for title, value, beneath in texts:
            if title == "Stretch":
                continue
            self._grid.addWidget(label(title, "quiet"), row, 0, Qt.AlignmentFlag.AlignTop)
            for number, text in ((1, value), (2, beneath)):
                if number == 1 or two:
                    cell = label(text, "figure")
                    cell.setWordWrap(len(text) > LONGEST_UNBROKEN)
                    cell.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop)
                    self._grid.addWidget(cell, row, number)
            row += 1
        self._grid.setColumnStretch(1, 1)
        self._grid.setColumnStretch(2, 1 if two else 0)
