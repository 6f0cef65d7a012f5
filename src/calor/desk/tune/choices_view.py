"""What there is to choose in a law without gains: a line for each width, run on the trial, and any of them taken."""

from __future__ import annotations

import math
from functools import partial

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QProgressBar, QPushButton, QVBoxLayout, QWidget

from calor.desk.widgets.fields import emptied, label, set_role
from calor.tune.choices import Choice
from calor.units import TemperatureUnit, format_difference, format_temperature

YEAR_DAYS = 365.25
EXPLAINS = {
    "Hysteresis": "A wider hysteresis swings further and switches less, so that contacts last longer.",
    "Start to full": "A wider curve is quieter and lets it grow warmer; a steep one hunts. Sound: below full output.",
    "": "This law has no hysteresis and no curve; what there is to choose are its gains, in the table.",
}


class ChoicesView(QWidget):
    """A line for each choice."""

    asked = pyqtSignal()
    keep_asked = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        self.line = label("", "quiet")
        self.line.setWordWrap(True)
        column.addWidget(self.line)
        across = QHBoxLayout()
        self.run_button, self.bar = QPushButton("Run the choices"), QProgressBar()
        self.bar.setRange(0, 100)
        self.bar.setTextVisible(False)
        across.addWidget(self.run_button)
        across.addWidget(self.bar, 1)
        across.addStretch(0)
        column.addLayout(across)
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(18)
        self._grid.setVerticalSpacing(2)
        column.addLayout(self._grid)
        column.addStretch(1)
        self.texts: list[list[str]] = []
        self.keep_buttons: list[QPushButton] = []
        self.run_button.clicked.connect(self.asked)

    def show_choices(self, what: str, found: list[Choice], unit: TemperatureUnit, share: float | None) -> None:
        """Show what was found of the choices in `what`; `share` is how far they are run, None where none is on."""
        self.line.setText(EXPLAINS[what])
        self.run_button.setVisible(bool(what))
        self.run_button.setText("Stop" if share is not None else "Run the choices")
        self.bar.setVisible(share is not None)
        self.bar.setValue(round(100.0 * (share or 0.0)))
        emptied(self._grid)
        self.texts, self.keep_buttons = [], []
        is_fan = any(one.noise_db is not None for one in found)
        last = ("Mean output", "Sound", "Starts an hour") if is_fan else ("Switchings an hour", "Contact lasts")
        for at, head in enumerate((what, "Highest", "Ripple", *last, "Verdict") if found else ()):
            self._put(label(head, "quiet"), 0, at)
        for number, one in enumerate(found, 1):
            texts = _texts(one, unit, is_fan)
            self.texts.append(texts)
            for at, text in enumerate(texts):
                cell = label(text, "heading" if one.factor == 1.0 and at == 0 else "")
                if at == len(texts) - 1:
                    judged = one.verdict.outcome
                    set_role(cell, "role", "quiet" if judged is None else "passed" if judged else "failed")
                self._put(cell, number, at)
            keep = QPushButton("Keep")
            keep.setAccessibleName(f"Keep {what.lower()} {texts[0]}")
            keep.setProperty("role", "link")
            keep.setEnabled(one.factor != 1.0)
            keep.clicked.connect(partial(self.keep_asked.emit, one))
            self._grid.addWidget(keep, number, len(texts))
            self.keep_buttons.append(keep)
        self._grid.setColumnStretch(9, 1)

    def _put(self, cell: QWidget, row: int, column: int) -> None:
        self._grid.addWidget(cell, row, column, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)


def _texts(one: Choice, unit: TemperatureUnit, is_fan: bool) -> list[str]:
    metrics = one.verdict.metrics
    ripple = metrics.settled_ripple_celsius
    texts = [
        format_difference(unit, one.width_celsius),
        "–" if one.peak_celsius is None else format_temperature(unit, one.peak_celsius),
        "–" if ripple is None else format_difference(unit, ripple),
    ]
    if is_fan:
        noise = one.noise_db
        texts.append(f"{100.0 * one.mean_output:.0f} %")
        texts.append("silent" if noise is None or math.isinf(noise) else f"{noise:+.0f} dB".replace("-", "−"))
        texts.append(f"{one.starts_per_hour:.2g}")
    else:
        days = one.contact_days
        texts.append(f"{metrics.switchings_per_hour:.3g}")
        lasts = (
            "–" if days is None else f"{days:.0f} days" if days < 2.0 * YEAR_DAYS else f"{days / YEAR_DAYS:.0f} years"
        )
        texts.append(lasts)
    return [*texts, one.verdict.word]
