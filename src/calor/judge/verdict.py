"""Limits against figures: what passes, what fails, and by how much."""

from __future__ import annotations

import math
from dataclasses import asdict, dataclass
from typing import Any

from calor.design.model import Design
from calor.design.trial import Limits, Trial, limited
from calor.judge.metrics import Metrics, measure
from calor.law.autotune import APPLIED, REASONS, RESULTS
from calor.loop.trace import Trace, Tuning
from calor.settings import quantity_of
from calor.units import TemperatureUnit, format_difference, format_duration, format_temperature


@dataclass(frozen=True)
class Judged:
    """One limit: its key, the limit, the figure held against it (None: it never happened), whether it passes."""

    name: str
    limit: float
    value: float | None
    passes: bool


@dataclass(frozen=True)
class Verdict:
    """The figures of a run and every limit of the design."""

    metrics: Metrics
    limits: tuple[Judged, ...]

    @property
    def passes(self) -> bool:
        """Whether every limit is kept; where none is set, none is missed."""
        return all(limit.passes for limit in self.limits)

    @property
    def outcome(self) -> bool | None:
        """Whether it passes; None where nothing is judged."""
        return self.passes if self.limits else None

    @property
    def word(self) -> str:
        """It in a word or two."""
        fails = sum(not limit.passes for limit in self.limits)
        return "not judged" if not self.limits else f"fails {fails}" if fails else "passes"


_METRIC_OF_LIMIT = {name: rule.metric for name, rule in limited().items()}
AT_LEAST = tuple(name for name, rule in limited().items() if rule.at_least)
"""Limits that a figure must not go below; the others it must not go above."""
LIMIT_NAMES = tuple(_METRIC_OF_LIMIT)
LIMIT_TITLES = {name: str(Limits.model_fields[name].title) for name in LIMIT_NAMES}


def figure_of(metrics: Metrics, limit_name: str) -> float | None:
    """The figure that a limit is about; of several recoveries the longest; None where one never came."""
    value = getattr(metrics, _METRIC_OF_LIMIT[limit_name])
    if isinstance(value, tuple):
        return None if not value or None in value else float(max(value))
    if value is not None and limit_name == "mean_error_celsius":
        return abs(float(value))
    return None if value is None else float(value)


def figure_text(name: str, value: float | None, unit: TemperatureUnit = "°C") -> str:
    """A figure of a limit as it is shown, temperatures in `unit`."""
    if value is None:
        return "never"
    quantity = quantity_of(Limits.model_fields[name])
    if quantity == "duration":
        return format_duration(value)
    if quantity == "temperature":
        return format_temperature(unit, value)
    if quantity == "fraction":
        return f"{value * 100.0:.1f} %"
    if quantity == "difference":
        return format_difference(unit, value)
    return f"{value:.1f} Wh" if name.endswith("_wh") else f"{value:.0f}"


def judge(trace: Trace, limits: Limits) -> Verdict:
    """The verdict on a run. A recovery limit is not judged where nothing disturbed the run."""
    metrics = measure(trace, limits.band_celsius)
    judged = []
    for name in LIMIT_NAMES:
        limit = getattr(limits, name)
        if limit is None or (name == "recovery_s" and not metrics.recovery_s):
            continue
        value = figure_of(metrics, name)
        if name == "energy_wh" and value is None:
            continue
        judged.append(Judged(name, float(limit), value, value is not None and _keeps(name, value, float(limit))))
    return Verdict(metrics, tuple(judged))


def _keeps(name: str, value: float, limit: float) -> bool:
    margin = 1e-9 * abs(limit)
    return value >= limit - margin if name in AT_LEAST else value <= limit + margin


def report(design: Design, trial: Trial, trace: Trace) -> dict[str, Any]:
    """The verdict as plain data: what `calor run --json` prints."""
    verdict = judge(trace, design.limits)
    metrics = asdict(verdict.metrics)
    metrics["recovery_s"] = list(verdict.metrics.recovery_s)
    data = {
        "design": design.name,
        "trial": trial.name,
        "span_s": trial.span_s,
        "steps": trace.steps,
        "metrics": metrics,
        "limits": [
            {"name": item.name, "limit": item.limit, "value": item.value, "pass": item.passes}
            for item in verdict.limits
        ],
        "pass": verdict.outcome,
        "events": [{"at_s": event.at_s, "kind": event.kind, "text": event.text} for event in trace.events],
    }
    if getattr(design.law, "autotune", None) is not None:
        data["tuning"] = [tuning_data(one) for one in trace.tunings]
    if trace.outputs:
        hours = trace.span_s / 3600.0
        data["outputs"] = [
            {
                "name": output.name,
                "on_fraction": float(output.delivered.mean()),
                "switchings_per_hour": output.switchings() / hours,
            }
            for output in trace.outputs
        ]
    return data


def tuning_data(tuning: Tuning) -> dict[str, Any]:
    """What came of a self-tuning, as plain data; gains are None where it found none."""
    found = {
        "gain_per_celsius": tuning.gain_per_celsius,
        "integral_time_s": tuning.integral_time_s,
        "derivative_time_s": tuning.derivative_time_s,
    }
    return {
        "began_s": tuning.began_s,
        "ended_s": tuning.ended_s,
        "applied": tuning.result == APPLIED,
        "result": RESULTS[tuning.result].lower(),
        "text": REASONS[tuning.result],
        **{key: None if math.isnan(value) else value for key, value in found.items()},
    }
