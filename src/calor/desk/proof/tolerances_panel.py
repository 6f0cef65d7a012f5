"""What is proved on the left: how many runs, faults and tolerances, each tolerance with its share of the trouble."""

from __future__ import annotations

import math
from typing import Any

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPaintEvent
from PyQt6.QtWidgets import (
    QCheckBox,
    QFrame,
    QHBoxLayout,
    QLineEdit,
    QProgressBar,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from calor.design.edit import with_block
from calor.design.problems import explain
from calor.design.proof import LoadSpread, Spread
from calor.desk.proof.work import ProofWork
from calor.desk.state.desk import Desk
from calor.desk.widgets import theme as look
from calor.desk.widgets.fields import emptied, label, scrolling, set_role
from calor.proof.outcome import TITLES
from calor.proof.summary import Weight
from calor.proof.tolerances import Tolerance, tolerances_of
from calor.units import TemperatureUnit, difference_to

BAR_PX, ENTRY_PX = 44, 60
KEYS = {
    "ambient": "ambient_celsius", "mains_voltage": "mains_voltage_fraction", "window": "window_fraction",
    "clock": "clock_fraction",
}  # fmt: skip
"""Where the width of a tolerance stands in [proof]."""


class WeightBar(QWidget):
    """How strongly a tolerance goes with a limit's figure, as a bar from 0 to 1."""

    def __init__(self) -> None:
        super().__init__()
        self.theme = look.LIGHT
        self.value, self.is_told = math.nan, True
        self.setFixedSize(BAR_PX, 14)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        del event
        painter = QPainter(self)
        painter.fillRect(QRectF(0, 5, self.width(), 4), QColor(self.theme.grid))
        if math.isfinite(self.value):
            colour = self.theme.measured if self.is_told else self.theme.rule
            painter.fillRect(QRectF(0, 3, self.width() * min(abs(self.value), 1.0), 8), QColor(colour))


class ToleranceLine(QWidget):
    """One tolerance: its name, how far it may be off, its bar."""

    def __init__(self, panel: TolerancesPanel, tolerance: Tolerance) -> None:
        super().__init__()
        self.tolerance, self._panel = tolerance, panel
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 6, 0)
        row.setSpacing(4)
        self.name, self.entry, self.bar = label(tolerance.title.removesuffix(", load")), QLineEdit(), WeightBar()
        self.name.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.name.setToolTip(tolerance.title)
        self.entry.setFixedWidth(ENTRY_PX)
        self.entry.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.entry.setAccessibleName(f"{tolerance.title}: how far it may be off")
        self.entry.editingFinished.connect(self._entered)
        row.addWidget(self.name, 1)
        for widget in (label("±", "quiet"), self.entry, self.bar):
            row.addWidget(widget)
        self.show_width()

    def show_width(self) -> None:
        """Show how far it may be off, in its unit."""
        one, unit = self.tolerance, self._panel.unit
        within = max(abs(one.low), abs(one.high))
        # "100 %" beside a resistance would read as all of it: a part's own tolerance is counted, as in the file
        self.entry.setText({
            "celsius": f"{difference_to(unit, within):.3g} {unit}", "tolerance": f"{within:.3g} tol.",
        }.get(one.unit, f"{within * 100.0:.3g} %"))  # fmt: skip
        self.entry.setModified(False)
        shape = f"{one.shown(one.low, unit)} to {one.shown(one.high, unit)}, {one.distribution}"
        what = {
            "tolerance": "tol.: 1 is all of its own tolerance, as the Probe room states it",
            "share": "% of its value",
            "celsius": f"in {unit}",
        }[one.unit]
        part = one.name.split(".")[0]
        also = f"; one width for all tolerances of the {part}" if part in ("probe", "converter") else ""
        self.entry.setToolTip(f"{what}{also}: {shape}")

    def show_weight(self, weight: Weight | None, theme: look.Theme) -> None:
        """Show how strongly it goes with which limit."""
        self.bar.theme = theme
        self.bar.value = math.nan if weight is None or not weight.limit else weight.correlation
        self.bar.is_told = weight is not None and weight.beyond_chance
        tip = "No draws yet." if weight is None else "No figure of a limit varies with it."
        if weight is not None and weight.limit:
            tip = f"Spearman's rank correlation {weight.correlation:+.2f} with “{TITLES[weight.limit]}”"
            tip += "" if weight.beyond_chance else "; no more than chance with so few draws"
        self.bar.setToolTip(tip)
        self.bar.update()

    def _entered(self) -> None:
        if not self.entry.isModified():
            return
        text = self.entry.text().replace(",", ".")
        is_share = self.tolerance.unit == "share" or "%" in text
        for mark in ("±", "%", "tol.", "tol", "°C", "°F", "K"):
            text = text.replace(mark, "")
        try:
            value = float(text)
        except ValueError:
            value = math.nan
        scale = 100.0 if is_share else 1.0
        if self.tolerance.unit == "celsius":
            scale = difference_to(self._panel.unit, 1.0)
        problem = (
            "takes a number from 0" if not 0.0 <= value < 1e5 else self._panel.set_width(self.tolerance, value / scale)
        )
        set_role(self.entry, "wrong", "true" if problem else "false")
        if problem:
            self._panel.complain(f"{self.tolerance.title}: {problem}")
        self.entry.setModified(False)


class TolerancesPanel(QFrame):
    """Asks for a proof, and edits what it is over."""

    WIDE_PX, NARROW_PX = 268, 236

    def __init__(self, desk: Desk, work: ProofWork) -> None:
        super().__init__()
        self._desk, self._work, self._theme = desk, work, look.LIGHT
        self.unit: TemperatureUnit = desk.view.unit
        self.setFixedWidth(self.WIDE_PX)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        column.addWidget(label("What is proved", "heading"))
        self.about = label("", "quiet")
        self.about.setWordWrap(True)
        column.addWidget(self.about)
        self.faults, self.tolerances = QCheckBox("Single faults"), QCheckBox("Tolerances, in draws of")
        self.runs = QLineEdit()
        self.runs.setAccessibleName("Draws of each trial")
        self.runs.setFixedWidth(ENTRY_PX)
        self.runs.setAlignment(Qt.AlignmentFlag.AlignRight)
        line = QHBoxLayout()
        line.addWidget(self.tolerances)
        line.addWidget(self.runs)
        line.addStretch(1)
        column.addWidget(self.faults)
        column.addLayout(line)
        self.button = QPushButton("Prove")
        self.button.setProperty("role", "main")
        self.bar = QProgressBar()
        self.bar.setRange(0, 1000)
        self.bar.setTextVisible(False)
        self.said = label("")
        self.said.setWordWrap(True)
        for widget in (self.button, self.bar, self.said):
            column.addWidget(widget)
        head = QHBoxLayout()
        head.addWidget(label("Tolerances", "heading"), 1)
        trouble = label("correlation", "quiet")
        trouble.setToolTip("Spearman's rank correlation with the limit it goes with most, in the chosen trial.")
        trouble.setFixedWidth(BAR_PX + 20)
        head.addWidget(trouble)
        column.addLayout(head)
        scroll, self._list = scrolling(2, 0)
        column.addWidget(scroll, 1)
        self.lines: list[ToleranceLine] = []
        self._shown: Any = None
        for box in (self.faults, self.tolerances):
            box.clicked.connect(self._chosen)
        self.runs.editingFinished.connect(self._runs_entered)
        self.button.clicked.connect(self._begin_or_stop)

    def tab_order(self) -> list[QWidget]:
        """What the Tab key reaches, in its order."""
        return [self.faults, self.tolerances, self.runs, self.button, *(line.entry for line in self.lines)]

    def set_theme(self, theme: look.Theme) -> None:
        """Take a theme's colours."""
        self._theme = theme
        self.show_work()

    def show_work(self) -> None:
        """Show what is asked for, what is on, and what matters most."""
        work, design, self.unit = self._work, self._desk.document.design, self._desk.view.unit
        proof = design.proof
        self.faults.setChecked(work.faults)
        self.tolerances.setChecked(work.tolerances)
        if not self.runs.isModified():
            self.runs.setText(str(proof.runs))
        who = "" if self._desk.runs.controller == "python" else f" Decided by {self._desk.runs.controller}."
        trials = len(design.trial)
        self.about.setText(
            f"Every trial of the design ({trials}), with each fault alone, and with parts that are off.{who}"
        )
        seen = work.seen
        fresh = seen is not None and work.is_of_design
        done = fresh and not work.is_busy
        self.button.setText("Stop" if work.is_busy else "Prove again" if seen is not None and not fresh else "Prove")
        if done and seen is not None:
            wanted = seen.progress.plan.count(proof.runs, work.faults, work.tolerances)
            lacks = wanted > len(seen.progress.outcomes)
            self.button.setText("Go on" if lacks else "Proved")
        self.button.setEnabled(self.button.text() != "Proved")
        self.bar.setVisible(work.is_busy)
        self.bar.setValue(round(1000.0 * work.share))
        text = work.trouble or work.note
        if not text and seen is not None:
            outcomes = seen.progress.outcomes.values()
            passed = sum(one.passes for one in outcomes)
            judged = sum(one.is_judged for one in outcomes)
            text = f"{passed} of {judged} runs pass."
            if judged < len(outcomes):
                text += f" In {len(outcomes) - judged} nothing is judged: no limit is set."
            if not fresh:
                text += " Of the design as it was before the last change."
        self.said.setText(text)
        self.said.setVisible(bool(text))
        self._show_tolerances()

    def _show_tolerances(self) -> None:
        design = self._desk.document.design
        found = tolerances_of(design)
        every = found if found else ()
        if (every, self.unit) != self._shown:
            self._shown = (every, self.unit)
            emptied(self._list)
            self.lines = [ToleranceLine(self, one) for one in every]
            for line in self.lines:
                self._list.addWidget(line)
            self._list.addStretch(1)
        seen, trial = self._work.seen, self._desk.document.trial_number
        own = seen.weights[trial] if seen is not None and trial < len(seen.weights) else ()
        by_name = {one.name: one for one in own}
        for line in self.lines:
            line.show_weight(by_name.get(line.tolerance.name), self._theme)

    # ---- what is asked for

    def _chosen(self) -> None:
        self._work.faults, self._work.tolerances = self.faults.isChecked(), self.tolerances.isChecked()
        if not (self._work.faults or self._work.tolerances):
            self._work.faults = True
        self.show_work()

    def _begin_or_stop(self) -> None:
        if self._work.is_busy:
            self._work.stop()
        else:
            self._work.begin()

    def _runs_entered(self) -> None:
        if not self.runs.isModified():
            return
        self.runs.setModified(False)
        text = self.runs.text().strip()
        problem: Any = "takes a whole number from 1 to 1,000,000"
        if text.isdigit() and 1 <= int(text) <= 1_000_000:
            problem = self._desk.document.set_value("proof", "runs", int(text))
        set_role(self.runs, "wrong", "true" if problem else "false")
        if problem:
            self.complain(f"Draws: {problem}")

    def set_width(self, tolerance: Tolerance, within: float) -> str:
        """Let a tolerance be off by another width; what is wrong with that, else empty."""
        from pydantic import ValidationError

        document = self._desk.document
        proof = document.design.proof
        part, _, key = tolerance.name.partition(".")
        within = float(f"{within:.6g}")
        try:
            if part == "load":
                others = tuple(one for one in proof.load if one.key != key)
                now: Any = next((one.distribution for one in proof.load if one.key == key), "uniform")
                values: dict[str, Any] = {"load": (*others, LoadSpread(key=key, within=within, distribution=now))}
            else:
                name = KEYS.get(part, part)
                spread: Spread = getattr(proof, name)
                values = {name: Spread(within=within, distribution=spread.distribution)}
            changed = type(proof).model_validate({**{k: getattr(proof, k) for k in type(proof).model_fields}, **values})
            design = with_block(document.design, "proof", changed, document.trial_number)
        except ValidationError as error:
            return str(explain(error, ("proof",))[0]) if error.title != "Design" else str(explain(error)[0])
        document.end_merging()
        document.edit(design, f"tolerance of {tolerance.title.lower()}")
        return ""

    def complain(self, text: str) -> None:
        """Say what is wrong with what was typed."""
        self._desk.say("error", text)
