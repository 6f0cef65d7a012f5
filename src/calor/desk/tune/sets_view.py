"""Gain sets: setpoints typed in, the chosen row's rule at each of them, and all of it taken into the design."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QLineEdit, QProgressBar, QPushButton, QVBoxLayout, QWidget

from calor.desk.widgets.fields import emptied, label
from calor.tune.gain_sets import SetFound
from calor.units import TemperatureUnit, difference_to, format_temperature, to_celsius

HEADS = ("Setpoint", "Gain", "Integral", "Derivative", "Ms", "Ms with the first set")
EXPLAINS = (
    "A load is another one at another temperature: losses grow, a fan or melting changes it. The rule of the chosen row"
    " is applied at each setpoint; between two of them the law takes gains in between."
)


class SetsView(QWidget):
    """A line for each setpoint."""

    asked = pyqtSignal(list)
    keep_asked = pyqtSignal()
    refused = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        explain = label(EXPLAINS, "quiet")
        explain.setWordWrap(True)
        column.addWidget(explain)
        line = QHBoxLayout()
        self.places, self.find_button, self.keep_button = (
            QLineEdit(),
            QPushButton("Find gain sets"),
            QPushButton("Keep these sets"),
        )
        self.places.setAccessibleName("Setpoints of the gain sets")
        self.places.setFixedWidth(220)
        self.keep_button.setProperty("role", "main")
        self.keep_button.setToolTip("Puts these gain sets into the design; Ctrl+Z takes them back.")
        self.unit_label = label("", "quiet")
        for widget in (label("Setpoints", "quiet"), self.places, self.unit_label, self.find_button, self.keep_button):
            line.addWidget(widget)
        line.addStretch(1)
        column.addLayout(line)
        self.bar = QProgressBar()
        self.bar.setRange(0, 100)
        self.bar.setTextVisible(False)
        column.addWidget(self.bar)
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(24)
        self._grid.setVerticalSpacing(3)
        self._grid.setColumnStretch(len(HEADS), 1)
        column.addLayout(self._grid)
        self.line = label("", "quiet")
        self.line.setWordWrap(True)
        column.addWidget(self.line)
        column.addStretch(1)
        self.texts: list[list[str]] = []
        self._unit: TemperatureUnit = "°C"
        self._is_busy = False
        self.find_button.clicked.connect(self._ask)
        self.places.returnPressed.connect(self._ask)
        self.keep_button.clicked.connect(self.keep_asked)

    def _ask(self) -> None:
        text = self.places.text()
        if self._is_busy:
            self.asked.emit([])
            return
        try:
            typed = [float(part) for part in text.replace(";", " ").replace(",", " ").split()]
        except ValueError:
            typed = []
        if len(typed) < 2:
            self.refused.emit(f"Gain sets: takes two setpoints or more with spaces between them (typed {text!r}).")
            return
        self.asked.emit([float(to_celsius(self._unit, value)) for value in typed])

    def show_sets(
        self, found: list[SetFound], title: str, unit: TemperatureUnit, share: float | None, usual_celsius: float
    ) -> None:
        """Show the sets found by a rule; `share` is how far a search for them is, None where none is on."""
        self._unit, self._is_busy = unit, share is not None
        self.unit_label.setText(unit)
        usual = [usual_celsius + away for away in (-10.0, 0.0, 10.0)]
        self.places.setPlaceholderText("  ".join(format_temperature(unit, one, 0).split(" ")[0] for one in usual))
        self.find_button.setText("Stop" if share is not None else "Find gain sets")
        self.bar.setVisible(share is not None)
        self.bar.setValue(round(100.0 * (share or 0.0)))
        self.keep_button.setEnabled(bool(found) and share is None)
        emptied(self._grid)
        self.texts = []
        for at, head in enumerate(HEADS if found else ()):
            self._put(head, "quiet", 0, at)
        per = difference_to(unit, 1.0)
        for number, one in enumerate(found, 1):
            gains = one.gains
            texts = [
                format_temperature(unit, one.celsius), f"{100.0 * gains.gain_per_celsius / per:.3g} %/{unit}",
                f"{gains.integral_time_s:.4g} s" if gains.integral_time_s else "none",
                f"{gains.derivative_time_s:.3g} s" if gains.derivative_time_s else "none",
                f"{one.margins.ms:.2f}" if one.margins.is_stable else "unstable",
                f"{one.margins_of_first.ms:.2f}" if one.margins_of_first.is_stable else "unstable",
            ]  # fmt: skip
            self.texts.append(texts)
            for at, text in enumerate(texts):
                self._put(text, "", number, at)
        self.line.setText(f"By {title}; choose another row of the table for another rule." if title else "")

    def _put(self, text: str, role: str, row: int, column: int) -> None:
        cell = label(text, role)
        cell.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self._grid.addWidget(cell, row, column)
