"""What is chosen in the matrix: what the thermostat does, its figures, and the steps to the Loop room."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QFrame, QPushButton, QVBoxLayout

from calor.desk.proof.matrix import decides
from calor.desk.proof.work import Seen
from calor.desk.widgets.fields import emptied, label, scrolling, set_role
from calor.proof.fault_table import CAUTION, hottest
from calor.proof.outcome import TITLES, shown
from calor.proof.plan import CORNER, DRAWN, FAULT
from calor.proof.summary import Cell, MatrixRow
from calor.units import TemperatureUnit, format_duration


class Side(QFrame):
    """Says what the chosen row and cell are about."""

    WIDE_PX, NARROW_PX = 252, 186
    pin_asked = pyqtSignal()
    trial_asked = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("verdict")
        self.setFixedWidth(self.WIDE_PX)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(14, 0, 0, 0)
        outer.setSpacing(6)
        self.title, self.about = label("", "heading"), label("", "quiet")
        for one in (self.title, self.about):
            one.setWordWrap(True)
            outer.addWidget(one)
        scroll, self._lines = scrolling(5, 8)
        outer.addWidget(scroll, 1)
        self.pin_button, self.trial_button = QPushButton("Pin it in the Loop room"), QPushButton("Add it as a trial")
        self.pin_button.setToolTip("The run lies in grey under the design's own there, with its figures beside them.")
        self.trial_button.setToolTip("A trial more in the design, with this fault in it; Ctrl+Z takes it back.")
        self.pin_button.clicked.connect(self.pin_asked)
        self.trial_button.clicked.connect(self.trial_asked)
        self.caution = label(CAUTION, "quiet")
        self.caution.setWordWrap(True)
        for widget in (self.pin_button, self.trial_button, self.caution):
            outer.addWidget(widget)

    def show_choice(
        self, seen: Seen | None, row: MatrixRow | None, cell: Cell | None, unit: TemperatureUnit, file: str
    ) -> None:  # fmt: skip
        """Show a row, and the cell in it that is chosen."""
        emptied(self._lines)
        there = row is not None and seen is not None
        for widget in (self.title, self.pin_button, self.trial_button):
            widget.setVisible(there)
        self.caution.setVisible(there and row is not None and row.kind == FAULT)
        if row is None or seen is None:
            self.title.setText("")
            self.about.setText("Choose a cell: its run opens in the strip, and what is known of it stands here.")
            return
        self.trial_button.setVisible(row.kind == FAULT)
        trial = seen.progress.plan.design.trial[row.trial]
        at = f", at {format_duration(row.at_s)}" if row.kind == FAULT and row.at_s else ""
        self.title.setText(f"{row.title}{at}")
        number = cell.number if cell is not None else row.number
        many = f": {row.passed} of {row.runs} runs pass; here the worst" if row.kind in (CORNER, DRAWN) else ""
        self.about.setText(f"{trial.name}{many}. Run {number}.")
        if row.kind == FAULT:
            self._show_fault(seen, row, unit)
        if row.judged == 0:
            self._say("Nothing is judged: no limit is set.")
        for text in seen.not_used.get(trial.name, ()) if row.kind == FAULT else ():
            self._say(f"{text}.", "quiet")
        share = seen.shares[row.trial] if row.kind == DRAWN else None
        if share is not None and share.runs:
            self._say(
                f"{share.share * 100.0:.1f} % pass; at 95 % confidence {share.low * 100.0:.1f} to"
                f" {share.high * 100.0:.1f} % (Clopper–Pearson)."
            )
        if row.failed:
            self._say(row.failed, "problem")
        for one in row.cells:
            is_judged = decides(row, one)
            words = f"{TITLES[one.limit]}: {shown(one.limit, one.judged.value, unit)}"
            line = self._say(words + ("" if is_judged else ", for information"))
            role = "passed" if one.judged.passes else "failed"
            set_role(line, "role", role if is_judged else "quiet")
            run = f" · run {one.number}" if row.runs > 1 else ""
            margin = f"{one.margin * 100.0:+.0f} %".replace("-", "−")
            self._say(f"limit {shown(one.limit, one.judged.limit, unit)}, margin {margin}{run}", "quiet")
        command = f"calor run {file} --proof-run {number}" if file else f"run {number}, seed {seen.progress.plan.seed}"
        again = self._say(command, "quiet")
        again.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self._lines.addStretch(1)

    def _show_fault(self, seen: Seen, row: MatrixRow, unit: TemperatureUnit) -> None:
        found = next((one for one in seen.faults.values() if one.fault.title == row.title), None)
        if found is None:
            return
        here = found.number == row.number
        self._say("" if here else "Where this fault is worst:", "quiet")
        self._say(f"{found.answer[0].upper()}{found.answer[1:]}.")
        self._say(f"Hottest {hottest(found, unit)}. Ended: {found.ended}.")
        if found.missing:
            self._say(found.missing)

    def _say(self, text: str, role: str = "") -> Any:
        line = label(text, role)
        line.setWordWrap(True)
        line.setVisible(bool(text))
        self._lines.addWidget(line)
        return line
