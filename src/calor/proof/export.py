"""A proof for other programs: JUnit XML with a test case for each cell, CSV with a row for each run."""

from __future__ import annotations

import io
import math
from collections import Counter
from typing import TYPE_CHECKING, Any

from calor.errors import as_seen
from calor.proof.outcome import TITLES, margin_of, shown
from calor.proof.plan import CORNER, DRAWN, FAULT
from calor.proof.summary import MatrixRow, matrix
from calor.proof.work import Progress

if TYPE_CHECKING:
    from junitparser import JUnitXml


def junit(progress: Progress) -> str:
    """JUnit XML: a suite for each trial, a test case for each cell of the matrix.

    A cell of ordinary limits beside a fault does not decide, and is left out; a run that could not go on is an error,
    a fault that a design cannot have a case that was skipped.
    """
    from junitparser import Error, JUnitXml, Skipped, TestCase, TestSuite

    # XML has no place for signs that steer a terminal
    design = progress.plan.design
    document: JUnitXml = JUnitXml("calor prove")
    rows = matrix(progress)
    for trial, own in enumerate(design.trial):
        suite, classname = TestSuite(as_seen(own.name)), as_seen(f"{design.name}.{own.name}")
        own_rows = [row for row in rows if row.trial == trial]
        for row, title in zip(own_rows, row_titles(own_rows), strict=True):
            for case in _cases(row, title, classname):
                suite.add_testcase(case)
            if row.judged == 0:
                case = TestCase(title, classname, 0.0)
                case.result = [Skipped("nothing is judged: no limit is set")]
                suite.add_testcase(case)
            if row.failed:
                case = TestCase(title, classname, 0.0)
                case.result = [Error(as_seen(row.failed), "error")]
                suite.add_testcase(case)
        for other in progress.plan.not_tried:
            case = TestCase(other.title, classname, 0.0)
            case.result = [Skipped(other.why)]
            suite.add_testcase(case)
        document.add_testsuite(suite)
    document.update_statistics()
    root: Any = document._elem
    root.attrib.pop("skipped", None)  # some of the schemas in use know it of a suite alone
    text = document.tostring()
    body = text.decode("utf-8") if isinstance(text, bytes) else str(text)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + body.partition("?>\n")[2] if body.startswith("<?xml") else (
        '<?xml version="1.0" encoding="UTF-8"?>\n' + body
    )  # fmt: skip


def row_titles(rows: list[MatrixRow]) -> list[str]:
    """What the rows of a trial are called where they stand alone, the same from one proof to the next: of a fault that
    comes twice, early and late, and not when."""
    titles, seen = [], dict[str, int]()
    often = Counter(row.title for row in rows if row.kind == FAULT)
    for row in rows:
        number = seen[row.title] = seen.get(row.title, 0) + 1
        comes_again = row.kind == FAULT and often[row.title] > 1
        titles.append(f"{row.title}, {'early' if number == 1 else 'late'}" if comes_again else row.title)
    return titles


def _cases(row: MatrixRow, title: str, classname: str) -> list[Any]:
    from junitparser import Failure, TestCase

    cases = []
    for cell in row.cells:
        if row.failed or (row.kind == FAULT and not cell.limit.startswith("safe.")):
            continue
        case = TestCase(f"{title}: {TITLES[cell.limit].lower()}", classname, 0.0)
        if not cell.judged.passes:
            many = f", {row.passed} of {row.runs} runs pass" if row.kind in (CORNER, DRAWN) else ""
            figure, limit = shown(cell.limit, cell.judged.value), shown(cell.limit, cell.judged.limit)
            case.result = [Failure(f"{figure}, limit {limit}{many}; run {cell.number}", "limit")]
        cases.append(case)
    return cases


def csv_text(progress: Progress) -> str:
    """CSV: a row for each run, with its tolerances and each limit's figure; empty where there is none."""
    import csv

    plan = progress.plan
    limits = dict.fromkeys(
        one.name for outcome in progress.outcomes.values() for one in (*outcome.limits, *outcome.others)
    )
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    tolerances = [one.name for one in plan.tolerances]
    head = ["proof_run", "trial", "kind", "name", "at_s", "pass", "highest_celsius", "lowest_celsius"]
    writer.writerow([*head, *tolerances, *limits, "margin"])
    for number in sorted(progress.outcomes):
        case, outcome = plan.case(number), progress.outcomes[number]
        figures = {one.name: one.value for one in (*outcome.limits, *outcome.others)}
        margin = min((margin_of(one) for one in outcome.limits), default=math.nan)
        writer.writerow([
            number, plan.design.trial[case.trial].name, case.kind, case.name, _figure(outcome.at_s),
            str(outcome.passes).lower() if outcome.is_judged else "",
            _figure(outcome.highest_celsius), _figure(outcome.lowest_celsius),
            *(_figure(value) for value in case.values), *(_figure(figures.get(name)) for name in limits),
            _figure(margin),
        ])  # fmt: skip
    return out.getvalue()


def _figure(value: float | None) -> str:
    return "" if value is None or not math.isfinite(value) else f"{value:.9g}"
