"""The runs of the open design: the current one, the pinned, the tried one, a recorded one, and the advice on them."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple

from PyQt6.QtCore import QObject, pyqtSignal

from calor.compiled.library import COMPILING
from calor.design.model import Design, block_summary
from calor.desk.state.document import Document
from calor.desk.state.simulator import Failure, Outcome, Request, Simulator
from calor.desk.state.view import View
from calor.firmware.controller.names import BUILT_IN
from calor.judge.card import Advice
from calor.loop.trace import Trace


class Pinned(NamedTuple):
    """A run kept to compare with, and what it is called."""

    name: str
    outcome: Outcome


class Runs(QObject):
    """Has the chosen trial simulated whenever it changes; says by signals what has come of it."""

    changed = pyqtSignal()
    """The current run is another."""
    failed = pyqtSignal()
    """There is no current run, or it is being prepared: `trouble` or `preparing` says why."""
    pinned_changed = pyqtSignal()
    tried_changed = pyqtSignal()
    recorded_changed = pyqtSignal()
    advice_changed = pyqtSignal()

    def __init__(self, document: Document, view: View, simulator: Simulator) -> None:
        super().__init__()
        self._document, self._view, self._simulator = document, view, simulator
        self.current: Outcome | None = None
        self.pinned: Pinned | None = None
        self.tried: Outcome | None = None
        self.proposal: Design | None = None
        self.recorded: Trace | None = None
        self.recorded_from: Path | None = None
        self.advice: list[Advice] = []
        self.advised = False
        self.trouble, self.preparing = "", ""
        self.controller = BUILT_IN
        """What decides in the trial: the built-in law, "host", a chip, or the path of your own code."""
        self.requests = 0
        document.about_to_open.connect(self._forget)
        document.changed.connect(self._design_changed)
        document.trial_chosen.connect(self._trial_chosen)
        document.opened.connect(self._opened)
        view.unit_changed.connect(self._reword)
        simulator.finished.connect(self._finished)
        simulator.advised.connect(self._advised)
        simulator.failed.connect(self._failed)
        simulator.told.connect(self._told)

    def _forget(self) -> None:
        self.pinned, self.tried, self.proposal, self.recorded, self.recorded_from = None, None, None, None, None
        self.current, self.trouble = None, ""
        self.advice = []

    def _opened(self) -> None:
        self.pinned_changed.emit()
        self.recorded_changed.emit()

    def _design_changed(self) -> None:
        self.simulate()
        self.proposal = None
        if self.tried is not None:
            self.tried = None
            self.tried_changed.emit()

    def _trial_chosen(self) -> None:
        self.proposal = None
        self.simulate()

    # ---- the current run

    def simulate(self) -> None:
        """Ask for the current run."""
        self.requests += 1
        document = self._document
        self._simulator.request(Request(
            self.requests, "run", document.design, document.trial, self._view.unit, self.recorded,
            controller=self.controller,
        ))  # fmt: skip

    def choose_controller(self, name: str) -> None:
        """Put another controller under test in the trial."""
        if name != self.controller:
            self.controller = name
            self.simulate()

    def take_law(self, path: Path) -> None:
        """Make a file of the user's own the design's law, and put the design's law under test again."""
        self.controller = BUILT_IN
        self._document.take_law(path)

    def _finished(self, outcome: Outcome) -> None:
        if outcome.request.purpose == "tried":
            if outcome.request.design is self.proposal:
                self.tried = outcome
                self.tried_changed.emit()
            return
        # one that is behind the hand is shown all the same: while a value is dragged it beats none
        if self.current is not None and outcome.request.number < self.current.request.number:
            return
        self.current, self.advised, self.trouble = outcome, False, ""
        self.changed.emit()

    def _failed(self, failure: Failure) -> None:
        if failure.about == "run":
            self.trouble = failure.text
            self.failed.emit()

    def _told(self, text: str) -> None:
        if text == COMPILING:
            self.preparing = f"{text[0].upper()}{text[1:]}."
            self.failed.emit()

    # ---- advice

    def _advised(self, number: int, cards: list[Advice]) -> None:
        if number == self.requests:
            self.advice, self.advised = cards, True
            self.advice_changed.emit()

    def _reword(self) -> None:
        """The run stays as it is in another unit; only what advice says of it is worded again."""
        if self.current is not None and self.current.request.number == self.requests:
            self._simulator.advise(self.current, self._view.unit)

    # ---- pinned, tried, recorded

    def pin(self) -> None:
        """Keep the current run underneath, to compare with."""
        if self.current is not None:
            design = self.current.request.design
            first, second = block_summary(design, "law", self._view.unit)
            name = first if design.law.kind != "pid" else f"PID {second.split(' ·')[0]}"
            self.pinned = Pinned(name, self.current)
            self.pinned_changed.emit()

    def unpin(self) -> None:
        """Take the pinned run away."""
        self.pinned = None
        self.pinned_changed.emit()

    def toggle_pin(self) -> None:
        """Pin the current run, or unpin what is pinned."""
        if self.pinned is None:
            self.pin()
        else:
            self.unpin()

    def try_out(self, design: Design) -> None:
        """Simulate a proposed design beside the current one; nothing is changed yet."""
        self.proposal = design
        self.requests += 1
        number = min(self._document.trial_number, len(design.trial) - 1)
        self._simulator.request(Request(self.requests, "tried", design, design.trial[number], self._view.unit))

    def keep_tried(self) -> None:
        """Take the proposed design over."""
        if self.proposal is not None:
            design = self.proposal
            self._document.end_merging()
            self._document.edit(design, "take the advice")

    def drop_tried(self) -> None:
        """Forget the proposed design."""
        self.proposal, self.tried = None, None
        self.tried_changed.emit()

    def set_recorded(self, recorded: Trace | None, path: Path | None = None) -> None:
        """Overlay a recorded run, read from `path`, and replay the law on it; None removes it."""
        self.recorded, self.recorded_from = recorded, None if recorded is None else path
        self.recorded_changed.emit()
        self.simulate()
