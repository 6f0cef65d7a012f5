"""What is made of a fit's solution: the load, each number with its interval, the residual, and whether it is told."""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace
from typing import NamedTuple

import numpy as np

from calor.compiled import Column
from calor.identify import told
from calor.identify.confidence import TOLD_SHARE, Confidence
from calor.identify.observed import Observed
from calor.identify.search import Solution
from calor.identify.task import Task
from calor.load.registry import AnyLoad
from calor.load.second_order import SecondOrder
from calor.loop.noise_of import noise_of

UNEXPLAINED = 0.25
"""Where more than this share of the movement is left, the model does not explain the record."""


class Number(NamedTuple):
    """One fitted number: its value, its 95 % interval, and whether the record tells it."""

    key: str
    value: float
    low: float
    high: float
    is_told: bool


@dataclass(frozen=True, eq=False)
class Fit:
    """A load fitted to records.

    `residual_celsius` and `answer_celsius` are columns for each record's rows, NaN where nothing was compared or
    simulated. `kept_back_rms_celsius` is what a fit of the first part leaves on the part kept back; None where nothing
    was. `only` says what the record does tell where a number is not told; empty where all are.
    """

    load: AnyLoad
    numbers: tuple[Number, ...]
    only: str
    residual_rms_celsius: float
    residual_autocorrelation: float
    largest_celsius: float
    largest_at_s: float
    kept_back_rms_celsius: float | None
    rows: int
    stretches: int
    condition: float
    ambient: str
    warnings: tuple[str, ...]
    records: tuple[Observed, ...]
    answer_celsius: tuple[Column, ...]
    residual_celsius: tuple[Column, ...]
    explains: bool = True
    """Whether the model has most of the movement; where it has not, no number is told."""
    suspect: tuple[int, float, float] | None = None
    """(record, begin s, end s) of what looks like a disturbance, to be left out."""
    share_before: float = 0.0
    """How far a change of the output was put towards the row before the one that shows it."""
    order: str = ""
    why: str = ""
    others: tuple[tuple[str, float], ...] = field(default=())

    @property
    def is_told(self) -> bool:
        """Whether the record tells every number that was free."""
        return all(number.is_told for number in self.numbers)

    @property
    def ambient_words(self) -> str:
        """Where the ambient comes from."""
        return {
            "column": "mean of its column",
            "start": "from the start at rest",
            "known": "as given",
            "fit": "fitted",
        }[self.ambient]

    def number(self, key: str) -> Number:
        """The fitted number of a key. Raises KeyError."""
        for item in self.numbers:
            if item.key == key:
                return item
        raise KeyError(key)


def made(task: Task, solution: Solution, confidence: Confidence, kept_back: float | None) -> Fit:
    """What is made of a solution: the load, its numbers, what they leave, and what to know of them."""
    answers = task.answers(solution.values)
    left = []
    for record, answer, mask in zip(task.records, answers, task.masks, strict=True):
        left.append(np.where(mask, record.celsius - answer, np.nan))
    load = task.load_of(solution.values)
    load = load.model_copy(update={"ambient_celsius": _rounded(task.ambient_of(solution.values, 0))})  # type: ignore[attr-defined]
    movement = float(np.sqrt(np.mean([np.nanvar(record.celsius) for record in task.records])))
    noise = math.sqrt(np.mean([noise_of(record.celsius[np.isfinite(record.celsius)]) ** 2 for record in task.records]))
    explains = solution.rms_celsius < max(UNEXPLAINED * movement, 1.5 * noise)
    numbers = tuple(_numbers(task, solution, confidence, explains))
    largest, at_s = _largest(task, left)
    warnings = told.warnings_of(task, solution, confidence, explains, movement, kept_back)
    suspect = told.suspect(task, left)
    if suspect is not None:
        number, begin_s, end_s = suspect
        warnings.append(
            f"{task.records[number].name}: something happened between {begin_s:.0f} and {end_s:.0f} s that the model"
            f" does not know; leave it out: --leave-out {begin_s:.0f}:{end_s:.0f}"
        )
    source = task.around[0].source
    only = "" if all(number.is_told for number in numbers) else told.only(task, solution, confidence, numbers, explains)
    return Fit(
        load, numbers, only, solution.rms_celsius, confidence.autocorrelation, largest, at_s, kept_back, task.rows,
        len(task.starts), confidence.condition, source, tuple(warnings), task.records, tuple(answers), tuple(left),
        explains, suspect, 0.5 if task.records[0].is_thinned else task.share_before,
    )  # fmt: skip


def _numbers(task: Task, solution: Solution, confidence: Confidence, explains: bool) -> list[Number]:
    numbers = []
    natural = task.natural(solution.values)
    pace_s = min(record.pace_s for record in task.records)
    low, high = task.bounds()
    for k, item in enumerate(task.free):
        unit = np.zeros(task.size)
        unit[k] = 1.0
        half = confidence.half_width(unit)
        value = float(natural[k])
        at_bound = solution.values[k] <= low[k] + 1e-6 * (1.0 + abs(low[k])) or solution.values[k] >= high[k] - 1e-6
        if item.logarithmic:
            spread = math.exp(min(half, 50.0))
            begin, end, share = value / spread, value * spread, half
        else:
            begin, end = max(value - half, item.low), min(value + half, item.high)
            share = half / max(abs(value), 1e-300)
        is_told = share <= TOLD_SHARE and not at_bound
        if item.key in ("dead_time_s", "second_time_constant_s"):
            # a short time is told as finely as rows come, not as a share of itself
            wide = half if not item.logarithmic else value * half
            is_told = (is_told or wide <= 0.1 * pace_s) or (item.key == "dead_time_s" and at_bound and wide <= pace_s)
        if item.key == "drift_celsius_per_s":
            rate = abs(float(natural[0]))
            is_told = half <= TOLD_SHARE * max(rate, abs(value))
        numbers.append(Number(item.key, value, max(begin, item.low), min(end, item.high), bool(is_told and explains)))
    for number, at in enumerate(task.ambient_at):
        if at >= 0 and number == 0:
            unit = np.zeros(task.size)
            unit[at] = 1.0
            half = confidence.half_width(unit)
            value = float(solution.values[at])
            movement = float(np.nanmax(task.records[0].celsius) - np.nanmin(task.records[0].celsius))
            is_told = half <= max(TOLD_SHARE * movement, 0.3)
            numbers.append(
                Number(
                    "ambient_celsius",
                    value,
                    max(value - half, -273.15),
                    min(value + half, 3500.0),
                    bool(is_told and explains),
                )
            )
    return numbers


def _rounded(celsius: float) -> float:
    return float(min(max(celsius, -273.15), 3000.0)) if math.isfinite(celsius) else 20.0


def _largest(task: Task, left: list[Column]) -> tuple[float, float]:
    """(the largest residual, when) of all records."""
    best, at_s = 0.0, 0.0
    for record, part in zip(task.records, left, strict=True):
        if np.isfinite(part).any():
            row = int(np.nanargmax(np.abs(part)))
            if abs(part[row]) > abs(best):
                best, at_s = float(part[row]), float(record.time_s[row])
    return best, at_s


def longer_first(fit: Fit) -> Fit:
    """A second order with its longer time constant named first."""
    load = fit.load
    assert isinstance(load, SecondOrder)
    names = {"time_constant_s": "second_time_constant_s", "second_time_constant_s": "time_constant_s"}
    numbers = {names.get(item.key, item.key): item for item in fit.numbers}
    ordered = tuple(numbers[item.key]._replace(key=item.key) for item in fit.numbers)
    swapped = load.model_copy(
        update={"time_constant_s": load.second_time_constant_s, "second_time_constant_s": load.time_constant_s}
    )
    return replace(fit, load=swapped, numbers=ordered)
