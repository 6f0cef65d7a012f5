"""What the C takes on each chip, beside what it took at the check before."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QWidget

from calor.desk.fields import label

COSTS = (
    ("flash_bytes", "Flash", "B"), ("ram_bytes", "RAM", "B"), ("stack_bytes", "Stack", "B"),
    ("instructions_mean", "A step, mean", ""), ("instructions_worst", "A step, worst", ""),
)  # fmt: skip


class CostTable(QWidget):
    """What the C takes on each chip, beside what it took before."""

    def __init__(self) -> None:
        super().__init__()
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setHorizontalSpacing(8)
        self._grid.setVerticalSpacing(3)
        self._grid.setColumnStretch(0, 1)
        self.texts: list[str] = []

    def show_costs(self, data: dict[str, Any] | None, before: dict[str, Any] | None) -> None:
        """Show the figures of a check, and how they differ from the check before."""
        while self._grid.count():
            item = self._grid.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        self.texts = []
        if data is None:
            return
        past = {row["target"]: row for row in before["targets"]} if before else {}
        row = 0
        for target in data["targets"]:
            self._put(target["target"], "heading", row, 0)
            equal = target["bit_equal"]
            said = {True: "✓ equal", False: "✕ differs", None: "not run"}[equal]
            self._put(said, {True: "passed", False: "failed", None: "quiet"}[equal], row, 1, 2)
            row += 1
            for key, title, unit in COSTS:
                value = target.get(key)
                if value is None:
                    continue
                was = past.get(target["target"], {}).get(key)
                delta = "" if was is None or round(was) == round(value) else f"{value - was:+.0f}".replace("-", "−")
                self._put(title, "", row, 0)
                self._put(f"{value:.0f} {unit}".strip(), "", row, 1, right=True)
                self._put(delta, "quiet", row, 2, right=True)
                row += 1

    def _put(self, text: str, role: str, row: int, column: int, wide: int = 1, right: bool = False) -> None:
        made = label(text, role)
        if right or wide > 1:
            made.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self._grid.addWidget(made, row, column, 1, wide)
        self.texts.append(text)
