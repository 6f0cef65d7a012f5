"""Runs made off the GUI thread: the newest request wins, stale results are dropped.

A request that comes while a run is on waits in the one place there is; a newer one takes that place, so that
nothing queues up while a value is dragged. A run that has taken long is ended early when a newer one waits.
"""

from __future__ import annotations

import contextlib
import threading
import time
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, NamedTuple

from PyQt6.QtCore import QObject, pyqtSignal

from calor.design.model import Design
from calor.design.trial import Trial
from calor.errors import CalorError, ConsentError
from calor.firmware.controller.names import BUILT_IN
from calor.mistakes import in_words
from calor.units import TemperatureUnit

if TYPE_CHECKING:
    import numpy as np
    import numpy.typing as npt

    from calor.compiled import Column
    from calor.judge.verdict import Verdict
    from calor.loop.trace import Trace
    from calor.sense.survey import Scope

LONG_RUN_S = 0.4
THUMBNAIL_POINTS = 300
ADVISE_AFTER_S = 0.25
MOST_ADVISED_STEPS = 2_000_000


Purpose = Literal["run", "tried", "survey", "advice"]


@dataclass(frozen=True)
class Request:
    """What to work out: the current run, a proposed one, the probe's curves over `scope`, or advice on `outcome`.

    `recorded` is a log to replay the law on. `controller` says what decides: the built-in law, or code.
    """

    number: int
    purpose: Purpose
    design: Design
    trial: Trial
    unit: TemperatureUnit = "°C"
    recorded: Trace | None = None
    scope: Scope | None = None
    controller: str = BUILT_IN
    outcome: Outcome | None = None


@dataclass(frozen=True)
class Outcome:
    """What came of a request. The first one of a desk also prepares the loop, and says so."""

    request: Request
    trace: Trace
    verdict: Verdict
    took_s: float
    replayed: Trace | None = None
    comparison: dict[str, Any] = field(default_factory=dict)
    is_first: bool = False


class Failure(NamedTuple):
    """What could not be made, in a line; `asks_consent` where the design names code that was not allowed yet."""

    about: Literal["run", "survey", "advice", "thumbnail", "loop"]
    text: str
    asks_consent: bool = False


class Thumbnail(NamedTuple):
    """A run as a start page shows it: some hundred points of what was measured and aimed at."""

    time_s: Column
    measured_celsius: Column
    setpoint_celsius: Column
    span_s: float


class Simulator(QObject):
    """One worker thread for runs, ghosts, replays, advice and the probe's curves."""

    finished = pyqtSignal(object)
    surveyed = pyqtSignal(object)
    advised = pyqtSignal(int, object)
    pictured = pyqtSignal(int, object)
    failed = pyqtSignal(object)
    """A Failure."""
    told = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self._wanted: dict[str, Request] = {}
        self._to_picture: list[tuple[int, Path]] = []
        self._wake = threading.Condition()
        self._ending = False
        self._control: npt.NDArray[np.int64] | None = None
        self._began_s = 0.0
        self.steps = 0
        self._made_any = self._templates_read = False
        self._thread = threading.Thread(target=self._work, name="simulator", daemon=True)
        self._thread.start()

    def request(self, request: Request) -> None:
        """Ask for a run; an older one of the same purpose that has not begun is forgotten."""
        with self._wake:
            self._wanted[request.purpose] = request
            if self._control is not None and time.perf_counter() - self._began_s > LONG_RUN_S:
                self._control[0] = 1
            self._wake.notify()

    def advise(self, outcome: Outcome, unit: TemperatureUnit) -> None:
        """Ask for advice on a run that was made, in the words of a unit."""
        request = outcome.request
        self.request(Request(request.number, "advice", request.design, request.trial, unit, outcome=outcome))

    def picture(self, designs: list[tuple[int, Path]]) -> None:
        """Ask for thumbnails of the designs in files, one after the other, after all that is wanted more."""
        with self._wake:
            self._to_picture = list(designs)
            self._wake.notify()

    def stop(self) -> None:
        """End the run that is on, and forget what waits."""
        with self._wake:
            self._wanted.clear()
            if self._control is not None:
                self._control[0] = 1

    def progress(self) -> tuple[float, float] | None:
        """(seconds since it began, share done) of the run that is on."""
        control = self._control
        if control is None:
            return None
        return time.perf_counter() - self._began_s, float(control[1]) / max(self.steps, 1)

    def close(self) -> None:
        """End the thread."""
        with self._wake:
            self._ending = True
            self._wanted.clear()
            self._to_picture.clear()
            if self._control is not None:
                self._control[0] = 1
            self._wake.notify()
        self._thread.join(20.0)

    def _pending(self) -> bool:
        return bool(self._wanted) or self._ending

    def _warm_templates(self, design: Design) -> None:
        """Read the templates of the C once, beside the window, so that its room opens at once."""
        from calor.firmware.sources.generate import generate

        if not self._templates_read and not self._pending():
            self._templates_read = True
            # of a design that has no C its room says why; here nothing may end the thread
            with contextlib.suppress(Exception):
                generate(design)

    def _rests(self) -> bool:
        """Whether no new request comes for a moment: advice costs several runs, and waits for the hand to rest."""
        with self._wake:
            return not self._wake.wait_for(self._pending, ADVISE_AFTER_S)

    def _work(self) -> None:
        from calor import loop
        from calor.compiled import listen, prepare

        # the loop is found or compiled here, beside the window
        listen(lambda line: self._say(self.told, line))
        try:
            prepare()
        except Exception as error:  # each run will try again and say so; the thread must outlive it
            self._fail("loop", f"the loop could not be prepared: {in_words(error)}")
        while True:
            with self._wake:
                while not self._pending() and not self._to_picture:
                    self._wake.wait()
                if self._ending:
                    return
                next_picture = self._to_picture.pop(0) if not self._wanted else None
            if next_picture is not None:
                self._picture(*next_picture)
                continue
            with self._wake:
                if not self._wanted:
                    continue
                purpose = "run" if "run" in self._wanted else next(iter(self._wanted))
                request = self._wanted.pop(purpose)
                if purpose in ("run", "tried"):
                    self._control = loop.new_control()
                self.steps = loop.steps_of(request.design, request.trial)
                self._began_s = time.perf_counter()
            if purpose == "survey":
                self._survey(request)
                continue
            if request.outcome is not None:
                self._advise(request.outcome, request.unit)
                continue
            try:
                outcome = self._make(request)
            except loop.Stopped:
                outcome = None
            except Exception as error:  # the thread must outlive whatever a design does to it
                outcome = None
                self._fail("run", f"the run could not be made: {in_words(error)}", isinstance(error, ConsentError))
            with self._wake:
                self._control = None
            if outcome is None or self._ending:
                continue
            self._say(self.finished, outcome)
            if request.purpose == "run" and self._rests():
                self._advise(outcome, request.unit)
                self._warm_templates(request.design)

    def _picture(self, number: int, path: Path) -> None:
        """One thumbnail; a design that cannot be run has none."""
        from calor import loop
        from calor.design import file

        try:
            design = file.read(path).design
            trace = loop.run(design, design.trial[0])
        except CalorError as error:
            self._fail("thumbnail", f"no thumbnail of {path.name}: {error}")
            return
        stride = max(trace.steps // THUMBNAIL_POINTS, 1)
        time_s, measured, setpoint = (column[::stride] for column in (
            trace.time_s, trace.measured_celsius, trace.setpoint_celsius,
        ))  # fmt: skip
        self._say(self.pictured, number, Thumbnail(time_s, measured, setpoint, trace.span_s))

    def _survey(self, request: Request) -> None:
        from calor.sense.survey import survey

        assert request.scope is not None

        try:
            surveyed = survey(request.design.probe, request.scope, request.unit)
        except Exception as error:  # whatever a probe provokes, the room says it in a line
            self._fail("survey", f"the probe could not be worked out: {in_words(error)}")
            return
        if not self._ending:
            self._say(self.surveyed, (request, surveyed))

    def _fail(self, about: Any, text: str, asks_consent: bool = False) -> None:
        self._say(self.failed, Failure(about, text, asks_consent))

    def _say(self, signal: Any, *values: Any) -> None:
        # at the very end Qt may already have taken the receiver away
        with contextlib.suppress(RuntimeError):
            signal.emit(*values)

    def _make(self, request: Request) -> Outcome:
        from calor import loop
        from calor.firmware.controller.seat import seated
        from calor.judge.verdict import judge
        from calor.log.compare import compare

        began_s = time.perf_counter()
        with seated(request.design, request.controller, control=self._control) as seat:
            trace = loop.run(request.design, request.trial, self._control, seat)
        took_s = time.perf_counter() - began_s
        replayed, comparison = None, {}
        if request.recorded is not None:
            try:
                replayed = loop.replay(request.design, request.recorded)
                comparison = compare(request.design, request.recorded, replayed)
            except CalorError as error:  # the run itself stands without it
                self._say(self.told, str(error))
        verdict = judge(trace, request.design.limits)
        is_first, self._made_any = not self._made_any, True
        return Outcome(request, trace, verdict, took_s, replayed, comparison, is_first)

    def _advise(self, outcome: Outcome, unit: TemperatureUnit) -> None:
        from calor.judge.advice import advise

        request = outcome.request
        if not advisable(outcome):
            self._say(self.advised, request.number, [])
            return
        try:
            cards = advise(request.design, request.trial, outcome.trace, outcome.verdict, unit, self._pending)
        except Exception as error:  # advice is a second opinion: without it the run still stands
            self._fail("advice", f"no advice on this run: {in_words(error)}")
            return
        if not self._pending():
            self._say(self.advised, request.number, cards)


def advisable(outcome: Outcome) -> bool:
    """Whether there is advice on such a run: it is simulated several times for it, and by the built-in law."""
    return outcome.trace.steps <= MOST_ADVISED_STEPS and not decided_by_code(outcome)


def decided_by_code(outcome: Outcome) -> bool:
    """Whether generated or your own code decided in a run."""
    return outcome.request.controller != BUILT_IN or outcome.request.design.law.kind == "code"
