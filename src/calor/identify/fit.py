"""Fit a load to records: integrating, first or second order with dead time, or a design's own load with some keys free.

The whole simulated curve is compared with the whole record (simulation error), so that feedback in the record does no
harm. Source: L. Ljung, System Identification, 1999, section 7.2 (output-error models).
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np
import numpy.typing as npt

from calor.compiled import Column
from calor.errors import LogError
from calor.identify import told
from calor.identify.confidence import Confidence, confidence_of
from calor.identify.observed import Observed
from calor.identify.outcome import Fit, longer_first, made
from calor.identify.search import Solution, grid_starts, refine, rough
from calor.identify.task import AT_ONCE, Free, Probe, Surroundings, Task
from calor.load.first_order import FirstOrder
from calor.load.integrating import Integrating
from calor.load.registry import AnyLoad
from calor.load.second_order import SecondOrder
from calor.settings import bounds_of

Order = Literal["integrating", "1", "2"]
ORDERS: tuple[Order, ...] = ("integrating", "1", "2")
ORDER_WORDS = {"integrating": "integrating", "1": "first order", "2": "second order"}
STILL = -1.0
KEPT_BACK = 0.25
SHORTEST_SHARE = 0.2
"""No time constant shorter than this share of the time between rows can be told."""
FARTHEST = 50.0
"""A key of a design's own load is sought no further than this factor from what the design has."""
FIRST_TRY, LONGER = 8, 2
SAME_SHARE = 0.02
"""Residuals closer than this share are one as good as the other."""


@dataclass(frozen=True)
class Asked:
    """What is asked of a fit beside the records: ambient, probe, the share kept back, and how to stop it.

    `ambient` is "auto" (a column, else a start from rest, else fitted), "fit", "start", or a number of °C. `watch` is
    called with the share done, or STILL where that has not changed, and may raise Stopped.
    """

    ambient: str | float = "auto"
    probe: Probe = AT_ONCE
    keep_back: float = KEPT_BACK
    weights: tuple[tuple[float, float], tuple[float, float]] = ((1.0, 0.0), (0.0, 0.0))
    watch: Callable[[float], None] = lambda share: None


def fit_order(records: tuple[Observed, ...], order: str, asked: Asked) -> Fit:
    """A black box fitted to records: "integrating", "1", "2", or the one that "auto" recommends.

    Raises LogError where the records cannot tell any of its numbers, Stopped where it was asked to stop.
    """
    if order != "auto":
        return _fit_one(records, order, asked)
    first = _fit_one(records, "1", _part(asked, 0.0, 0.35))
    second = _fit_one(records, "2", _part(asked, 0.35, 0.55))
    integrating = _fit_one(records, "integrating", _part(asked, 0.9, 0.1))
    every = {"integrating": integrating, "1": first, "2": second}
    chosen, why = told.recommended(every)
    residuals = tuple((name, fit.residual_rms_celsius) for name, fit in every.items())
    return replace(every[chosen], why=why, others=residuals)


def _part(asked: Asked, begin: float, share: float) -> Asked:
    return replace(asked, watch=lambda done: asked.watch(done if done < 0.0 else begin + share * done))


def _fit_one(records: tuple[Observed, ...], order: str, asked: Asked) -> Fit:
    build = {"integrating": _integrating, "1": _first_order, "2": _second_order}[order]

    def solve(of: tuple[Observed, ...], share_before: float, mask: Any, start: Column | None) -> tuple[Task, Solution]:
        return build(of, asked, share_before, mask, start)

    fitted = _fitted(records, asked, solve)
    load = fitted.load
    if isinstance(load, SecondOrder) and load.second_time_constant_s > load.time_constant_s:
        fitted = longer_first(fitted)
    return replace(fitted, order=order)


def fit_own_load(
    records: tuple[Observed, ...], load: AnyLoad, keys: tuple[str, ...], asked: Asked, humidity: float
) -> Fit:
    """A design's own load fitted to records with some of its keys free, from the values it has.

    Raises LogError, Stopped.
    """
    free = tuple(free_key(load, key) for key in keys)

    def solve(of: tuple[Observed, ...], share_before: float, mask: Any, start: Column | None) -> tuple[Task, Solution]:
        task = Task(
            load, free, of, _surroundings(of, asked), asked.probe, asked.weights, share_before, humidity,
            load.dead_time_s, mask, lambda: asked.watch(STILL),
        )  # fmt: skip
        if start is not None:
            return task, refine(task, start)
        natural = {key: float(getattr(load, key)) for key in keys}
        starts = [task.varied_from({key: value * factor for key, value in natural.items()}, load.ambient_celsius)
                  for factor in (1.0, 0.5, 2.0)]  # fmt: skip
        small = rough(task)
        tried = [refine(small, values, exact=False) for values in starts]
        best = min(tried, key=lambda solution: solution.rms_celsius)
        return task, refine(task, best.values)

    return _fitted(records, asked, solve)


def free_key(load: AnyLoad, key: str) -> Free:
    """A key of a load that may be free, with its bounds. Raises LogError where there is none, or it is no number."""
    fields = type(load).model_fields  # type: ignore[attr-defined]
    numeric = [name for name, item in fields.items() if item.annotation is float and name != "ambient_celsius"]
    if key not in numeric:
        raise LogError(f"load.{key}", f"is no number of a load of kind {load.kind}", "", f"one of {', '.join(numeric)}")
    low, high, _ = bounds_of(fields[key])
    value = float(getattr(load, key))
    if low < 0.0 or value <= 0.0 or key == "dead_time_s":
        return Free(key, max(low, -1e9), min(high, 1e9), False)
    # further off it would be another load
    return Free(key, max(low, value / FARTHEST), min(high, value * FARTHEST), True)


# ---- the black boxes


def _surroundings(records: tuple[Observed, ...], asked: Asked) -> tuple[Surroundings, ...]:
    """Where each record's ambient comes from."""
    around = []
    for record in records:
        cold = record.stretches[0].is_cold
        if isinstance(asked.ambient, float | int):
            around.append(Surroundings("known", float(asked.ambient)))
        elif asked.ambient == "start" or (cold and (asked.ambient == "fit" or record.ambient_celsius is None)):
            # from rest, so that the start and the ambient are one temperature
            around.append(Surroundings("start"))
        elif asked.ambient == "auto" and record.ambient_celsius is not None:
            around.append(Surroundings("column"))
        else:
            around.append(Surroundings("fit"))
    return tuple(around)


def _shortest_s(records: tuple[Observed, ...]) -> float:
    return max(SHORTEST_SHARE * min(record.pace_s for record in records), 0.011)


def _longest_s(records: tuple[Observed, ...]) -> float:
    return float(min(max(100.0 * float(record.time_s[-1]) for record in records), 1e7))


def _dead(records: tuple[Observed, ...]) -> Free:
    return Free("dead_time_s", 0.0, min(0.5 * max(float(record.time_s[-1]) for record in records), 1e5), False)


def _first_order(
    records: tuple[Observed, ...], asked: Asked, share_before: float, mask: Any, start: Column | None
) -> tuple[Task, Solution]:
    free = (
        Free("rise_celsius", -3000.0, 3000.0, False),
        Free("time_constant_s", _shortest_s(records), _longest_s(records), True),
        _dead(records),
    )
    task = Task(FirstOrder(), free, records, _surroundings(records, asked), asked.probe, asked.weights, share_before,
                only_rows=mask, look=lambda: asked.watch(STILL))  # fmt: skip
    if start is not None:
        return task, refine(task, start)
    starts = grid_starts(
        task, lambda tau, dead: {"rise_celsius": 1.0, "time_constant_s": tau, "dead_time_s": dead}, "rise_celsius"
    )
    return task, _best(task, starts)


def _second_order(
    records: tuple[Observed, ...], asked: Asked, share_before: float, mask: Any, start: Column | None
) -> tuple[Task, Solution]:
    shortest, longest = _shortest_s(records), _longest_s(records)
    free = (
        Free("rise_celsius", -3000.0, 3000.0, False),
        Free("time_constant_s", shortest, longest, True),
        Free("second_time_constant_s", shortest, longest, True),
        _dead(records),
    )
    task = Task(SecondOrder(), free, records, _surroundings(records, asked), asked.probe, asked.weights, share_before,
                only_rows=mask, look=lambda: asked.watch(STILL))  # fmt: skip
    if start is not None:
        return task, refine(task, start)
    first_task, first = _first_order(records, asked, share_before, mask, None)
    _, tau, dead = first_task.natural(first.values)
    starts = []
    for share in (0.02, 0.1, 0.35, 1.0):
        late = min(max(share * tau, shortest), longest)
        for left in (max(dead - late, 0.0), 0.5 * dead):
            natural = {
                "rise_celsius": float(first.values[0]), "time_constant_s": tau, "second_time_constant_s": late,
                "dead_time_s": left,
            }  # fmt: skip
            values = task.varied_from(natural, _ambient_guess(first_task, first))
            starts.append(values)
    return task, _best(task, starts)


def _ambient_guess(task: Task, solution: Solution) -> float:
    ambient = task.ambient_of(solution.values, 0)
    return ambient if math.isfinite(ambient) else 20.0


def _integrating(
    records: tuple[Observed, ...], asked: Asked, share_before: float, mask: Any, start: Column | None
) -> tuple[Task, Solution]:
    free = (
        Free("rate_celsius_per_s", -100.0, 100.0, False),
        Free("drift_celsius_per_s", -100.0, 100.0, False),
        _dead(records),
    )
    # no ambient acts on it
    around = tuple(Surroundings("known", 20.0) for _ in records)
    task = Task(Integrating(), free, records, around, asked.probe, asked.weights, share_before, only_rows=mask,
                look=lambda: asked.watch(STILL))  # fmt: skip
    if start is not None:
        return task, refine(task, start)
    starts = grid_starts(
        task, lambda tau, dead: {"rate_celsius_per_s": 0.01, "drift_celsius_per_s": 0.0, "dead_time_s": dead},
        "rate_celsius_per_s", times=False,
    )  # fmt: skip
    return task, _best(task, starts)


def _best(task: Task, starts: list[Column]) -> Solution:
    """The best of several starts: each tried for a little, the best ones longer, over few rows; then over all."""
    small = rough(task)
    tried = [refine(small, values, most=FIRST_TRY, exact=False) for values in starts]
    tried.sort(key=lambda solution: solution.rms_celsius)
    longer = [refine(small, solution.values, most=40, exact=False) for solution in tried[:LONGER]]
    best = min(longer, key=lambda solution: solution.rms_celsius)
    return refine(task, best.values)


# ---- what is made of a solution


def _fitted(
    records: tuple[Observed, ...], asked: Asked,
    solve: Callable[[tuple[Observed, ...], float, Any, Column | None], tuple[Task, Solution]],
) -> Fit:  # fmt: skip
    asked.watch(0.0)
    task, solution = _placed(records, solve)
    asked.watch(0.6)
    kept_back = _kept_back(task, solution, asked.keep_back) if 0.0 < asked.keep_back < 1.0 else None
    asked.watch(0.95)
    confidence = confidence_of(solution.residual, solution.jacobian, _pieces(task))
    _allow_for_rows(task, confidence)
    return made(task, solution, confidence, kept_back)


def _placed(
    records: tuple[Observed, ...],
    solve: Callable[[tuple[Observed, ...], float, Any, Column | None], tuple[Task, Solution]],
) -> tuple[Task, Solution]:
    """The solution, with changes put at their row or half-way to the row before: as leaves less, else as is usual.

    Rows as even as a program's own steps show what it switched at them; a logger sees a change some time after it.
    """
    even = all(record.even for record in records)
    usual = 0.0 if even and not any(record.is_thinned for record in records) else 0.5
    task, solution = solve(records, usual, None, None)
    if all(record.is_thinned for record in records) or not any(len(record.change_s) for record in records):
        return task, solution
    # tried over few rows first, as the answer is mostly no
    few = rough(task)
    at_usual = refine(few, solution.values, most=20, exact=False)
    at_other = refine(replace(few, share_before=0.5 - usual), solution.values, most=20, exact=False)
    if at_other.rms_celsius < (1.0 - SAME_SHARE) * at_usual.rms_celsius:
        return solve(records, 0.5 - usual, None, at_other.values)
    return task, solution


def _allow_for_rows(task: Task, confidence: Confidence) -> None:
    """Widen the interval of the dead time where changes are put half-way: each was somewhere between two rows."""
    for k, item in enumerate(task.free):
        if item.key == "dead_time_s" and task.share_before > 0.0:
            changes = sum(len(record.change_s) for record in task.records)
            pace_s = max(record.pace_s for record in task.records)
            if changes:
                confidence.covariance[k, k] += pace_s * pace_s / 12.0 / changes


def _pieces(task: Task) -> list[slice]:
    """Rows of the residual that follow one another."""
    pieces = []
    for number, stretch, _, _ in task.starts:
        begin = int(task.row_of[number]) + int(task.masks[number][: stretch.first].sum())
        pieces.append(slice(begin, begin + int(task.masks[number][stretch.first : stretch.last].sum())))
    return pieces


def _kept_back(task: Task, solution: Solution, share: float) -> float | None:
    """What a fit of the first part leaves on the rest, rms °C; None where either part is too short."""
    early, late = [], []
    for record in task.records:
        known = np.flatnonzero(np.isfinite(record.celsius))
        cut = int(known[min(int(len(known) * (1.0 - share)), len(known) - 1)])
        rows = np.arange(record.rows)
        early.append(rows < cut)
        late.append(rows >= cut)
    first, _ = _masked(task, tuple(early))
    if first.rows < first.size + 5:
        return None
    part = refine(first, solution.values, most=30)
    # a stretch that lies in the part kept back begins where it was read
    rest, starts = _masked(task, tuple(late))
    if rest.rows < 5:
        return None
    values = part.values.copy()
    own = [at for at in starts if at >= 0]
    if own:
        values = _with_starts(rest, values, own)
    left = rest.residual(values)
    return float(np.sqrt(np.mean(left**2)))


def _masked(task: Task, masks: tuple[npt.NDArray[np.bool_], ...]) -> tuple[Task, list[int]]:
    """The task over some rows, and the numbers that belong to stretches of these rows alone."""
    part = replace(task, only_rows=masks)
    own = []
    for number, stretch, at, inner in part.starts:
        inside = masks[number][stretch.first : stretch.last]
        if inside.all() and not part._is_ambient(number, stretch):
            own += [at, *inner]
    return part, own


def _with_starts(task: Task, values: Column, own: list[int]) -> Column:
    """The numbers with the starts of some stretches solved, the rest as it is."""
    for _ in range(3):
        base = task.residual(values)
        table = task.jacobian(values, base)[:, own]
        by, *_ = np.linalg.lstsq(table, -base, rcond=1e-8)
        values[own] += by
    return values
