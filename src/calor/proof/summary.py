"""A proof in figures: the cells of its matrix, the share of drawn runs that pass, the worst of them, what matters most.

`calor prove --json` prints `report`.
"""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np

from calor.judge.verdict import Judged
from calor.proof.fault_table import CAUTION, fault_table
from calor.proof.faults import NotTried
from calor.proof.outcome import (
    SAFE_TITLES,
    Outcome,
    is_at_least,
    is_broken_by,
    margin_of,
    safe_limits,
    shown,
)
from calor.proof.plan import CORNER, DESIGNED, DRAWN, FAULT, Case
from calor.proof.statistics import Share, rank_correlation, share_of
from calor.proof.work import Progress

CHANCE = 2.5
"""So many standard errors of a rank correlation, 1/√(n − 1), one may come to by chance, as the largest of some."""


class Cell(NamedTuple):
    """One cell of the matrix: a limit in a run, or in the worst of many: the run's number and what came of it."""

    limit: str
    number: int
    judged: Judged
    margin: float


class MatrixRow(NamedTuple):
    """One row of the matrix: a run, or all runs of a kind in a trial; `runs` is how many, `passed` how many pass of
    those in which anything is `judged`."""

    kind: str
    trial: int
    title: str
    at_s: float
    passed: int
    runs: int
    cells: tuple[Cell, ...]
    number: int
    failed: str = ""
    judged: int = 1

    @property
    def passes(self) -> bool | None:
        """Whether every run of it passes; None where nothing is judged."""
        return None if self.judged == 0 else self.passed == self.judged


class Weight(NamedTuple):
    """How much a tolerance goes with a limit's figure over the drawn runs: Spearman's rank correlation.

    `beyond_chance`: it is larger than what tolerances that matter nothing come to with so few draws.
    """

    name: str
    title: str
    limit: str
    correlation: float
    beyond_chance: bool = True


def cases_done(progress: Progress, kind: str, trial: int) -> list[tuple[Case, Outcome]]:
    """The runs of a kind in a trial that have ended, in the order of their numbers."""
    plan = progress.plan
    if kind != DRAWN:
        return [
            (case, progress.outcomes[case.number])
            for case in plan.fixed
            if case.kind == kind and case.trial == trial and case.number in progress.outcomes
        ]
    return [(plan.case(number), progress.outcomes[number]) for number in drawn_numbers(progress, trial)]


def drawn_numbers(progress: Progress, trial: int) -> list[int]:
    """The numbers of the drawn runs in a trial that have ended, in their order."""
    first, trials = len(progress.plan.fixed) + 1, len(progress.plan.design.trial)
    return [number for number in sorted(progress.outcomes) if number >= first and (number - first) % trials == trial]


def matrix(progress: Progress) -> list[MatrixRow]:
    """The matrix as far as it is known, trial by trial: as designed, each fault, tolerances alone, drawn together."""
    rows = []
    for trial in range(len(progress.plan.design.trial)):
        for kind in (DESIGNED, FAULT):
            rows += [
                MatrixRow(
                    kind, trial, case.title, outcome.at_s, int(outcome.passes), 1, _cells([(case.number, outcome)]),
                    case.number, outcome.failed, int(outcome.is_judged),
                )
                for case, outcome in cases_done(progress, kind, trial)
            ]  # fmt: skip
        for kind, title in ((CORNER, "One tolerance at its end"), (DRAWN, "All tolerances drawn")):
            numbers = (
                drawn_numbers(progress, trial)
                if kind == DRAWN
                else [case.number for case, _ in cases_done(progress, kind, trial)]
            )
            outcomes = [(number, progress.outcomes[number]) for number in numbers]
            if outcomes:
                passed = sum(outcome.passes for _, outcome in outcomes)
                cells = _cells(outcomes)
                worst = min(cells, key=lambda cell: cell.margin).number if cells else outcomes[0][0]
                judged = sum(outcome.is_judged for _, outcome in outcomes)
                rows.append(MatrixRow(kind, trial, title, 0.0, passed, len(outcomes), cells, worst, "", judged))
    return rows


def _cells(outcomes: list[tuple[int, Outcome]]) -> tuple[Cell, ...]:
    """For each limit the run that keeps it by least, or misses it by most."""
    worst: dict[str, Cell] = {}
    for number, outcome in outcomes:
        for judged in (*outcome.limits, *outcome.others):
            margin = margin_of(judged)
            if judged.name not in worst or margin < worst[judged.name].margin:
                worst[judged.name] = Cell(judged.name, number, judged, margin)
    return tuple(worst.values())


def passed_of(progress: Progress, trial: int) -> Share:
    """How many of the drawn runs of a trial pass."""
    outcomes = [progress.outcomes[number] for number in drawn_numbers(progress, trial)]
    return share_of(sum(one.passes for one in outcomes), sum(one.is_judged for one in outcomes))


def weights(progress: Progress, trial: int) -> list[Weight]:
    """For each tolerance the limit it goes with most, the strongest first. Needs some drawn runs."""
    numbers = drawn_numbers(progress, trial)
    if len(numbers) < 3:
        return []
    values = np.array([progress.plan.case(number).values for number in numbers])
    figures = _figures(progress, numbers)
    found = []
    for place, one in enumerate(progress.plan.tolerances):
        best = ("", 0.0)
        for limit, column in figures.items():
            correlation = rank_correlation(values[:, place].tolist(), column)
            if math.isfinite(correlation) and abs(correlation) > abs(best[1]):
                best = (limit, correlation)
        told = abs(best[1]) > CHANCE / math.sqrt(len(numbers) - 1)
        found.append(Weight(one.name, one.title, *best, told))
    return sorted(found, key=lambda one: -abs(one.correlation))


def _figures(progress: Progress, numbers: list[int]) -> dict[str, Any]:
    """What each limit is held against in each of some runs; what never came is infinite."""
    names = dict.fromkeys(one.name for number in numbers for one in progress.outcomes[number].limits)
    columns = {name: np.full(len(numbers), np.nan) for name in names}
    for row, number in enumerate(numbers):
        for one in progress.outcomes[number].limits:
            never = -math.inf if is_at_least(one.name) else math.inf
            columns[one.name][row] = never if one.value is None else one.value
    return {name: column for name, column in columns.items() if not np.isnan(column).any()}


def passes(progress: Progress) -> bool | None:
    """Whether every run so far passes of those in which anything is judged; None where there is none."""
    judged = [outcome.passes for outcome in progress.outcomes.values() if outcome.is_judged]
    return all(judged) if judged else None


def not_used(progress: Progress) -> list[dict[str, Any]]:
    """The safe limits that a trial as designed breaks, so that no fault in it is judged by them."""
    design, found = progress.plan.design, []
    for case in progress.plan.fixed[: len(design.trial)]:
        outcome = progress.outcomes.get(case.number)
        if outcome is None or outcome.failed:
            continue
        for key, limit in safe_limits(design).items():
            if is_broken_by(key, limit, outcome):
                value = getattr(outcome, key)
                name, trial = f"safe.{key}", design.trial[case.trial].name
                found.append({
                    "trial": trial, "name": name, "limit": limit, "value": value,
                    "text": f"{SAFE_TITLES[key]} {shown(name, limit)} is not used in {trial}: as designed it comes to"
                    f" {shown(name, value)}; give proof.{name}",
                })  # fmt: skip
    return found


def _judged_data(judged: Judged) -> dict[str, Any]:
    return {
        "name": judged.name, "limit": judged.limit, "value": judged.value, "pass": judged.passes,
        "margin": margin_of(judged),
    }  # fmt: skip


def row_data(progress: Progress, row: MatrixRow) -> dict[str, Any]:
    """A row of the matrix as plain data."""
    return {
        "kind": row.kind,
        "trial": progress.plan.design.trial[row.trial].name,
        "title": row.title,
        "at_s": row.at_s,
        "runs": row.runs,
        "judged": row.judged,
        "passed": row.passed,
        "pass": row.passes,
        "number": row.number,
        "limits": [{**_judged_data(cell.judged), "number": cell.number} for cell in row.cells],
        **({"failed": row.failed} if row.failed else {}),
    }


def drawn_data(progress: Progress, trial: int) -> dict[str, Any]:
    """What came of the drawn runs of a trial, as plain data."""
    numbers = drawn_numbers(progress, trial)
    cells = _cells([(number, progress.outcomes[number]) for number in numbers])
    share = passed_of(progress, trial)
    return {
        "trial": progress.plan.design.trial[trial].name,
        "runs": share.runs,
        "passed": share.passed,
        "share": share.share,
        "share_low_95": share.low,
        "share_high_95": share.high,
        "margin": min((cell.margin for cell in cells), default=None),
        "worst": [{**_judged_data(cell.judged), "number": cell.number} for cell in cells],
        "matters": [
            {
                "tolerance": one.name,
                "title": one.title,
                "limit": one.limit,
                "rank_correlation": one.correlation,
                "beyond_chance": one.beyond_chance,
            }
            for one in weights(progress, trial)
            if one.limit
        ],
    }


def fault_data(progress: Progress) -> list[dict[str, Any]]:
    """The table of single faults as plain data."""
    return [
        {
            "fault": row.fault.name, "title": row.fault.title, "pass": row.passes, "number": row.number,
            "trial": row.trial, "at_s": row.at_s, "highest_celsius": row.highest_celsius,
            "highest_at_s": row.highest_at_s, "does": row.answer, "ended": row.way, "ended_text": row.ended,
            "missing": row.missing,
        }
        for row in fault_table(progress)
    ]  # fmt: skip


def tolerance_data(progress: Progress) -> list[dict[str, Any]]:
    """The tolerances of a proof as plain data."""
    return [dict(one._asdict()) for one in progress.plan.tolerances]


def not_tried_data(others: tuple[NotTried, ...]) -> list[dict[str, Any]]:
    """The faults that are not tried as plain data."""
    return [{"fault": one.name, "title": one.title, "why": one.why} for one in others]


def report(progress: Progress, controller: str = "python") -> dict[str, Any]:
    """The proof as plain data: what `calor prove --json` prints."""
    design = progress.plan.design
    trials = range(len(design.trial))
    return {
        "design": design.name,
        "with": controller,
        "seed": progress.plan.seed,
        "runs": len(progress.outcomes),
        "passed": sum(outcome.passes for outcome in progress.outcomes.values()),
        "judged": sum(outcome.is_judged for outcome in progress.outcomes.values()),
        "pass": passes(progress),
        "not_used": not_used(progress),
        "matrix": [row_data(progress, row) for row in matrix(progress)],
        "faults": fault_data(progress),
        "not_tried": not_tried_data(progress.plan.not_tried),
        "tolerances": tolerance_data(progress),
        "drawn": [drawn_data(progress, trial) for trial in trials if drawn_numbers(progress, trial)],
        "caution": CAUTION,
    }
