"""What the C takes on each chip, beside what it took at the check before."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QWidget

from calor.desk.widgets.fields import emptied, label

COSTS = (
    ("flash_bytes", "Flash B"), ("ram_bytes", "RAM B"), ("stack_bytes", "Stack B"),
    ("instructions_mean", "Step"), ("instructions_worst", "Worst"),
)  # fmt: skip
VERDICTS = {True: ("✓ equal", "passed"), False: ("✕ differs", "failed"), None: ("not run", "quiet")}


class CostTable(QWidget):
    """A line of figures for each target under its name, and below them how they changed."""

    def __init__(self) -> None:
        super().__init__()
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setHorizontalSpacing(4)
        self._grid.setVerticalSpacing(2)
        for column in range(len(COSTS)):
            self._grid.setColumnStretch(column, 1)
        self.texts: list[str] = []

    def show_costs(self, data: dict[str, Any] | None, before: dict[str, Any] | None) -> None:
        """Show the figures of a check, and how they differ from the check before."""
        emptied(self._grid)
        self.texts = []
        for row in range(self._grid.rowCount()):
            self._grid.setRowMinimumHeight(row, 0)
        if data is None:
            return
        past = {row["target"]: row for row in (*before["targets"], *before["built_only"])} if before else {}
        for column, (key, title) in enumerate(COSTS):
            head = self._put(title, "quiet", 0, column)
            if key.startswith("instructions"):
                head.setToolTip(
                    "Instructions of one control step; of an AVR clock cycles, as its emulator counts them."
                )
        row = 1
        for target in (*data["targets"], *data["built_only"]):
            name = self._put(target["target"], "heading", row, 0, 3)
            name.setAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignBottom)
            self._grid.setRowMinimumHeight(row, 24)
            text, role = VERDICTS[target["bit_equal"]]
            self._put(text, role, row, 3, 2).setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignBottom)
            row += 1
            if target["bit_equal"] is None and "note" in target:
                note = self._put(target["note"], "quiet", row, 0, len(COSTS))
                note.setWordWrap(True)
                note.setAlignment(Qt.AlignmentFlag.AlignLeft)
                row += 1
            if target["flash_bytes"] is None and target["bit_equal"] is None:
                continue
            deltas = []
            for column, (key, _) in enumerate(COSTS):
                value, was = _figure(target, key), _figure(past.get(target["target"], {}), key)
                self._put("–" if value is None else f"{value:.0f}", "", row, column)
                apart = 0 if value is None or was is None else round(value) - round(was)
                deltas.append(f"{apart:+d}".replace("-", "−") if apart else "")
            row += 1
            if any(deltas):
                for column, delta in enumerate(deltas):
                    self._put(delta, "quiet", row, column)
                row += 1

    def _put(self, text: str, role: str, row: int, column: int, wide: int = 1) -> Any:
        cell = label(text, role)
        cell.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self._grid.addWidget(cell, row, column, 1, wide)
        self.texts.append(text)
        return cell


def _figure(target: dict[str, Any], key: str) -> float | None:
    """A figure of a target; an AVR has cycles in the place of instructions."""
    cycles = target.get("cycles", {})
    figure: float | None = target.get(key)
    return cycles.get(key.replace("instructions", "step")) if figure is None and cycles else figure
