"""The least squares: good starts from a grid over time constant and dead time, then refined.

For a black box all but its times enter linearly, so that for each pair of times the rest is solved at once (variable
projection; G. Golub and V. Pereyra, 1973). A load with names begins from what the design has. Refined by
scipy.optimize.least_squares (trust region, with bounds).
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from calor.compiled import Column, Table
from calor.identify.task import Task

ROUGH_ROWS = 1_200
"""A grid is gone over with so many rows."""
TIMES, DEAD_TIMES = 14, 9
BEST = 3
ROUNDS = 3


class Solution(NamedTuple):
    """Numbers as they are varied, what they leave (°C, rows that are compared), and the Jacobian there."""

    values: Column
    residual: Column
    jacobian: Table

    @property
    def rms_celsius(self) -> float:
        """Root mean square of what is left, °C."""
        return float(np.sqrt(np.mean(self.residual**2))) if len(self.residual) else math.nan


def refine(task: Task, values: Column, most: int = 60, exact: bool = True) -> Solution:
    """Numbers of least squares, from a start. Rows that the dead time decides are chosen anew each round."""
    from scipy.optimize import least_squares

    dead_at = next((k for k, item in enumerate(task.free) if item.key == "dead_time_s"), None)
    for _ in range(ROUNDS):
        if dead_at is not None:
            task.set_dead_time(float(task.natural(values)[dead_at]))
        low, high = task.bounds()
        inside = np.clip(values, low + 1e-9 * (1.0 + np.abs(low)), high - 1e-9 * (1.0 + np.abs(high)))
        inside = np.where(np.isfinite(inside), inside, values)
        tolerance = 1e-8 if exact else 1e-5
        answer = least_squares(
            task.residual, inside, jac=task.jacobian, bounds=(low, high), x_scale="jac", method="trf",
            max_nfev=most, ftol=tolerance, xtol=tolerance, gtol=1e-10,
        )  # fmt: skip
        values = np.asarray(answer.x, np.float64)
        if dead_at is None or not exact:
            break
        moved_s = abs(float(task.natural(values)[dead_at]) - task.dead_time_s)
        if moved_s < 0.5 * min(record.pace_s for record in task.records) or all(
            s.is_cold or s.knows_before for _, s, _, _ in task.starts
        ):
            break
    return Solution(values, task.residual(values), task.jacobian(values))


def rough(task: Task) -> Task:
    """The same task over fewer rows."""
    return replace(task, records=tuple(record.thinned(ROUGH_ROWS) for record in task.records), only_rows=None)


def grid_starts(
    task: Task, values_of: Callable[[float, float], dict[str, float]], linear_key: str, times: bool = True
) -> list[Column]:
    """The best starts of a black box: for each time constant and dead time the rest is solved.

    `values_of` answers the keys for (time constant, dead time) with `linear_key`, which the answer is proportional to,
    at 1.
    """
    small = rough(task)
    span_s = max(float(record.time_s[-1]) for record in small.records)
    pace_s = min(record.pace_s for record in task.records)
    longest = 20.0 * span_s
    taus = np.geomspace(max(2.0 * pace_s, 1e-3), longest, TIMES) if times else np.array([1.0])
    deads = np.concatenate(([0.0], np.geomspace(max(0.5 * pace_s, 1e-3), 0.2 * span_s, DEAD_TIMES)))
    found: list[tuple[float, Column]] = []
    for tau in taus:
        for dead in deads:
            small.set_dead_time(float(dead))
            start = small.varied_from(values_of(float(tau), float(dead)), _first_celsius(small))
            linear_at = next(k for k, item in enumerate(small.free) if item.key == linear_key)
            solved = _solve_linear(small, start, linear_at)
            if solved is not None:
                found.append(solved)
    found.sort(key=lambda item: item[0])
    return [values for _, values in found[:BEST]]


def _first_celsius(task: Task) -> float:
    known = task.records[0].celsius[np.isfinite(task.records[0].celsius)]
    return float(known[0])


def _solve_linear(task: Task, start: Column, linear_at: int) -> tuple[float, Column] | None:
    """(sum of squares, numbers) with all that enters linearly solved: the gain, drift, ambients and starts."""
    linear = [linear_at, *(k for k, item in enumerate(task.free) if item.key == "drift_celsius_per_s")]
    linear += list(range(task.n_keys, task.size))
    base = task.residual(start)
    table = np.empty((task.rows, len(linear)))
    for column, k in enumerate(linear):
        moved = start.copy()
        moved[k] += 1.0
        table[:, column] = task.residual(moved) - base
    if not np.isfinite(table).all() or task.rows < len(linear):
        return None
    by, *_ = np.linalg.lstsq(table, -base, rcond=1e-10)
    values = start.copy()
    values[linear] += by
    low, high = task.bounds()
    values = np.clip(values, np.where(np.isfinite(low), low, values), np.where(np.isfinite(high), high, values))
    left = base + table @ (values[linear] - start[linear])
    return float(left @ left), values
