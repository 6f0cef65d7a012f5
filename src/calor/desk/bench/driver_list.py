"""The driver on its bench: each part worked out, marked where it does not hold, and what can hurt."""

from __future__ import annotations

from PyQt6.QtWidgets import QGridLayout, QVBoxLayout, QWidget

from calor.design.switched import switched
from calor.desk.state.desk import Desk
from calor.desk.widgets.fields import label
from calor.drive import driver as drivers


class DriverList(QWidget):
    """What was worked out, line by line."""

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self._shown: object = None
        self.lines: list[drivers.Check] = []
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 4, 0, 0)
        self._column.setSpacing(4)
        self._body: QWidget | None = None
        self.show_model()

    def show_model(self) -> None:
        """Work it out for the design as it is."""
        design = self._desk.document.design
        showing = (design.driver, switched(design), design.load.ambient_celsius)
        if showing == self._shown:
            return
        self._shown = showing
        if self._body is not None:
            self._column.removeWidget(self._body)
            self._body.deleteLater()
        self._body = QWidget()
        self._column.addWidget(self._body)
        grid = QGridLayout(self._body)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setVerticalSpacing(3)
        grid.setColumnStretch(1, 1)
        self.lines = []
        if design.driver is None:
            return
        self.lines = drivers.checked(design.driver, showing[1].watt, showing[2], showing[1].ampere)
        row = 0
        for line in self.lines:
            grid.addWidget(label(line.what), row, 0)
            figure = label(line.figure)
            figure.setWordWrap(True)
            grid.addWidget(figure, row, 1)
            grid.addWidget(label("ok" if line.holds else "no", "passed" if line.holds else "failed"), row, 2)
            if line.remedy:
                remedy = label(f"{line.remedy[0].upper()}{line.remedy[1:]}.", "problem")
                remedy.setWordWrap(True)
                row += 1
                grid.addWidget(remedy, row, 0, 1, 3)
            row += 1
        for caution in drivers.cautions(design.driver):
            said = label(caution, "quiet")
            said.setWordWrap(True)
            grid.addWidget(said, row, 0, 1, 3)
            row += 1
