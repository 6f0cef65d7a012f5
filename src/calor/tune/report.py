"""Tuning as plain data: what `calor tune --json` prints; and a design with gains taken."""

from __future__ import annotations

import math
from dataclasses import asdict
from pathlib import Path
from typing import Any

from calor.design.file import parse
from calor.design.model import Design
from calor.design.writing import write
from calor.errors import CalorError, unwritable
from calor.files import save_atomically
from calor.tune.gain_sets import SetFound, with_sets
from calor.tune.known import Experiment, Known
from calor.tune.rules import BY_NAME
from calor.tune.search import Searched
from calor.tune.switching import longest_window_s, trade_off
from calor.tune.table import PRESENT, Candidate, with_setting


def finite(value: float | None) -> float | None:
    """A number as JSON has it: None for what is not finite."""
    return float(value) if value is not None and math.isfinite(value) else None


def data(
    known: Known, rows: list[Candidate], search: Searched | None, predictive: Candidate | None = None
) -> dict[str, Any]:
    """All of it."""
    out: dict[str, Any] = {
        "model": model_data(known),
        "experiment": experiment_data(known.experiment),
        "rules": [row_data(row) for row in rows],
        "predictive": None if predictive is None else row_data(predictive),
    }
    if search is not None:
        out["search"] = row_data(search.row) | {"evaluations": search.evaluations, "ms_bound": search.ms_bound}
    return out


def model_data(known: Known) -> dict[str, Any] | None:
    """The model that the rules were given, and where it was tuned."""
    model = known.model
    if model is None:
        return None
    at = known.process.at
    return {
        "kind": model.kind,
        "rise_celsius": finite(model.rise_celsius),
        "time_constant_s": finite(model.time_constant_s),
        "dead_time_s": finite(model.dead_time_s),
        "rate_celsius_per_s": finite(model.rate_celsius_per_s),
        "residual_celsius": finite(model.residual_celsius),
        "at_celsius": finite(at.celsius),
        "output": finite(at.output),
        "ambient_celsius": finite(at.ambient_celsius),
        "second_order": None if known.second is None else {
            "rise_celsius": finite(known.second.rise_celsius),
            "time_constant_s": known.second.time_constant_s,
            "second_time_constant_s": known.second.second_time_constant_s,
            "dead_time_s": known.second.dead_time_s,
        },
    }  # fmt: skip


def experiment_data(experiment: Experiment) -> dict[str, Any]:
    """A test and what it found."""
    return {
        key: value if isinstance(value, str | int) else finite(value)
        for key, value in vars(experiment).items()
        if key != "trace"
    }


HYSTERESES = (0.1, 0.2, 0.5, 1.0, 2.0, 5.0)


def switching_data(design: Design, known: Known) -> dict[str, Any]:
    """What an on/off law would swing and wear, and how long a window may be, as the model tells it."""
    model, at = known.model, known.process.at
    if model is None or not math.isfinite(at.output):
        return {"on_off": [], "window": None}
    # where it would settle without output, by the model
    off_celsius = at.celsius - model.rise_celsius * at.output
    life = float(getattr(design.drive, "contact_life_cycles", 100_000.0))
    rows = [
        {
            "hysteresis_celsius": cycle.hysteresis_celsius, "swing_celsius": cycle.swing_celsius,
            "period_s": cycle.on_s + cycle.off_s, "switchings_per_hour": cycle.switchings_per_hour,
            "contact_days": cycle.contact_days(life),
        }
        for cycle in trade_off(model, off_celsius, at.celsius, HYSTERESES)
    ]  # fmt: skip
    limit = design.limits.ripple_celsius
    window = None
    if limit is not None and 0.0 < at.output < 1.0:
        window = {"ripple_celsius": limit, "longest_s": longest_window_s(model, at.output, limit)}
    return {"on_off": rows, "window": window}


def row_data(row: Candidate) -> dict[str, Any]:
    """One row of the table; its figures are of the first trial it was run on, `pass` of all."""
    gains, margins = row.setting.gains, row.margins
    metrics = asdict(row.verdicts[0].metrics)
    metrics["recovery_s"] = list(row.verdicts[0].metrics.recovery_s)
    return {
        "rule": row.name,
        "title": row.title,
        "source": row.source,
        "gain_per_celsius": gains.gain_per_celsius,
        "integral_time_s": gains.integral_time_s,
        "derivative_time_s": gains.derivative_time_s,
        "derivative_filter": gains.derivative_filter,
        "setpoint_weight": row.setting.setpoint_weight,
        "in_range": row.in_range,
        "note": row.note or None,
        "stable": None if margins is None else bool(margins.is_stable),
        "ms": None if margins is None else finite(margins.ms),
        "gain_margin": None if margins is None else finite(margins.gain_margin),
        "phase_margin_deg": None if margins is None else finite(margins.phase_margin_deg),
        "delay_margin_s": None if margins is None else finite(margins.delay_margin_s),
        "trials": list(row.trials),
        "metrics": metrics,
        "fails": sorted({item.name for verdict in row.verdicts for item in verdict.limits if not item.passes}),
        "pass": row.outcome,
    } | ({} if row.setting.law is None else {"law": row.setting.law.model_dump()})


def best(rows: list[Candidate], search: Searched | None) -> Candidate | None:
    """The row to take: the search's where there is one, else the rule that is least beyond its limits and has the least
    error; a loop that is not stable is not taken."""
    if search is not None:
        return search.row
    usable = [row for row in rows if row.name != PRESENT and (row.margins is None or row.margins.is_stable)]
    return min(usable, key=lambda row: (row.beyond, row.iae_celsius_s), default=None)


def set_data(found: SetFound) -> dict[str, Any]:
    """Gains at one setpoint; `ms_of_first` is what those of the first one would give there."""
    gains, margins = found.gains, found.margins
    return {
        "at_celsius": found.celsius,
        "rule": found.rule,
        "title": BY_NAME[found.rule].title,
        "gain_per_celsius": gains.gain_per_celsius,
        "integral_time_s": gains.integral_time_s,
        "derivative_time_s": gains.derivative_time_s,
        "model": model_data(found.known),
        "stable": bool(margins.is_stable),
        "ms": finite(margins.ms),
        "gain_margin": finite(margins.gain_margin),
        "phase_margin_deg": finite(margins.phase_margin_deg),
        "ms_of_first": finite(found.margins_of_first.ms),
    }


def write_sets(design: Design, found: list[SetFound], place: Path, text: str) -> None:
    """Write the design with gain sets; `text` is its file, whose comments stay. Raises CalorError."""
    _write(with_sets(design, found), place, text)


def write_design(design: Design, row: Candidate, place: Path, text: str) -> None:
    """Write the design with a row's gains; `text` is its file, whose comments stay. Raises CalorError."""
    _write(with_setting(design, row.setting), place, text)


def _write(design: Design, place: Path, text: str) -> None:
    """Write a design that can be read again. Raises CalorError."""
    written = write(design, text, place.parent)
    parse(written, str(place), place.parent)
    try:
        save_atomically(place, written)
    except OSError as error:
        raise unwritable(CalorError, place, error) from None
