"""What there is to choose in a law without gains, each choice run on the trial: hysteresis against wear, a fan's curve
against temperature and noise.

A fan's sound power goes with the fifth power of its speed (fan laws, 50 dB for ten times the speed; common practice);
its speed is taken as its output.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any, NamedTuple

import numpy as np

from calor import loop
from calor.design.edit import with_values
from calor.design.model import Design
from calor.design.trial import Trial
from calor.errors import CalorError
from calor.judge.verdict import Verdict, judge
from calor.law.fan_curve import FanCurve
from calor.law.on_off import OnOff, thresholds_celsius
from calor.law.stages import Stages
from calor.loop.trace import Trace
from calor.tune.table import THREADS

FACTORS = (0.25, 0.5, 0.75, 1.0, 1.5, 2.0, 4.0)
NOISE_POWER = 5.0
HOUR_S = 3600.0


class Choice(NamedTuple):
    """One choice: what is set, in °C, by which factor that differs from the design's own, the design with it, and what
    it does on the trial.

    `peak_celsius` is the highest reading, the lowest of a fan that heats; `noise_db` is a fan's mean sound below that
    at full output, None for others, −inf where it never runs.
    """

    width_celsius: float
    factor: float
    design: Design
    verdict: Verdict
    peak_celsius: float | None
    mean_output: float
    noise_db: float | None
    starts_per_hour: float
    contact_days: float | None


def what_of(design: Design) -> str:
    """What is chosen in the design's law, in a word or two; empty where nothing is."""
    law = design.law
    if isinstance(law, OnOff | Stages):
        return "Hysteresis"
    return "Start to full" if isinstance(law, FanCurve) else ""


def has_gains(design: Design) -> bool:
    """Whether gains are what there is to find: a fan curve has a width in their place."""
    return not isinstance(design.law, FanCurve)


def choices(design: Design, trial: Trial, watch: Callable[[float], None] = lambda share: None) -> list[Choice]:
    """Every choice that the law takes, from the narrowest on. `watch` is told the share done, and may raise.

    Raises CalorError where the law has none.
    """
    if not what_of(design):
        raise CalorError(
            "law", f"{design.law.kind} has no hysteresis and no curve to choose", "", "see its gains in the table"
        )
    made = [(factor, *one) for factor in FACTORS if (one := _changed(design, factor)) is not None]
    done = 0

    def work(one: tuple[float, float, Design]) -> Choice:
        nonlocal done
        factor, width, other = one
        found = _tried(other, trial, width, factor)
        done += 1
        watch(done / len(made))
        return found

    with ThreadPoolExecutor(THREADS) as pool:
        return list(pool.map(work, made))


def _changed(design: Design, factor: float) -> tuple[float, Design] | None:
    """(width in °C, design) with the law's hysteresis or curve so many times as wide; None where it cannot be."""
    law: Any = design.law
    if isinstance(law, OnOff):
        on, off = thresholds_celsius(law, design.setpoint.celsius)
        width = _short(abs(on - off) * factor)
        values: dict[str, Any] = {"hysteresis_celsius": width}
        if law.start_celsius is not None:
            middle, half = 0.5 * (on + off), 0.5 * width * (1.0 if off > on else -1.0)
            values = {"start_celsius": middle - half, "stop_celsius": middle + half}
    elif isinstance(law, Stages):
        width = _short(law.hysteresis_celsius * factor)
        values = {"hysteresis_celsius": width}
    elif law.points:
        first = law.points[0][0] if law.action == "cool" else law.points[-1][0]
        width = _short(abs(law.points[-1][0] - law.points[0][0]) * factor)
        values = {"points": [(first + (celsius - first) * factor, output) for celsius, output in law.points]}
    else:
        width = _short(abs(law.full_celsius - law.start_celsius) * factor)
        side = 1.0 if law.full_celsius > law.start_celsius else -1.0
        values = {"full_celsius": law.start_celsius + side * width}
    if width <= 0.0:
        return None
    if factor == 1.0:
        return width, design
    try:
        own = with_values(law, values)
    except ValueError:  # a width that the law does not take
        return None
    return width, design.model_copy(update={"law": own})


def _short(value: float) -> float:
    return float(f"{value:.3g}")


def _tried(design: Design, trial: Trial, width: float, factor: float) -> Choice:
    trace = loop.run(design, trial)
    verdict = judge(trace, design.limits)
    given = np.abs(np.nan_to_num(trace.outputs[0].delivered if trace.outputs else trace.delivered))
    is_fan = isinstance(design.law, FanCurve)
    noise = None
    if is_fan:
        power = float(np.mean(np.clip(given, 0.0, 1.0) ** NOISE_POWER))
        noise = 10.0 * math.log10(power) if power > 0.0 else -math.inf
    life = getattr(design.drive, "contact_life_cycles", None)
    cycles_per_hour = 0.5 * verdict.metrics.switchings_per_hour
    days = float(life) / cycles_per_hour / 24.0 if life and cycles_per_hour > 0.0 else None
    metrics = verdict.metrics
    furthest = metrics.lowest_celsius if is_fan and design.law.action == "heat" else metrics.peak_celsius
    return Choice(width, factor, design, verdict, furthest, float(given.mean()), noise, _starts(trace), days)


def _starts(trace: Trace) -> float:
    """How often an hour the output starts."""
    runs = np.max([output.demand for output in trace.outputs], axis=0) if trace.outputs else np.abs(trace.demand)
    running = np.nan_to_num(runs) > 0.0
    return float(np.count_nonzero(running[1:] & ~running[:-1])) / max(trace.span_s, 1e-9) * HOUR_S


def data_of(choice: Choice) -> dict[str, Any]:
    """A choice as plain data."""
    metrics = choice.verdict.metrics
    return {
        "width_celsius": choice.width_celsius,
        "factor": choice.factor,
        "peak_celsius": choice.peak_celsius,
        "ripple_celsius": metrics.settled_ripple_celsius,
        "mean_output": choice.mean_output,
        "noise_db": choice.noise_db if choice.noise_db is not None and math.isfinite(choice.noise_db) else None,
        "starts_per_hour": choice.starts_per_hour,
        "switchings_per_hour": metrics.switchings_per_hour,
        "contact_days": choice.contact_days,
        "pass": choice.verdict.outcome,
    }
