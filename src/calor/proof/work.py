"""The runs of a proof on all cores: in the order of their numbers, told as they end, stopped and gone on with.

Also the band that all drawn runs of a trial lie in, over a grid of times: it needs no more room for more runs.
"""

from __future__ import annotations

import os
import threading
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from calor.compiled import Column
from calor.loop.simulate import Stopped, new_control
from calor.loop.trace import Trace
from calor.proof.outcome import Outcome
from calor.proof.plan import DRAWN, Case, Plan
from calor.proof.running import Made, Seats, made, no_seats

BAND_POINTS = 600


@dataclass
class Band:
    """Lowest and highest reading of all drawn runs of a trial at each of some times, and at each any reading at all."""

    time_s: Column
    low_celsius: Column
    high_celsius: Column
    runs: int = 0

    @classmethod
    def over(cls, span_s: float) -> Band:
        """An empty band over a span."""
        edges = np.linspace(0.0, span_s, BAND_POINTS + 1)
        return cls(edges[:-1], np.full(BAND_POINTS, np.inf), np.full(BAND_POINTS, -np.inf))

    def add(self, trace: Trace) -> None:
        """Widen it by a run."""
        first = np.searchsorted(trace.time_s, self.time_s)
        first = np.minimum(first, trace.steps - 1)
        measured = trace.measured_celsius
        known = np.isfinite(measured)
        low = np.minimum.reduceat(np.where(known, measured, np.inf), first)
        high = np.maximum.reduceat(np.where(known, measured, -np.inf), first)
        np.minimum(self.low_celsius, low, out=self.low_celsius)
        np.maximum(self.high_celsius, high, out=self.high_celsius)
        self.runs += 1


@dataclass
class Progress:
    """What a proof has so far: an outcome for each number, and a band for each trial."""

    plan: Plan
    outcomes: dict[int, Outcome] = field(default_factory=dict)
    bands: list[Band] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.bands = [Band.over(trial.span_s) for trial in self.plan.design.trial]

    def take(self, case: Case, one: Made) -> None:
        """Take in a run that has ended."""
        self.outcomes[case.number] = one.outcome
        if case.kind == DRAWN and one.trace is not None:
            self.bands[case.trial].add(one.trace)


class Work:
    """The runs that are on: `stop` ends them from another thread."""

    def __init__(self) -> None:
        self.is_stopped = False
        self._lock = threading.Lock()
        self._on: dict[int, npt.NDArray[np.int64]] = {}

    def stop(self) -> None:
        """Stop all that is on; what has ended is kept."""
        with self._lock:
            self.is_stopped = True
            for control in self._on.values():
                control[0] = 1

    def run(
        self, progress: Progress, cases: Iterable[Case], seats: Seats = no_seats,
        told: Callable[[Case, Outcome], None] = lambda case, outcome: None, threads: int | None = None,
    ) -> None:  # fmt: skip
        """Make the runs that are missing, and tell each as it ends, in the order of the numbers.

        Raises Stopped where it was stopped: what had ended by then is in `progress`.
        """
        threads = threads or os.cpu_count() or 1
        missing = (case for case in cases if case.number not in progress.outcomes)
        with ThreadPoolExecutor(threads) as pool:
            try:
                for case, one in self._in_order(pool, progress.plan, missing, seats, 2 * threads):
                    progress.take(case, one)
                    told(case, one.outcome)
            except BaseException:
                self.stop()
                raise

    def _in_order(
        self, pool: ThreadPoolExecutor, plan: Plan, cases: Iterator[Case], seats: Seats, ahead: int
    ) -> Iterator[tuple[Case, Made]]:
        """The runs in the order of their numbers, some of them ahead of the one that is waited for."""
        waiting: deque[tuple[Case, Future[Made]]] = deque()
        for case in cases:
            waiting.append((case, pool.submit(self._one, plan, case, seats)))
            if len(waiting) >= ahead:
                first, future = waiting.popleft()
                yield first, future.result()
        while waiting:
            first, future = waiting.popleft()
            yield first, future.result()

    def _one(self, plan: Plan, case: Case, seats: Seats) -> Made:
        control = new_control()
        with self._lock:
            if self.is_stopped:
                raise Stopped
            self._on[case.number] = control
        try:
            return made(plan, case, seats, control)
        finally:
            with self._lock:
                del self._on[case.number]
