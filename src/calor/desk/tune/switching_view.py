"""What switching costs: hysteresis against swing, switchings and contact life, and how long a window may be."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QVBoxLayout, QWidget

from calor.desk.widgets.fields import emptied, label
from calor.units import TemperatureUnit, difference_to, format_difference, format_duration

HEADS = ("Hysteresis", "Swing", "Period", "Switchings an hour", "Contact lasts")
YEAR_DAYS = 365.25


class SwitchingView(QWidget):
    """A line for each hysteresis."""

    def __init__(self) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        self.line = label("", "quiet")
        self.line.setWordWrap(True)
        column.addWidget(self.line)
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(24)
        self._grid.setVerticalSpacing(3)
        self._grid.setColumnStretch(len(HEADS), 1)
        column.addLayout(self._grid)
        self.window_line = label("")
        self.window_line.setWordWrap(True)
        column.addWidget(self.window_line)
        column.addStretch(1)
        self.texts: list[list[str]] = []

    def show_data(self, data: dict[str, Any] | None, unit: TemperatureUnit) -> None:
        """Show the trade-off as `switching_data` told it; None: nothing was found yet."""
        emptied(self._grid)
        self.texts = []
        rows = [] if data is None else data["on_off"]
        self.line.setText(
            "An on/off law about the setpoint, by the model: dead time carries the temperature past both thresholds."
            if rows
            else "The model settles nowhere about the setpoint, so that nothing is told of on/off."
        )
        for at, head in enumerate(HEADS if rows else ()):
            self._put(head, "quiet", 0, at)
        for number, row in enumerate(rows, 1):
            days = row["contact_days"]
            texts = [
                f"{row['hysteresis_celsius'] * difference_to(unit, 1.0):g} {unit}",
                format_difference(unit, row["swing_celsius"]), format_duration(row["period_s"]),
                f"{row['switchings_per_hour']:.0f}",
                f"{days:.0f} days" if days < 2.0 * YEAR_DAYS else f"{days / YEAR_DAYS:.0f} years",
            ]  # fmt: skip
            self.texts.append(texts)
            for at, text in enumerate(texts):
                self._put(text, "", number, at)
        window = None if data is None else data["window"]
        text = ""
        if window is not None:
            limit = format_difference(unit, window["ripple_celsius"])
            longest = window["longest_s"]
            text = (
                f"A window of up to {longest:.3g} s keeps the ripple within {limit}." if longest is not None
                else f"Any window keeps the ripple within {limit}."
            )  # fmt: skip
        self.window_line.setText(text)

    def _put(self, text: str, role: str, row: int, column: int) -> None:
        cell = label(text, role)
        cell.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self._grid.addWidget(cell, row, column)
