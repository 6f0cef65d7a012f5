"""A fit as data, and as a design: the load in it, and the record's conditions as its first trial."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

import numpy as np

from calor.compiled import Column
from calor.design.file import parse
from calor.design.model import Design
from calor.design.trial import Trial
from calor.design.writing import write
from calor.errors import CalorError, unwritable
from calor.files import save_atomically
from calor.identify.observed import Observed
from calor.identify.outcome import Fit
from calor.identify.task import Probe
from calor.load.registry import AnyLoad
from calor.sense.filters import ExponentialFilter, MeanFilter, MedianFilter
from calor.settings import quantity_of

RARELY_TOLD = ("air_speed_m_per_s", "steam_j_per_kg", "altitude_m")
"""Keys that a record of a load at work says nothing of; they can be named on the command line."""
NEW_DESIGN = """\
# A load fitted to a recorded run, and the run's conditions as a trial.
format = 1
name = "Fitted load"
[setpoint]
celsius = {setpoint:.4g}
[law]
kind = "pid"
period_s = {period:.6g}
manual_mode = true
[drive]
kind = "linear"
[load]
kind = "first_order"
[probe]
kind = "ideal"
"""


def data(fit: Fit) -> dict[str, Any]:
    """A fit as plain data; what is not finite is None."""

    def finite(value: float | None) -> float | None:
        return float(value) if value is not None and math.isfinite(value) else None

    return {
        "model": {key: _plain(value) for key, value in fit.load.model_dump().items()},  # type: ignore[attr-defined]
        "interval_95": {item.key: [finite(item.low), finite(item.high)] for item in fit.numbers},
        "told": {item.key: item.is_told for item in fit.numbers},
        "only": fit.only or None,
        "residual_rms_celsius": fit.residual_rms_celsius,
        "residual_autocorrelation": fit.residual_autocorrelation,
        "residual_largest_celsius": fit.largest_celsius,
        "residual_largest_at_s": fit.largest_at_s,
        "kept_back_rms_celsius": finite(fit.kept_back_rms_celsius),
        "rows": fit.rows,
        "stretches": fit.stretches,
        "condition_number": finite(fit.condition),
        "ambient": fit.ambient,
        "order": fit.order or None,
        "why": fit.why or None,
        "orders": dict(fit.others) or None,
        "warnings": list(fit.warnings),
    }  # fmt: skip


def _plain(value: Any) -> Any:
    return float(f"{value:.7g}") if isinstance(value, float) else value


def probe_of(design: Design) -> Probe:
    """How a design's probe reads: its lag, its filter's, and the delay of one that takes a mean or a middle."""
    filter_, lag_s = design.probe.filter, float(getattr(design.probe, "time_constant_s", 0.0))
    if isinstance(filter_, ExponentialFilter):
        return Probe(lag_s, filter_.time_constant_s)
    if isinstance(filter_, MeanFilter | MedianFilter):
        return Probe(lag_s, 0.0, 0.5 * (filter_.readings - 1) * design.law.period_s)
    return Probe(lag_s)


def weights_of(design: Design) -> tuple[tuple[float, float], tuple[float, float]]:
    """What a recorded output gives to the load's two inputs: above 0, and below."""
    first, second = design.output_weights()
    if design.law.action == "heat_cool":
        return (first[0], second[0]), (first[1], second[1])
    if design.law.kind == "stages":
        return (sum(first), sum(second)), (0.0, 0.0)
    return (first[0], second[0]), (0.0, 0.0)


def default_free(load: Any) -> tuple[str, ...]:
    """The keys of a load that a record of a few cycles usually tells: its loss and heat capacity, or the like.

    What is in watts is held: a temperature tells no scale of power.
    """
    fields = type(load).model_fields
    wanted = (
        "rise_celsius", "time_constant_s", "second_time_constant_s", "dead_time_s", "rate_celsius_per_s",
        "drift_celsius_per_s", "loss_w_per_k", "heat_capacity_j_per_k", "contents_j_per_k", "mass_kg", "cold_j_per_k",
        "conductance_w_per_k",
    )  # fmt: skip
    black = getattr(load, "rise_celsius", None) is not None or getattr(load, "rate_celsius_per_s", None) is not None
    keys = [key for key in wanted if key in fields and (black or key != "dead_time_s")]
    return tuple(keys)


def fit_keys(load: Any) -> tuple[tuple[str, str], ...]:
    """The keys of a load that may be free, and their titles: numbers that do something where they stand.

    A number that is 0 and need not be stays 0: what is not there is not fitted.
    """
    fields = type(load).model_fields.items()
    usual = default_free(load)
    return tuple(
        (key, field.title or key)
        for key, field in fields
        if field.annotation is float
        and quantity_of(field) != "temperature"
        and key not in RARELY_TOLD
        and (getattr(load, key) != 0.0 or key in usual)
    )


def conditions_csv(record: Observed, share_before: float) -> str:
    """What was given and what stood around, as CSV: time_s, output, ambient_celsius where it was recorded.

    Through a gap, where nobody knows what was switched, the mean of what was given stands in.
    """
    edge_s, level = record.edges(share_before)
    at_s = np.maximum(edge_s, 0.0)
    ends_s = np.append(at_s[1:], max(float(record.time_s[-1]), float(at_s[-1])))
    lengths = np.maximum(ends_s - at_s, 0.0)
    mean = float((level * lengths).sum() / max(float(lengths.sum()), 1e-9))
    for begin_s, end_s in record.gaps_s:
        after = float(level[max(int(np.searchsorted(at_s, end_s, side="right")) - 1, 0)])
        outside = (at_s < begin_s) | (at_s > end_s)
        at_s = np.concatenate((at_s[outside], [begin_s, end_s]))
        level = np.concatenate((level[outside], [mean, after]))
        order = np.argsort(at_s, kind="stable")
        at_s, level = at_s[order], level[order]
    last = np.append(np.diff(at_s) > 0.0, True)
    at_s, level = at_s[last], level[last]
    if record.ambient_celsius is None:
        rows = [f"{t:.9g},{u:.9g}" for t, u in zip(at_s, level, strict=True)]
        return "\n".join(["time_s,output", *rows]) + "\n"
    every = np.union1d(record.time_s, at_s)
    output = level[np.maximum(np.searchsorted(at_s, every, side="right") - 1, 0)]
    ambient: Column = np.interp(every, record.time_s, record.ambient_celsius)
    rows = [f"{t:.9g},{u:.9g},{a:.6g}" for t, u, a in zip(every, output, ambient, strict=True)]
    return "\n".join(["time_s,output,ambient_celsius", *rows]) + "\n"


def start_trial(fit: Fit, name: str) -> Trial:
    """A trial as long as the record, from its start and in its ambient, in which the law decides."""
    record, answer = fit.records[0], fit.answer_celsius[0]
    known = answer[np.isfinite(answer)]
    start = float(known[0]) if len(known) else float(record.celsius[np.isfinite(record.celsius)][0])
    span_s = float(record.time_s[-1])
    return Trial(
        name=name[:80], span_s=max(float(round(span_s)) if span_s > 100.0 else float(f"{span_s:.4g}"), 0.01),
        start_celsius=float(f"{start:.6g}"), ambient_celsius=float(f"{fit.load.ambient_celsius:.6g}"),
    )  # fmt: skip


def conditions_trial(fit: Fit, csv: str, name: str) -> Trial:
    """The record's conditions as a trial: its length, start, ambient, and the output as it was recorded in `csv`."""
    given: dict[str, str | None] = {"output_csv": csv, "output_column": "output"}
    if fit.records[0].ambient_celsius is not None:
        given |= {"ambient_csv": csv, "ambient_column": "ambient_celsius", "ambient_celsius": None}
    return Trial.model_validate({**start_trial(fit, name).model_dump(), **given})


def design_with(fit: Fit, design: Design | None) -> Design:
    """The design with the fitted load in it; a new one where none is given."""
    if design is None:
        record = fit.records[0]
        known = record.celsius[np.isfinite(record.celsius)]
        period_s = float(np.clip(0.5 * record.pace_s, 0.05, 60.0))
        design = parse(NEW_DESIGN.format(setpoint=float(np.median(known)), period=period_s))
    return Design.model_validate({**{key: getattr(design, key) for key in Design.model_fields}, "load": load_of(fit)})


def load_of(fit: Fit) -> AnyLoad:
    """The fitted load, its numbers with as many digits as a file shows."""
    values = fit.load.model_dump()  # type: ignore[attr-defined]
    rounded = {key: float(f"{value:.5g}") for key, value in values.items() if isinstance(value, float)}
    return fit.load.model_copy(update=rounded)  # type: ignore[attr-defined, no-any-return]


def record_csv(place: Path) -> Path:
    """Where the conditions of a design at `place` are written."""
    return place.with_name(f"{place.stem}_record.csv")


def write_design(fit: Fit, place: Path, design: Design | None, text: str, name: str) -> None:
    """Write a design whose load is the fit and whose first trial is the record's conditions, and these beside it.

    Raises CalorError where it cannot be written, or where there is a file of another kind.
    """
    csv = record_csv(place)
    trial = conditions_trial(fit, str(csv.absolute()), name)
    made = design_with(fit, design)
    others = tuple(item for item in (made.trial if design is not None else ()) if item.name != trial.name)
    made = made.model_copy(update={"trial": (trial, *others)})
    try:
        save_atomically(csv, conditions_csv(fit.records[0], fit.share_before))
        save_atomically(place, write(made, text, place.parent))
    except OSError as error:
        raise unwritable(CalorError, place, error) from None
