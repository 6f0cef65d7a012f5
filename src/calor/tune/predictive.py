"""A predictive law filled from what is known of the load, as a row beside the rules."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from pydantic import ValidationError

from calor.design.model import Design
from calor.design.problems import explain
from calor.design.trial import Trial
from calor.errors import CalorError
from calor.law.pid import Pid, cool_ratio
from calor.law.predictive import Predictive
from calor.settings import bounds_of
from calor.tune.known import Known
from calor.tune.margins import margins_of
from calor.tune.model import Model
from calor.tune.process import Process, proportional
from calor.tune.search import MS_BOUND
from calor.tune.table import PREDICTIVE, Candidate, setting_of, tried

TITLE = "Predictive law"
SOURCE = "Richalet & O'Donovan 2009, the quickest with Ms ≤ {bound:g}"
PACES = 40
QUICKEST_DEAD_TIMES, QUICKEST_STEPS, SLOWEST = 3.0, 3.0, 6.0
"""Between which closed-loop times it is chosen: of the dead time (with three of it half as much again is forgiven), of
a control step, of the whole load's time."""
DIGITS = 4


def filled(design: Design, model: Model, closed_loop_s: float, output: float = 0.5) -> Predictive:
    """The law with the keys of a model of first order; `output` is what holds the working point, below 0 it cools.

    What else the design's law has and a predictive one takes stays. Raises CalorError where the model settles nowhere.
    """
    if model.kind == "integrating" or not math.isfinite(model.rise_celsius):
        raise CalorError(
            "law predictive", "needs a load that settles, and this one goes on rising", "", "choose law kind pid"
        )
    law: Any = design.law
    kept = {name: value for name, value in law.model_dump().items() if name in Predictive.model_fields}
    rise = model.rise_celsius
    if law.action == "heat_cool":
        ratio = cool_ratio(law) if isinstance(law, Pid) else _own_ratio(law)
        # the model is of the side that holds the working point
        rise = rise * ratio if output < 0.0 else rise
        kept["cool_rise_celsius"] = _held("cool_rise_celsius", rise / ratio)
    kept |= {
        "kind": "predictive",
        "rise_celsius": _held("rise_celsius", rise),
        "time_constant_s": _held("time_constant_s", model.time_constant_s),
        # half a control step of a model's dead time is the hold's, which the law has of its own
        "dead_time_s": _held("dead_time_s", max(model.dead_time_s - 0.5 * float(law.period_s), 0.0)),
        "closed_loop_s": _held("closed_loop_s", closed_loop_s),
    }
    return Predictive.model_validate(kept)


def _own_ratio(law: Any) -> float:
    cool = getattr(law, "cool_rise_celsius", None)
    return 1.0 if cool is None else float(law.rise_celsius / cool)


def _held(key: str, value: float) -> float:
    """A value inside what the law takes, to as many digits as a person reads."""
    low, high, _ = bounds_of(Predictive.model_fields[key])
    return float(f"{min(max(value, low), high):.{DIGITS}g}")


def quickest(design: Design, process: Process, model: Model, ms_bound: float = MS_BOUND) -> Predictive:
    """The law of a model with the shortest closed-loop time at which Ms is within a bound; the longest where none is.

    Raises CalorError where the model settles nowhere.
    """
    period_s = float(design.law.period_s)
    shortest = max(QUICKEST_DEAD_TIMES * model.dead_time_s, QUICKEST_STEPS * period_s)
    longest = max(SLOWEST * (model.time_constant_s + model.dead_time_s), 2.0 * shortest)
    law = filled(design, model, longest, process.at.output)
    for pace in np.geomspace(shortest, longest, PACES):
        law = filled(design, model, float(pace), process.at.output)
        margins = margins_of(process, law)
        if margins.is_stable and margins.ms <= ms_bound:
            break
    return law


def refusal(design: Design, law: Predictive | None = None) -> str:
    """Why the design cannot have the law, as one of its trials needs what it has not; empty where it can."""
    action: Any = design.law.action
    own = Predictive(action=action, period_s=design.law.period_s) if law is None else law
    try:
        Design.model_validate({**dict(proportional(design)), "law": own})
    except ValidationError as error:
        return str(explain(error)[0])
    return ""


def row_of(design: Design, trials: tuple[Trial, ...], known: Known, ms_bound: float = MS_BOUND) -> Candidate | None:
    """The law as a row, run on some trials and judged; None where what is known makes none."""
    if known.model is None or known.model.kind == "integrating":
        return None
    law = quickest(design, known.process, known.model, ms_bound)
    if refusal(design, law):  # beside rows that do what this one could not
        return None
    note = "meets the setpoint soon, forgives load disturbances slowly"
    return tried(
        design, trials, known.process, PREDICTIVE, TITLE, SOURCE.format(bound=ms_bound), setting_of(law), True, note
    )
