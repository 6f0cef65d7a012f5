"""What the Tune room has found out and is at: tests, the table of rules, a search, off the GUI thread."""

from __future__ import annotations

import contextlib
import threading
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from calor.design.model import Design
from calor.design.trial import Trial
from calor.desk.state.desk import Desk
from calor.errors import CalorError
from calor.mistakes import in_words
from calor.tune import table
from calor.tune.choices import Choice, choices, has_gains
from calor.tune.gain_sets import SetFound, found_at
from calor.tune.known import Known, Method, Planned, fit_over_step, known_by, known_from_log, planned
from calor.tune.predictive import row_of
from calor.tune.search import MS_BOUND, Searched, Stopped, searched
from calor.tune.spread import Other, spread
from calor.tune.table import SEARCH, Candidate, Setting, tried
from calor.tune.verdict_map import VerdictMap, verdict_map

BY_HAND = "by_hand"


@dataclass(frozen=True)
class Found:
    """What was found for a design under a trial: what is known of the load, and a row for each rule."""

    design: Design
    trial: Trial
    known: Known
    rows: tuple[Candidate, ...]
    spreads: dict[str, list[Other]]
    """What the gains of a row do on loads that are off, by the row's name."""
    fit: tuple[Any, Any, Any] | None = None
    """Times (s), the load's answer to a small step and the model's, °C."""


class TuneWork(QObject):
    """One thing at a time: a look at the load with the table after it, or a search. What is on can be stopped."""

    changed = pyqtSignal()
    """Anything is another: what is on, how far it is, what was found."""
    _done = pyqtSignal(object, object)
    _went = pyqtSignal(object, float, object)
    _failed = pyqtSignal(object, str)

    def __init__(self, desk: Desk) -> None:
        super().__init__()
        self._desk = desk
        self.method: Method = "model"
        self.limit_celsius: float | None = None
        self.ms_bound = MS_BOUND
        self.found: Found | None = None
        self.search_found: Searched | None = None
        self.plan: Planned | None = None
        self.map: VerdictMap | None = None
        self.by_hand: Candidate | None = None
        self.sets: list[SetFound] = []
        self.choices: list[Choice] = []
        self.log: Path | None = None
        self.doing, self.share, self.trouble, self.plan_trouble = "", 0.0, "", ""
        self.best: Setting | None = None
        self.growing: Candidate | None = None
        """The best that a search that is on has found so far, run on the trial."""
        self._stop = threading.Event()
        self._thread: threading.Thread | None = None
        self._done.connect(self._take)
        self._went.connect(self._show)
        self._failed.connect(self._say_trouble)
        desk.document.opened.connect(self._forget)
        desk.document.changed.connect(self.changed)
        desk.document.trial_chosen.connect(self.changed)

    @property
    def is_busy(self) -> bool:
        """Whether something is on."""
        return bool(self.doing)

    @property
    def is_of_design(self) -> bool:
        """Whether what was found is of the design and trial as they are now."""
        document = self._desk.document
        return self.found is not None and self.found.design == document.design and self.found.trial == document.trial

    @property
    def may_search(self) -> bool:
        """Whether there are rows to begin from."""
        return self.found is not None and bool(self.found.rows)

    @property
    def rows(self) -> list[Candidate]:
        """All rows, the search's last."""
        rows = list(self.found.rows) if self.found is not None else []
        search = self.search_found.row if self.search_found is not None else self.growing
        rows += [search] if search is not None else []
        return rows + ([self.by_hand] if self.by_hand is not None else [])

    def _forget(self) -> None:
        self.stop()
        self.found, self.search_found, self.map, self.by_hand, self.sets = None, None, None, None, []
        self.choices = []
        self.trouble, self.plan, self.plan_trouble = "", None, ""
        self.changed.emit()

    def want(self, method: Method, limit_celsius: float | None) -> None:
        """Another test, or another limit of it; what it would take is said at once."""
        self.method, self.limit_celsius = method, limit_celsius
        self.look_ahead()

    def look_ahead(self) -> None:
        """Work out what the chosen test would take."""
        self.plan, self.plan_trouble = None, ""
        try:
            self.plan = planned(self._desk.document.design, self.method, self.limit_celsius)
        except CalorError as error:
            self.plan_trouble = str(error)
        self.changed.emit()

    # ---- the work

    def first_look(self) -> None:
        """Find what the law has to be found: its gains, or the width of its curve."""
        if self.is_busy:
            return
        if has_gains(self._desk.document.design):
            if self.found is None:
                self.find()
        elif self.found is None and not self.choices:
            self.run_choices()

    def find(self) -> None:
        """Look at the load by the chosen method, and run every rule on the trial."""
        document = self._desk.document
        self._begin("finding gains", self._find, document.design, document.trial, self.method, self.limit_celsius)

    def find_from(self, log: Path) -> None:
        """Take the model from a recorded run, and run every rule on the trial."""
        self.log = log
        self.find()

    def find_sets(self, places_celsius: list[float], rule: str) -> None:
        """Gains by a rule at several setpoints."""
        self.sets = []
        self._begin("finding gain sets", self._find_sets, self._desk.document.design, places_celsius, rule)

    def search(self) -> None:
        """Search for less error than the best row has."""
        if self.found is not None:
            self.search_found = self.growing = None
            self._begin("searching", self._search, self.found, self.ms_bound)

    def draw_map(self, row: Candidate) -> None:
        """Run the trial over gain and integral time about a row."""
        if self.found is not None:
            self.map = None
            self._begin("mapping", self._map, self.found, replace(row.setting, law=None))

    def pick(self, row: Candidate, gain_per_celsius: float, integral_time_s: float) -> None:
        """A row of one's own: another gain and integral time with a row's derivative."""
        if self.found is None:
            return
        gains = replace(row.setting.gains, gain_per_celsius=gain_per_celsius, integral_time_s=integral_time_s)
        found, setting = self.found, replace(row.setting, gains=gains, law=None)
        self.by_hand = tried(
            found.design, (found.trial,), found.known.process, BY_HAND, "By hand", "picked on the map", setting
        )
        self.changed.emit()

    def stop(self) -> None:
        """End what is on; of a search the best so far is kept."""
        self._stop.set()

    def close(self) -> None:
        """End what is on, and wait until it has."""
        self.stop()
        if self._thread is not None:
            self._thread.join(60.0)
            self._thread = None

    def _begin(self, doing: str, work: Any, *given: Any) -> None:
        self.close()
        self._stop = threading.Event()
        self.doing, self.share, self.trouble, self.best = doing, 0.0, "", None
        self._thread = threading.Thread(target=self._work, args=(self._stop, work, *given), name="tuning", daemon=True)
        self._thread.start()
        self.changed.emit()

    def _work(self, stop: threading.Event, work: Any, *given: Any) -> None:
        # at the very end the receiver may be gone
        with contextlib.suppress(RuntimeError):
            try:
                result = work(stop, *given)
            except Stopped:
                self._failed.emit(stop, "stopped")
            except CalorError as error:
                self._failed.emit(stop, str(error))
            except Exception as error:  # whatever it was, the room says it in a line
                self._failed.emit(stop, in_words(error))
            else:
                self._done.emit(stop, result)

    def _find(self, stop: threading.Event, design: Design, trial: Trial, method: Method, limit: float | None) -> Found:
        known = known_by(design, method, limit) if method != "record" else known_from_log(design, self._needed_log())
        self._went.emit(stop, 0.5, None)
        every = table.ruled(known.model, known.second, known.limit)
        done = 0

        def watch(row: Candidate) -> None:
            nonlocal done
            del row
            done += 1
            if stop.is_set():
                raise Stopped
            self._went.emit(stop, 0.5 + 0.2 * done / (len(every) + 1), None)

        rows = table.table(design, (trial,), known.process, every, watch)
        by_model = row_of(design, (trial,), known, self.ms_bound)
        rows += [] if by_model is None else [by_model]
        fit = None if known.model is None else fit_over_step(known.process, known.model)
        spreads = {}
        for at, row in enumerate(rows):
            if stop.is_set():
                raise Stopped
            spreads[row.name] = spread(design, trial, row.setting)
            self._went.emit(stop, 0.7 + 0.3 * (at + 1) / len(rows), None)
        return Found(design, trial, known, tuple(rows), spreads, fit)

    def _needed_log(self) -> Path:
        if self.log is None:
            raise CalorError("record", "none is opened", "", "open a recorded run")
        return self.log

    def _find_sets(self, stop: threading.Event, design: Design, places: list[float], rule: str) -> list[SetFound]:
        def watch(share: float) -> None:
            if stop.is_set():
                raise Stopped
            self._went.emit(stop, share, None)

        return found_at(design, places, rule, watch)

    def run_choices(self) -> None:
        """What there is to choose in a law without gains, each choice run on the trial."""
        document = self._desk.document
        self.choices = []
        self._begin("running choices", self._run_choices, document.design, document.trial)

    def _run_choices(self, stop: threading.Event, design: Design, trial: Trial) -> tuple[Choice, ...]:
        def watch(share: float) -> None:
            if stop.is_set():
                raise Stopped
            self._went.emit(stop, share, None)

        return tuple(choices(design, trial, watch))

    def _search(self, stop: threading.Event, found: Found, ms_bound: float) -> Searched:
        shown: Setting | None = None

        def watch(share: float, best: Setting) -> None:
            nonlocal shown
            if stop.is_set():
                raise Stopped
            row = None
            if best != shown and best.gains.gain_per_celsius > 0.0:
                shown = best
                title = f"least error with Ms ≤ {ms_bound:g}, so far"
                row = tried(found.design, (found.trial,), found.known.process, SEARCH, "Search", title, best)
            self._went.emit(stop, share, row)

        return searched(found.design, found.known.process, list(found.rows), ms_bound, watch=watch)

    def _map(self, stop: threading.Event, found: Found, middle: Setting) -> VerdictMap:
        def watch(share: float, so_far: VerdictMap) -> None:
            if stop.is_set():
                raise Stopped
            self._went.emit(stop, share, so_far)

        return verdict_map(found.design, found.trial, found.known.process, middle, watch=watch)

    # ---- what came of it, in the GUI thread

    def _take(self, stop: threading.Event, result: Any) -> None:
        if stop is not self._stop:
            return
        self.doing = ""
        if isinstance(result, Found):
            self.found, self.search_found, self.map, self.by_hand, self.sets = result, None, None, None, []
            self.growing = None
        elif isinstance(result, list):
            self.sets = result
        elif isinstance(result, tuple):
            self.choices = list(result)
        elif isinstance(result, VerdictMap):
            self.map = result
        else:
            self.search_found, self.growing = result, None
        self.changed.emit()

    def _show(self, stop: threading.Event, share: float, so_far: Candidate | VerdictMap | None) -> None:
        if stop is self._stop and self.doing:
            self.share = share
            if isinstance(so_far, VerdictMap):
                self.map = so_far
            elif so_far is not None:
                self.growing, self.best = so_far, so_far.setting
            self.changed.emit()

    def _say_trouble(self, stop: threading.Event, text: str) -> None:
        if stop is self._stop:
            self.doing, self.trouble = "", text
            self.changed.emit()
