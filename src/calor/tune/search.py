"""A search for gains: least error on all trials of a design, inside its limits and a bound on Ms.

A downhill simplex from the best rows of the table and from places beside them, with what is beyond a limit counted on
top. Source: J. A. Nelder and R. Mead, "A simplex method for function minimization", The Computer Journal 7 (1965).
"""

from __future__ import annotations

import math
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from calor import loop
from calor.design.model import Design
from calor.design.trial import Trial
from calor.judge.verdict import Verdict, judge
from calor.tune.margins import Gains, margins_of
from calor.tune.process import Process
from calor.tune.table import SEARCH, THREADS, Candidate, Setting, beyond_of, tried, with_setting, within_reach

EVALUATIONS = 240
MS_BOUND = 1.6
BEYOND, OVER_MS = 20.0, 400.0
"""What a figure beyond its limit by the limit itself costs, and Ms beyond its bound by the bound itself, in the error
of the best row: the bound comes first."""
MOST_DERIVATIVE_SHARE = 0.5


@dataclass(frozen=True)
class Searched:
    """The best gains found as a row like the others, and how many settings were run."""

    row: Candidate
    evaluations: int
    ms_bound: float


class Stopped(Exception):  # noqa: N818 - a search that was asked to stop did not fail
    """The search was ended, as asked; what it had found is kept."""


class _Costs:
    """What a setting costs: the error over all trials, and what it is beyond limits and bound."""

    def __init__(
        self, design: Design, process: Process, ms_bound: float, scale: float, pool: ThreadPoolExecutor
    ) -> None:
        self._design, self._process, self._bound, self._scale, self._pool = design, process, ms_bound, scale, pool
        self.evaluations = 0
        self.best: tuple[float, Setting] = (math.inf, Setting(Gains(0.0, 0.0, 0.0), 1.0))

    def of_verdicts(self, setting: Setting, verdicts: list[Verdict]) -> float:
        """What runs of a setting cost."""
        margins = margins_of(self._process, setting.gains)
        over = max(margins.ms / self._bound - 1.0, 0.0) if margins.is_stable else 10.0
        error = sum(math.inf if one.metrics.iae_celsius_s is None else one.metrics.iae_celsius_s for one in verdicts)
        cost = error / self._scale + OVER_MS * over + BEYOND * sum(beyond_of(one) for one in verdicts)
        if cost < self.best[0]:
            self.best = (cost, setting)
        return cost

    def of(self, setting: Setting) -> float:
        """What a setting costs, run on all trials."""
        if not margins_of(self._process, setting.gains).is_stable:
            return 1e6
        own = with_setting(self._design, setting)

        def verdict(trial: Trial) -> Verdict:
            return judge(loop.run(own, trial), self._design.limits)

        self.evaluations += 1
        return self.of_verdicts(setting, list(self._pool.map(verdict, self._design.trial)))


def _place(setting: Setting) -> npt.NDArray[np.float64]:
    """A setting as a place of the simplex: logarithms of gain and integral time, shares for the rest."""
    gains = setting.gains
    ti_s = gains.integral_time_s if gains.integral_time_s > 0.0 else 1e6
    share = gains.derivative_time_s / ti_s if gains.integral_time_s > 0.0 else 0.0
    return np.array([
        math.log(gains.gain_per_celsius), math.log(ti_s), min(share, MOST_DERIVATIVE_SHARE) * 4.0,
        setting.setpoint_weight, math.log(gains.derivative_filter),
    ])  # fmt: skip


def _setting(place: npt.NDArray[np.float64]) -> Setting:
    """The setting at a place, inside what a law takes."""
    gain, ti_s = math.exp(min(place[0], 50.0)), math.exp(min(place[1], 20.0))
    share = min(max(float(place[2]) / 4.0, 0.0), MOST_DERIVATIVE_SHARE)
    gains = within_reach(
        Gains(gain, ti_s, share * ti_s, math.exp(min(max(float(place[4]), math.log(2.0)), math.log(20.0))))
    )
    return Setting(gains, min(max(float(place[3]), 0.0), 1.0))


def searched(
    design: Design, process: Process, rows: list[Candidate], ms_bound: float = MS_BOUND, seed: int = 1,
    evaluations: int = EVALUATIONS, watch: Callable[[float, Setting], None] = lambda share, best: None,
) -> Searched:  # fmt: skip
    """The best gains found from some rows of the table on. `watch` is told the share done and the best so far, and may
    raise Stopped: what is best then is kept.

    The same seed finds the same.
    """
    chance = np.random.default_rng(seed)
    with ThreadPoolExecutor(THREADS) as pool:
        least = min((row.iae_celsius_s for row in rows), default=1.0)
        costs = _Costs(design, process, ms_bound, max(least, 1e-9), pool)
        rows = [row for row in rows if row.setting.law is None]
        usable = [row for row in rows if row.margins is not None and row.setting.gains.gain_per_celsius > 0.0]
        names = tuple(trial.name for trial in design.trial)
        priced = sorted(
            (costs.of_verdicts(row.setting, list(row.verdicts)) if row.trials == names else costs.of(row.setting), k)
            for k, row in enumerate(usable)
        )
        starts = [usable[k].setting for _, k in priced[:2]]

        def told(place: npt.NDArray[np.float64]) -> float:
            watch(min(costs.evaluations / evaluations, 1.0), costs.best[1])
            return costs.of(_setting(place))

        try:
            turn = 0
            while costs.evaluations < evaluations and starts:
                base = _place(starts[turn]) if turn < len(starts) else _place(costs.best[1])
                size = 0.35 if turn < len(starts) else 0.5 * chance.random() + 0.05
                before = costs.evaluations
                _downhill(
                    told, base, size * (1.0 + 0.3 * chance.standard_normal(5)), evaluations // 3, costs, evaluations
                )
                turn += 1
                if costs.evaluations == before:
                    break
        except Stopped:
            pass
    best = costs.best[1]
    row = tried(design, design.trial, process, SEARCH, "Search", f"least error with Ms ≤ {ms_bound:g}", best)
    return Searched(row, costs.evaluations, ms_bound)


def _downhill(
    told: Callable[[npt.NDArray[np.float64]], float], base: npt.NDArray[np.float64], sizes: npt.NDArray[np.float64],
    most: int, costs: _Costs, evaluations: int,
) -> None:  # fmt: skip
    """A simplex downhill from a place, for so many evaluations at most."""
    from scipy.optimize import minimize  # type: ignore[import-untyped, unused-ignore]

    corners = np.vstack([base, *(base + size * axis for size, axis in zip(sizes, np.eye(5), strict=True))])
    left = min(most, evaluations - costs.evaluations)
    minimize(
        told, base, method="Nelder-Mead",
        options={"initial_simplex": corners, "maxfev": max(left, 6), "xatol": 1e-3, "fatol": 1e-4, "adaptive": True},
    )  # fmt: skip
