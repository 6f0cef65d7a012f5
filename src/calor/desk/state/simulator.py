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
from typing import Any, NamedTuple

from PyQt6.QtCore import QObject, pyqtSignal

from calor.design.model import Design
from calor.design.trial import Trial
from calor.errors import CalorError
from calor.units import TemperatureUnit

LONG_RUN_S = 0.4
NOT_MADE = "the run could not be made"
THUMBNAIL_POINTS = 300
ADVISE_AFTER_S = 0.25
MOST_ADVISED_STEPS = 2_000_000


@dataclass(frozen=True)
class Request:
    """What to work out. `purpose` is "run", "ghost", or "survey": of the probe, over `scope`.

    `recorded` is a log to replay the law on. `seat` says who decides: "python" is the built-in law.
    """

    number: int
    purpose: str
    design: Design
    trial: Trial
    unit: TemperatureUnit = "°C"
    recorded: Any = None
    scope: Any = None
    seat: str = "python"


@dataclass(frozen=True)
class Outcome:
    """What came of a request. The first one of a desk also prepares the loop, and says so."""

    request: Request
    trace: Any
    verdict: Any
    took_s: float
    replayed: Any = None
    comparison: dict[str, Any] = field(default_factory=dict)
    is_first: bool = False


class Thumbnail(NamedTuple):
    """A run as a start page shows it: some hundred points of what was measured and aimed at."""

    time_s: Any
    measured_celsius: Any
    setpoint_celsius: Any
    span_s: float


class Simulator(QObject):
    """One worker thread for runs, ghosts, replays, advice and the probe's curves."""

    finished = pyqtSignal(object)
    surveyed = pyqtSignal(object)
    advised = pyqtSignal(int, object)
    pictured = pyqtSignal(int, object)
    failed = pyqtSignal(str)
    told = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self._wanted: dict[str, Request] = {}
        self._to_picture: list[tuple[int, Path]] = []
        self._wake = threading.Condition()
        self._ending = False
        self._control: Any = None
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
            self._say(self.failed, f"the loop could not be prepared: {type(error).__name__}: {error}")
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
                if purpose != "survey":
                    self._control = loop.new_control()
                self.steps = loop.steps_of(request.design, request.trial)
                self._began_s = time.perf_counter()
            if purpose == "survey":
                self._survey(request)
                continue
            try:
                outcome = self._make(request)
            except loop.Stopped:
                outcome = None
            except Exception as error:  # the thread must outlive whatever a design does to it
                outcome = None
                said = str(error) if isinstance(error, CalorError) else f"{type(error).__name__}: {error}"
                self._say(self.failed, f"{NOT_MADE}: {said}")
            with self._wake:
                self._control = None
            if outcome is None or self._ending:
                continue
            self._say(self.finished, outcome)
            own = request.seat != "python" or request.design.law.kind == "code"
            if request.purpose == "run" and (outcome.trace.steps > MOST_ADVISED_STEPS or own):
                # advice would simulate a long run again several times; of who decides otherwise it knows nothing
                self._say(self.advised, request.number, [])
            elif request.purpose == "run" and self._rests():
                self._advise(outcome)
                self._warm_templates(request.design)

    def _picture(self, number: int, path: Path) -> None:
        """One thumbnail; a design that cannot be run has none."""
        from calor import loop
        from calor.design import file

        try:
            design = file.read(path).design
            trace = loop.run(design, design.trial[0])
        except CalorError as error:
            self._say(self.failed, f"no thumbnail of {path.name}: {error}")
            return
        stride = max(trace.steps // THUMBNAIL_POINTS, 1)
        columns = (trace.time_s, trace.measured_celsius, trace.setpoint_celsius)
        self._say(self.pictured, number, Thumbnail(*(column[::stride] for column in columns), trace.span_s))

    def _survey(self, request: Request) -> None:
        from calor.sense.survey import survey

        try:
            found = survey(request.design.probe, request.scope, request.unit)
        except Exception as error:  # whatever a probe provokes, the room says it in a line
            self._say(self.failed, f"the probe could not be worked out: {type(error).__name__}: {error}")
            return
        if not self._ending:
            self._say(self.surveyed, (request, found))

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
        with seated(request.design, request.seat) as seat:
            trace = loop.run(request.design, request.trial, self._control, seat)
        took_s = time.perf_counter() - began_s
        replayed, comparison = None, {}
        if request.recorded is not None:
            replayed = loop.replay(request.design, request.recorded)
            comparison = compare(request.design, request.recorded, replayed)
        verdict = judge(trace, request.design.limits)
        is_first, self._made_any = not self._made_any, True
        return Outcome(request, trace, verdict, took_s, replayed, comparison, is_first)

    def _advise(self, outcome: Outcome) -> None:
        from calor.judge.advice import advise

        request = outcome.request
        try:
            cards = advise(request.design, request.trial, outcome.trace, outcome.verdict, request.unit, self._pending)
        except Exception as error:  # advice is a second opinion: without it the run still stands
            self._say(self.failed, f"no advice on this run: {type(error).__name__}: {error}")
            return
        if not self._pending():
            self._say(self.advised, request.number, cards)
