"""What the Proof room is at and has: runs made off the GUI thread, shown as they end, kept beside the design."""

from __future__ import annotations

import contextlib
import threading
import time
from copy import deepcopy
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from calor.design.model import Design
from calor.desk.state.desk import Desk
from calor.errors import CalorError
from calor.firmware.controller.seat import seats
from calor.loop.simulate import Stopped
from calor.mistakes import in_words
from calor.proof import kept
from calor.proof.fault_table import Row, fault_table
from calor.proof.outcome import Outcome
from calor.proof.plan import Case, Plan
from calor.proof.running import Made, made
from calor.proof.statistics import Share
from calor.proof.summary import MatrixRow, Weight, matrix, not_used, passed_of, weights
from calor.proof.work import Progress, Work

SHOW_EVERY_S, WEIGH_EVERY_S = 0.15, 1.5


@dataclass(frozen=True)
class Seen:
    """A proof as far as it is, worked out for showing: matrix, fault table, and by trial what came of the draws."""

    progress: Progress
    controller: str
    rows: tuple[MatrixRow, ...]
    faults: dict[str, Row]
    shares: tuple[Share, ...]
    weights: tuple[tuple[Weight, ...], ...]
    not_used: dict[str, list[str]]
    """By trial what is said of the safe limits that it breaks as designed."""


@dataclass(frozen=True)
class OpenedRun:
    """A run of the proof made again to be looked at."""

    case: Case
    made: Made
    design: Design


class ProofWork(QObject):
    """One proof at a time. What has ended is kept when it is stopped, and gone on with."""

    changed = pyqtSignal()
    """What is on, how far it is, or what came of it."""
    run_opened = pyqtSignal()
    """The run that was asked for is there."""
    _went = pyqtSignal(object, object, float)
    _ended = pyqtSignal(object, str)
    _opened = pyqtSignal(object, str)

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self.seen: Seen | None = None
        self.run: OpenedRun | None = None
        self.faults, self.tolerances = True, True
        self.doing, self.share, self.trouble, self.note = "", 0.0, "", ""
        self._work: Work | None = None
        self._thread: threading.Thread | None = None
        self._asked = 0
        self._went.connect(self._show)
        self._ended.connect(self._end)
        self._opened.connect(self._show_run)
        desk.document.about_to_open.connect(self._forget)
        desk.document.opened.connect(self.look_beside)
        desk.document.changed.connect(self.changed)
        self.look_beside()

    @property
    def is_busy(self) -> bool:
        """Whether runs are being made."""
        return bool(self.doing)

    @property
    def is_of_design(self) -> bool:
        """Whether what is shown is of the design and controller as they are now."""
        seen = self.seen
        return (
            seen is not None
            and seen.progress.plan.design == self._desk.document.design
            and seen.controller == self._desk.runs.controller
        )

    def _forget(self) -> None:
        self.close()
        self.seen, self.run, self.trouble, self.note, self.doing = None, None, "", "", ""
        self.changed.emit()

    def look_beside(self) -> None:
        """Show what is kept beside the open design, where it is of this design and program."""
        document = self._desk.document
        if self.is_busy:
            return
        found = kept.read(kept.place_of(document.path, document.design.name))
        if found is None:
            return
        if found.key != kept.sum_of(document.design, self._desk.runs.controller):
            if document.path is None:  # of whatever had this name before
                return
            self.note = "The result kept beside this design is of another design, controller or program."
        else:
            progress = Progress(Plan(document.design, found.seed))
            with contextlib.suppress(ValueError):
                found.into(progress)
                self.seen = seen_of(progress, self._desk.runs.controller, (), weigh=True)
        self.changed.emit()

    # ---- making runs

    def begin(self) -> None:
        """Prove the design as it is now; what is known of it already is gone on with."""
        self.close()
        document = self._desk.document
        progress = Progress(Plan(document.design))
        if self.seen is not None and self.is_of_design and self.seen.progress.plan.seed == progress.plan.seed:
            progress = copied(self.seen.progress)
        place = kept.place_of(document.path, document.design.name)
        self.doing, self.share, self.trouble, self.note = "proving", 0.0, "", ""
        self._work = Work()
        wanted = (document.design.proof.runs, self.faults or not self.tolerances, self.tolerances or not self.faults)
        self._thread = threading.Thread(
            target=self._make, args=(self._work, progress, self._desk.runs.controller, wanted, place),
            name="proving", daemon=True,
        )  # fmt: skip
        self._thread.start()
        self.changed.emit()

    def stop(self) -> None:
        """End what is on; what has ended is kept."""
        if self._work is not None:
            self._work.stop()

    def close(self) -> None:
        """End what is on, and wait until it has."""
        self.stop()
        if self._thread is not None:
            self._thread.join(60.0)
            self._thread = None

    def _make(
        self, work: Work, progress: Progress, controller: str, wanted: tuple[int, bool, bool], place: Path
    ) -> None:
        said, total = "", max(progress.plan.count(*wanted), 1)
        shown_at = weighed_at = time.monotonic()
        seen, every_s = seen_of(progress, controller, ()), SHOW_EVERY_S

        def told(case: Case, outcome: Outcome) -> None:
            nonlocal shown_at, weighed_at, seen, every_s
            del case, outcome
            now = time.monotonic()
            if now - shown_at > every_s:
                weigh = now - weighed_at > WEIGH_EVERY_S
                seen = seen_of(copied(progress), controller, seen.weights, weigh)
                self._went.emit(work, seen, len(progress.outcomes) / total)
                shown_at = time.monotonic()
                # what takes longer to work out is shown more seldom
                every_s = max(SHOW_EVERY_S, 8.0 * (shown_at - now))
                weighed_at = shown_at if weigh else weighed_at

        # at the very end the receiver may be gone
        with contextlib.suppress(RuntimeError):
            try:
                with seats(progress.plan.design, controller) as fresh:
                    work.run(progress, progress.plan.chosen(*wanted), fresh, told)
            except Stopped:
                said = "Stopped. What has ended is kept; the button goes on with it."
            except CalorError as error:
                said = str(error)
            except Exception as error:  # whatever it was, the room says it in a line
                said = f"{in_words(error)}."
            if progress.outcomes:
                self._went.emit(work, seen_of(copied(progress), controller, seen.weights, weigh=True), 1.0)
                why = kept.keep(progress, kept.sum_of(progress.plan.design, controller), place)
                said = f"{place.name}: {why}." if why else said
            self._ended.emit(work, said)

    def _show(self, work: Work, seen: Seen, share: float) -> None:
        if work is self._work:
            self.seen, self.share = seen, min(share, 1.0)
            self.changed.emit()

    def _end(self, work: Work, said: str) -> None:
        if work is self._work:
            self.doing, self.trouble = "", said
            self.changed.emit()

    # ---- a run looked at

    def open_run(self, number: int) -> None:
        """Make one run of the proof again, to be looked at; `run_opened` when it is there."""
        if self.seen is None:
            return
        self._asked += 1
        plan = Plan(self.seen.progress.plan.design, self.seen.progress.plan.seed)
        threading.Thread(
            target=self._open, args=(self._asked, plan, number, self.seen.controller), name="proof run", daemon=True
        ).start()

    def _open(self, asked: int, plan: Plan, number: int, controller: str) -> None:
        with contextlib.suppress(RuntimeError):
            try:
                case = plan.case(number)
                with seats(plan.design, controller) as fresh:
                    one = made(plan, case, fresh)
            except CalorError as error:
                self._opened.emit((asked, None), str(error))
            else:
                self._opened.emit((asked, OpenedRun(case, one, plan.design)), "")

    def _show_run(self, answer: tuple[int, Any], said: str) -> None:
        asked, run = answer
        if asked == self._asked:
            self.run = run
            if said:
                self._desk.say("error", said)
            self.run_opened.emit()


def copied(progress: Progress) -> Progress:
    """A proof as it is now, that goes on no further."""
    other = Progress(progress.plan, dict(progress.outcomes))
    other.bands = deepcopy(progress.bands)
    return other


def seen_of(
    progress: Progress, controller: str, weighed: tuple[tuple[Weight, ...], ...], weigh: bool = False
) -> Seen:  # fmt: skip
    """A proof worked out for showing; what matters most is as it was before, unless it is to be weighed again."""
    trials = range(len(progress.plan.design.trial))
    if weigh:
        weighed = tuple(tuple(weights(progress, trial)) for trial in trials)
    unused: dict[str, list[str]] = {}
    for one in not_used(progress):
        unused.setdefault(one["trial"], []).append(one["text"])
    return Seen(
        progress, controller, tuple(matrix(progress)), {row.fault.name: row for row in fault_table(progress)},
        tuple(passed_of(progress, trial) for trial in trials), weighed or tuple(() for _ in trials),
        unused,
    )  # fmt: skip
