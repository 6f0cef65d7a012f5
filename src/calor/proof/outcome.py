"""What came of one run of a proof: its figures against the design's limits, and at a fault against what is safe."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any, NamedTuple

import numpy as np

from calor.design.model import Design
from calor.design.proof import Safe
from calor.design.trial import Trial
from calor.judge.verdict import AT_LEAST, LIMIT_TITLES, Judged, figure_text, judge
from calor.law.guard import limits_celsius
from calor.loop.trace import Flag, Trace
from calor.proof.plan import FAULT, Case
from calor.units import TemperatureUnit, format_duration, format_temperature

SAFE_TITLES = {key: str(field.title) for key, field in Safe.model_fields.items()}
TITLES = {**LIMIT_TITLES, **{f"safe.{key}": title for key, title in SAFE_TITLES.items()}}
"""What each limit is called: those of [limits], and those of [proof.safe] by "safe." and their key."""
BEYOND_GUARD_CELSIUS, BEYOND_SETPOINT_CELSIUS = 5.0, 10.0
"""Where a design names no temperatures for faults: so far beyond its guards, else beyond its setpoint's limits."""
WHOLLY_BEYOND = -1.0


class Outcome(NamedTuple):
    """What came of a run.

    `passes`: some limit is judged and all are kept. `at_s` is when its fault came. `limits` are what the run is judged
    by; `others` the design's ordinary limits beside a fault, which do not decide. `highest_celsius` and when, of the
    load where the probe sits; `ended_by` is the guard that acted after a fault, empty where none did, `ended_s` how
    long after it; `off_s` from when after a fault the outputs are off for good, None: never; `end_share` the mean
    output of the last tenth. `told` are the guards' own words. `failed` is what ended the run, where it could not go
    on; `energy_wh` what it took, None where that is not known.
    """

    number: int
    passes: bool
    limits: tuple[Judged, ...]
    others: tuple[Judged, ...] = ()
    highest_celsius: float = math.nan
    highest_at_s: float = math.nan
    lowest_celsius: float = math.nan
    ended_by: str = ""
    ended_s: float | None = None
    off_s: float | None = None
    end_share: float = math.nan
    told: tuple[str, ...] = ()
    cut_out_s: float | None = None
    failed: str = ""
    at_s: float = 0.0
    energy_wh: float | None = None

    @property
    def is_judged(self) -> bool:
        """Whether any limit decided, or it could not go on; else it neither passes nor fails."""
        return bool(self.limits) or bool(self.failed)


def is_at_least(name: str) -> bool:
    """Whether a figure must not go below a limit; else it must not go above."""
    return name in AT_LEAST or name == "safe.lowest_celsius"


def margin_of(limit: Judged) -> float:
    """The share of the limit by which it is kept; below 0 missed, −1 where the figure never came.

    Of a temperature that is to be kept at a fault it is the share of what lies between it and freezing, at least 10 °C.
    """
    if limit.value is None:
        return WHOLLY_BEYOND
    kept = limit.value - limit.limit if is_at_least(limit.name) else limit.limit - limit.value
    least = 10.0 if limit.name.startswith("safe.") and limit.name.endswith("_celsius") else 1e-9
    return kept / max(abs(limit.limit), least)


def shown(name: str, value: float | None, unit: TemperatureUnit = "°C") -> str:
    """A figure of a limit in words."""
    if not name.startswith("safe."):
        return figure_text(name, value, unit)
    if value is None:
        return "never"
    if name.endswith("_celsius"):
        return format_temperature(unit, value)
    return f"{value:.1f} Wh" if name.endswith("_wh") else format_duration(value)


def safe_limits(design: Design) -> dict[str, float]:
    """The limits that a fault is judged by: those of [proof.safe]; where it names no temperature, what the thing must
    not do is taken.

    Nothing may become too hot: 5 °C above the guard's cut-out, else above the highest alarm, else (where the law cools)
    above limits.peak_celsius, else 10 °C above the setpoint's high limit, else above the setpoint. Too cold is as far
    below the low cut-out, the lowest alarm, the setpoint's low limit; where the law cools, also the setpoint. Where the
    law heats, and nothing says how cold it may become, off is safe.
    """
    given = {key: float(value) for key, value in design.proof.safe if value is not None}
    limits = dict(given)
    action = design.law.action
    if "highest_celsius" not in given:
        limits["highest_celsius"] = _too_hot(design, cools=action == "cool")
    if "lowest_celsius" not in given and "highest_celsius" not in given:
        lowest = _too_cold(design, is_known=action == "heat")
        if lowest is not None:
            limits["lowest_celsius"] = lowest
    return {key: limits[key] for key in SAFE_TITLES if key in limits}


def _too_hot(design: Design, cools: bool) -> float:
    _, high = limits_celsius(design.guard, design.law.action)
    alarms = [one.celsius for one in design.guard.alarms if one.kind == "high"]
    peak = design.limits.peak_celsius
    if math.isfinite(high):
        return high + BEYOND_GUARD_CELSIUS
    if cools and (alarms or peak is not None):
        return float(max(alarms) if alarms else peak or 0.0) + BEYOND_GUARD_CELSIUS
    edge = design.setpoint.high_limit_celsius
    return float(design.setpoint.celsius if edge is None else edge) + BEYOND_SETPOINT_CELSIUS


def _too_cold(design: Design, is_known: bool) -> float | None:
    """`is_known`: only what the design says itself, not what its setpoint lets guess."""
    low, _ = limits_celsius(design.guard, design.law.action)
    alarms = [one.celsius for one in design.guard.alarms if one.kind == "low"]
    if math.isfinite(low) or (alarms and is_known):
        return float(low if math.isfinite(low) else min(alarms)) - BEYOND_GUARD_CELSIUS
    edge = design.setpoint.low_limit_celsius
    if edge is None and is_known:
        return None
    return float(design.setpoint.celsius if edge is None else edge) - BEYOND_SETPOINT_CELSIUS


def is_broken_by(name: str, limit: float, healthy: Outcome) -> bool:
    """Whether the run as designed breaks a safe limit, which then tells nothing of a fault."""
    value = getattr(healthy, name, None)
    if value is None:
        return False
    return bool(value < limit if name == "lowest_celsius" else value > limit)


def outcome_of(
    design: Design, case: Case, trial: Trial, trace: Trace, cut_out_s: float | None, healthy: Outcome | None = None
) -> Outcome:
    """What came of a run that was made; `cut_out_s` is when the independent part took the power away.

    A safe limit that the run as designed breaks, by `healthy`, is not used. Where nothing is judged, it does not pass.
    """
    ordinary = judge(trace, design.limits).limits
    top = int(trace.true_celsius.argmax())
    highest, lowest, energy_wh = float(trace.true_celsius[top]), float(trace.true_celsius.min()), _energy_wh(trace)
    common: dict[str, Any] = {
        "highest_celsius": highest, "highest_at_s": float(trace.time_s[top]), "lowest_celsius": lowest,
        "cut_out_s": cut_out_s, "at_s": case.at_s, "energy_wh": energy_wh,
    }  # fmt: skip
    if case.kind != FAULT or case.fault is None:
        return Outcome(case.number, _all_kept(ordinary), ordinary, **common)
    off_s = _off_s(trace, case.at_s)
    figures = {
        "highest_celsius": highest, "lowest_celsius": lowest, "energy_wh": energy_wh, "off_within_s": off_s,
    }  # fmt: skip
    judged = []
    for key, limit in safe_limits(design).items():
        if key == "off_within_s" and not case.fault.ends_in_off:
            continue
        if healthy is not None and is_broken_by(key, limit, healthy):
            continue
        name, value = f"safe.{key}", figures[key]
        if key == "energy_wh" and value is None:
            continue
        keeps = value is not None and (value >= limit if is_at_least(name) else value <= limit)
        judged.append(Judged(name, limit, value, bool(keeps)))
    ended_by, ended_s, told = _answer(trace, case.at_s)
    late = trace.time_s >= case.at_s + 0.9 * (trial.span_s - case.at_s)
    end_share = float(np.abs(trace.delivered[late]).mean()) if late.any() else math.nan
    return Outcome(
        case.number, _all_kept(judged), tuple(judged), ordinary, **common,
        ended_by=ended_by, ended_s=ended_s, off_s=off_s, told=told, end_share=end_share,
    )  # fmt: skip


def _all_kept(limits: Sequence[Judged]) -> bool:
    return bool(limits) and all(one.passes for one in limits)


def ended(design: Design, case: Case, why: str) -> Outcome:
    """A run that could not go on to its end, as where the load boils away: every limit it is judged by is missed."""
    if case.kind == FAULT:
        judged = tuple(Judged(f"safe.{key}", limit, None, False) for key, limit in safe_limits(design).items())
    else:
        given = {name: getattr(design.limits, name) for name in LIMIT_TITLES}
        judged = tuple(Judged(name, float(limit), None, False) for name, limit in given.items() if limit is not None)
    return Outcome(case.number, False, judged, failed=why)


def _energy_wh(trace: Trace) -> float | None:
    if trace.power_watt is None:
        return None
    return float((trace.power_watt * trace.durations_s()).sum() / 3600.0)


def _off_s(trace: Trace, at_s: float) -> float | None:
    """How long after an instant all outputs are off for good; None where they never are."""
    given = np.zeros(trace.steps, np.bool_)
    for column in [output.delivered for output in trace.outputs] or [trace.delivered]:
        given |= column > 0.0
    rows = np.flatnonzero(given)
    if not len(rows):
        return 0.0
    if rows[-1] == trace.steps - 1:
        return None
    return max(0.0, float(trace.time_s[rows[-1] + 1]) - at_s)


def after(delay_s: float) -> str:
    """A delay in words, to be put behind what came after it."""
    return f" after {format_duration(delay_s)}" if delay_s >= 0.05 else " at once"


_GUARDS = ((Flag.CUT_OUT, "cut-out"), (Flag.TRIPPED, "alarm that trips"), (Flag.PROBE_FAULT, "probe fault"))


def _answer(trace: Trace, at_s: float) -> tuple[str, float | None, tuple[str, ...]]:
    """Which guard answered a fault, how long after it, and what the guards told."""
    first: tuple[float, str] | None = None
    flags = trace.whole_flags
    for flag, name in _GUARDS:
        rows = np.flatnonzero(flags & flag) if len(flags) == trace.steps else np.empty(0, np.int64)
        rows = rows[trace.time_s[rows] >= at_s] if len(rows) else rows
        if len(rows):
            at = float(trace.time_s[rows[0]]) - at_s
            if first is None or at < first[0]:
                first = (at, name)
    told = tuple(
        f"{event.text}{after(event.at_s - at_s)}"
        for event in trace.events
        if event.kind in ("probe_fault", "cut_out", "alarm") and event.at_s >= at_s
    )[:3]
    return (first[1], first[0], told) if first is not None else ("", None, told)
