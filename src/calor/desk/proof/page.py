"""The Proof room's page: what is proved on the left, the matrix over the chosen run, what is known of it right."""

from __future__ import annotations

from typing import Any

import numpy as np
from pydantic import ValidationError
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout, QWidget

from calor.design.edit import parts
from calor.design.model import Design
from calor.desk.proof.matrix import Matrix
from calor.desk.proof.side import Side
from calor.desk.proof.tolerances_panel import TolerancesPanel
from calor.desk.proof.work import ProofWork
from calor.desk.room import Page
from calor.desk.state.desk import Desk
from calor.desk.state.runs import Pinned
from calor.desk.state.simulator import Outcome, Request
from calor.desk.strip.overlay import Overlaid, OverlayStrip
from calor.desk.widgets import theme as look
from calor.desk.widgets.fields import label
from calor.judge.verdict import judge
from calor.proof.plan import FAULT
from calor.proof.running import ready
from calor.proof.summary import Cell, MatrixRow

EMPTY = "Press Prove: every trial is run with each single fault, and with parts that are off.\nCells come as runs end."
CHOOSE = "Choose a cell of the matrix: its run is shown here, over the band of all runs with tolerances drawn."
NARROW_PX = 1100


class ProofPage(Page):
    """Asks for a proof, shows it as it grows, and opens single runs of it."""

    def __init__(self, desk: Desk, work: ProofWork) -> None:
        super().__init__()
        self.setObjectName("centre")
        self._desk, self._work = desk, work
        self._row: MatrixRow | None = None
        self._cell: Cell | None = None
        self.panel, self.matrix, self.side = TolerancesPanel(desk, work), Matrix(), Side()
        self.strip = OverlayStrip(CHOOSE)
        self.empty = label(EMPTY, "quiet")
        self.empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        across = QHBoxLayout(self)
        across.setContentsMargins(14, 10, 14, 8)
        across.setSpacing(12)
        across.addWidget(self.panel)
        middle = QVBoxLayout()
        middle.setSpacing(6)
        head = QHBoxLayout()
        head.addWidget(label("Matrix: margin to each limit, %", "heading"))
        self.key = label("grey: ordinary limits beside a fault, for information", "quiet")
        head.addStretch(1)
        head.addWidget(self.key)
        middle.addLayout(head)
        middle.addWidget(self.empty, 1)
        middle.addWidget(self.matrix, 5)
        middle.addWidget(self.strip, 6)
        across.addLayout(middle, 1)
        across.addWidget(self.side)
        self.matrix.chosen.connect(self._choose)
        self.side.pin_asked.connect(self._pin)
        self.side.trial_asked.connect(self._add_trial)
        work.changed.connect(self.show_work)
        work.run_opened.connect(self._show_run)
        desk.document.trial_chosen.connect(self.show_work)
        desk.view.unit_changed.connect(self.show_work)
        self._shown: Any = None

    def tab_order(self) -> list[QWidget]:
        return [*self.panel.tab_order(), self.matrix, self.strip, self.side.pin_button, self.side.trial_button]

    def focus(self) -> None:
        self.matrix.setFocus() if self._work.seen is not None else self.panel.button.setFocus()

    def set_theme(self, theme: look.Theme) -> None:
        self.panel.set_theme(theme)
        self.matrix.set_theme(theme)
        self.strip.set_theme(theme)

    def resizeEvent(self, event: Any) -> None:
        super().resizeEvent(event)
        is_narrow = self.width() < NARROW_PX
        self.panel.setFixedWidth(self.panel.NARROW_PX if is_narrow else self.panel.WIDE_PX)
        self.side.setFixedWidth(self.side.NARROW_PX if is_narrow else self.side.WIDE_PX)
        self.matrix.set_narrow(is_narrow)
        self.key.setVisible(not is_narrow and self._work.seen is not None)

    def showEvent(self, event: Any) -> None:
        super().showEvent(event)
        self.show_work()

    def show_work(self) -> None:
        """Show what is on, and what came of it so far."""
        if not self.isVisible():
            return
        seen, unit = self._work.seen, self._desk.view.unit
        self.panel.show_work()
        self.empty.setVisible(seen is None)
        self.strip.setVisible(seen is not None)
        self.matrix.setVisible(seen is not None)
        self.key.setVisible(seen is not None and self.width() >= NARROW_PX)
        if seen is None:
            self._row = self._cell = None
            self._shown = None
            self.strip.show_runs([], unit)
            self.side.show_choice(None, None, None, unit, "")
            return
        if self._shown != (id(seen), unit):
            self._shown = (id(seen), unit)
            names = [trial.name for trial in seen.progress.plan.design.trial]
            self.matrix.show_rows(seen.rows, names, unit)
        self._show_choice()
        self._draw()
        if self._row is None and not self._work.is_busy:
            # the worst of all draws says most
            self.matrix.choose_drawn(self._desk.document.trial_number)

    def _choose(self, row: MatrixRow, cell: Cell | None) -> None:
        self._row, self._cell = row, cell
        self._show_choice()
        self._work.open_run(cell.number if cell is not None else row.number)

    def _show_choice(self) -> None:
        path = self._desk.document.path
        self.side.show_choice(
            self._work.seen, self._row, self._cell, self._desk.view.unit, "" if path is None else path.name
        )

    def _show_run(self) -> None:
        self._draw()

    def _draw(self) -> None:
        seen, run, unit = self._work.seen, self._work.run, self._desk.view.unit
        if seen is None:
            return
        trial = min(self._desk.document.trial_number, len(seen.progress.bands) - 1)
        trial = run.case.trial if run is not None else self._row.trial if self._row is not None else trial
        band = seen.progress.bands[trial] if seen.progress.bands[trial].runs else None
        runs = []
        if run is not None and run.made.trace is not None:
            trace = run.made.trace
            runs.append(Overlaid(f"run {run.case.number}: {run.case.title}", trace, "measured"))
            apart = np.abs(trace.true_celsius - trace.measured_celsius)
            # where the probe does not tell it
            hides = not np.isfinite(apart).all() or float(apart.max()) > 4.0 * run.design.limits.band_celsius
            if run.case.kind == FAULT and hides:
                runs.append(Overlaid("the load itself", trace, "heat", is_dashed=True, of_load=True))
        words = f"band of {band.runs} draws" if band is not None else ""
        self.strip.show_runs(runs, unit, band, words)

    # ---- on to the Loop room

    def _pin(self) -> None:
        """Lay the chosen run under the design's own in the Loop room."""
        run, desk = self._work.run, self._desk
        if run is None or run.made.trace is None or self._work.seen is None:
            desk.say("note", "This run came to no end that could be shown.")
            return
        what = ready(self._work.seen.progress.plan, run.case)
        verdict = judge(run.made.trace, run.design.limits)
        request = Request(0, "run", what.design, what.trial, desk.view.unit)
        if run.case.trial < len(desk.document.design.trial):
            desk.document.choose_trial(run.case.trial)
        desk.runs.pinned = Pinned(f"proof run {run.case.number}", Outcome(request, run.made.trace, verdict, 0.0))
        desk.runs.pinned_changed.emit()
        desk.view.choose_room("loop")

    def _add_trial(self) -> None:
        """Make the chosen fault a trial of the design."""
        run, desk = self._work.run, self._desk
        if run is None or run.case.kind != FAULT or self._work.seen is None:
            return
        what = ready(self._work.seen.progress.plan, run.case._replace(at_s=run.made.outcome.at_s))
        names = {trial.name for trial in desk.document.design.trial}
        base = f"{run.case.title}: {what.trial.name}"[:76]
        name = base if base not in names else next(n for k in range(2, 1000) if (n := f"{base} {k}") not in names)
        trial = what.trial.model_copy(update={"name": name})
        try:
            design = Design.model_validate(
                {**parts(desk.document.design), "trial": (*desk.document.design.trial, trial)}
            )
        except ValidationError:
            desk.say("error", "The design has changed since, and this trial does not go with it; prove it again.")
            return
        desk.document.end_merging()
        desk.document.edit(design, f"add trial {name}", trial=len(design.trial) - 1)
        desk.view.choose_room("loop")
