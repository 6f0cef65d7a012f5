"""The report: one self-contained HTML page about a design, for the screen and for paper; it needs no script."""

from __future__ import annotations

import datetime
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any

from jinja2 import Environment, PackageLoader, StrictUndefined

from calor import __version__, loop
from calor.design.model import Design
from calor.design.switched import switched
from calor.drive import driver as drivers
from calor.errors import CalorError
from calor.journal.entry import Kept
from calor.judge.verdict import LIMIT_TITLES, figure_text, judge
from calor.loop.trace import Trace
from calor.proof.fault_table import CAUTION as FAULT_CAUTION
from calor.proof.fault_table import fault_table, hottest
from calor.proof.outcome import TITLES, shown
from calor.proof.plan import CORNER, DRAWN, FAULT
from calor.proof.summary import matrix, not_used, passed_of, weights
from calor.proof.work import Progress
from calor.report import words
from calor.report.plot import Cloud, event_lines, picture, svg
from calor.sense.budget import budget
from calor.units import TemperatureUnit, format_difference, format_duration, format_temperature

CAUTIONS = (
    "Simulation is not proof of safety. What a device needs is said by local codes and licensed practice.",
    "Mains wiring is for licensed persons and local codes; residual-current protection near water.",
    "A cut-out shares neither probe, controller nor switch with the thermostat: relays weld, solid-state relays fail"
    " shorted, firmware hangs. Use the watchdog.",
    "Fuse and conductor by local code. Enclosure and heat sink are measured at full load. Nothing that burns is near,"
    " and nobody leaves a first run alone.",
    "Food, medicine, animals and hatching eggs need an independent thermometer and alarm.",
)
MOST_WEIGHTS = 8


@dataclass
class Contents:
    """What a report holds beside the design itself; what is left out has no section.

    `traces` are runs by the name of their trial; those that are missing are made. `proof` is what a proof has,
    `firmware` what `agreement.check` gave, `notes` kept runs with something written about them.
    """

    traces: dict[str, Trace] = field(default_factory=dict)
    proof: Progress | None = None
    proof_controller: str = "python"
    firmware: dict[str, Any] | None = None
    notes: list[Kept] = field(default_factory=list)
    unit: TemperatureUnit = "°C"
    made: str = ""


@lru_cache(maxsize=1)
def _environment() -> Environment:
    environment = Environment(
        loader=PackageLoader("calor.report", "templates"), autoescape=True, undefined=StrictUndefined,
        trim_blocks=True, lstrip_blocks=True,
    )  # fmt: skip
    environment.filters["duration"] = format_duration
    return environment


def page(design: Design, contents: Contents) -> str:
    """The whole report. Raises CalorError where a trial cannot be run."""
    unit = contents.unit
    made = contents.made or datetime.datetime.now().astimezone().isoformat(sep=" ", timespec="minutes")
    trials = [_trial(design, trial, contents) for trial in design.trial]
    return _environment().get_template("report.html.j2").render(
        design=design, made=made, version=__version__, blocks=words.blocks(design, unit),
        guards=words.guards(design, unit), limits=words.limits(design, unit), trials=trials,
        passes=all(one["passes"] for one in trials if one["passes"] is not None),
        judged=any(one["passes"] is not None for one in trials),
        budget=_budget(design, unit), driver=_driver(design), proof=_proof(contents), firmware=contents.firmware,
        notes=contents.notes, cautions=CAUTIONS,
    )  # fmt: skip


def _trial(design: Design, trial: Any, contents: Contents) -> dict[str, Any]:
    unit = contents.unit
    said = {"name": trial.name, "line": words.trial_line(design, trial, unit)}
    trace = contents.traces.get(trial.name)
    if trace is None:
        try:
            trace = loop.run(design, trial)
        except CalorError as error:
            return {**said, "why": str(error), "passes": None, "svg": "", "limits": [], "events": [], "cloud": ""}
    verdict = judge(trace, design.limits)
    cloud = _cloud(design, trial, contents)
    return {
        **said,
        "why": "",
        "passes": verdict.outcome,
        "svg": svg(picture(trace, design.limits.band_celsius, unit, cloud)),
        "cloud": cloud.words if cloud else "",
        "events": [
            (number, format_duration(at_s), text) for number, at_s, text in event_lines(trace, unit)
        ],
        "limits": [
            {
                "title": LIMIT_TITLES[one.name], "figure": figure_text(one.name, one.value, unit),
                "limit": figure_text(one.name, one.limit, unit), "passes": one.passes,
            }
            for one in verdict.limits
        ],
    }  # fmt: skip


def _cloud(design: Design, trial: Any, contents: Contents) -> Cloud | None:
    """The band that the drawn runs of a proof lie in."""
    if contents.proof is None:
        return None
    band = contents.proof.bands[[one.name for one in design.trial].index(trial.name)]
    if not band.runs:
        return None
    return Cloud(band.time_s, band.low_celsius, band.high_celsius, f"{band.runs} runs with tolerances drawn")


def _budget(design: Design, unit: TemperatureUnit) -> dict[str, Any] | None:
    """The probe's error budget at the setpoint."""
    if design.probe.kind == "ideal":
        return None
    celsius = float(design.setpoint.celsius)
    found = budget(design.probe, celsius)
    if found is None:
        return None
    return {
        "at": format_temperature(unit, celsius),
        "parts": [(one.cause, format_difference(unit, one.celsius)) for one in found.contributions],
        "worst": format_difference(unit, found.worst_case_celsius),
        "rss": format_difference(unit, found.rss_celsius),
    }


def _driver(design: Design) -> dict[str, Any] | None:
    if design.driver is None:
        return None
    on_it = switched(design)
    lines = drivers.checked(design.driver, on_it.watt, design.load.ambient_celsius, on_it.ampere)
    return {
        "kind": design.driver.kind.replace("_", " "), "lines": lines, "cautions": drivers.cautions(design.driver)
    }  # fmt: skip


def _proof(contents: Contents) -> dict[str, Any] | None:
    progress, unit = contents.proof, contents.unit
    if progress is None or not progress.outcomes:
        return None
    design = progress.plan.design
    rows = []
    for row in matrix(progress):
        own = [cell for cell in row.cells if row.kind != FAULT or cell.limit.startswith("safe.")]
        worst = min(own, key=lambda cell: cell.margin) if own else None
        rows.append({
            "trial": design.trial[row.trial].name, "title": row.title, "kind": row.kind, "passes": row.passes,
            "at": format_duration(row.at_s) if row.kind == FAULT and row.at_s else "",
            "many": f"{row.passed} of {row.runs}" if row.kind in (CORNER, DRAWN) else "",
            "number": worst.number if worst else row.number,
            "limit": TITLES[worst.limit] if worst else "", "failed": row.failed,
            "figure": shown(worst.limit, worst.judged.value, unit) if worst else "",
            "bound": shown(worst.limit, worst.judged.limit, unit) if worst else "",
            "margin": f"{worst.margin * 100.0:+.0f} %" if worst else "",
        })  # fmt: skip
    shares = []
    for trial, own_trial in enumerate(design.trial):
        share = passed_of(progress, trial) if progress.bands[trial].runs else None
        if share is not None and share.runs:
            strongest = [one for one in weights(progress, trial) if one.beyond_chance][:MOST_WEIGHTS]
            shares.append({
                "trial": own_trial.name,
                "text": f"{share.passed} of {share.runs} pass, {share.share * 100.0:.1f} % (95 % interval"
                f" {share.low * 100.0:.1f} to {share.high * 100.0:.1f} %)",
                "weights": [(one.title, one.correlation, TITLES[one.limit]) for one in strongest],
            })  # fmt: skip
    faults = [(row, hottest(row, unit), format_duration(row.at_s)) for row in fault_table(progress)]
    return {
        "rows": rows, "faults": faults, "not_tried": progress.plan.not_tried, "shares": shares,
        "controller": contents.proof_controller, "seed": progress.plan.seed, "caution": FAULT_CAUTION,
        "passed": sum(one.passes for one in progress.outcomes.values()), "runs": len(progress.outcomes),
        "not_used": [one["text"] for one in not_used(progress)],
    }  # fmt: skip
