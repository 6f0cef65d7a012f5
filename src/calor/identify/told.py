"""What a record tells and what it does not, in words: combinations that are told, warnings, the order recommended."""

from __future__ import annotations

import itertools
import math
from typing import TYPE_CHECKING

import numpy as np

from calor.identify.confidence import TOLD_SHARE, Confidence

if TYPE_CHECKING:
    from calor.compiled import Column
    from calor.identify.outcome import Fit, Number
    from calor.identify.search import Solution
    from calor.identify.task import Task

WORTH_IT = 0.85
"""A second order is worth its number where it leaves less than this share of what the first leaves."""
FOLLOWS = 0.9
ROUGHLY = 0.25
SUSPECT, SUSPECT_SWING, SUSPECT_ENDS, MOST_SUSPECT = 4.0, 0.04, 0.2, 0.3
"""A disturbance leaves so many times what is usual, and so much of the swing; it ends at this share of its most; it is
so much of the record at most."""
WORDS = {
    "rise_celsius": "rise", "time_constant_s": "time constant", "second_time_constant_s": "second time constant",
    "dead_time_s": "dead time", "rate_celsius_per_s": "rate", "drift_celsius_per_s": "drift",
    "ambient_celsius": "ambient",
}  # fmt: skip


UNITS = {
    "_celsius_per_s": "°C/s", "_w_per_k": "W/K", "_j_per_kg_k": "J/(kg·K)", "_j_per_k": "J/K", "_j_per_kg": "J/kg",
    "_celsius": "°C", "_watt": "W", "_kg": "kg", "_ohm": "Ω", "_v_per_k": "V/K", "_ampere": "A", "_m_per_s": "m/s",
    "_s": "s",
}  # fmt: skip


def unit_of(key: str) -> str:
    """The unit that a key names; empty where it names none."""
    return next((unit for end, unit in UNITS.items() if key.endswith(end)), "")


def correlation_in_words(autocorrelation: float) -> str:
    """What an autocorrelation of the residual means."""
    if autocorrelation < 0.3:
        return "like noise: the model has the record's shape"
    if autocorrelation < FOLLOWS:
        return "partly in waves: something small is not in the model"
    return "in long waves: the kind of model is not quite that of the load"


def only(task: Task, solution: Solution, confidence: Confidence, numbers: tuple[Number, ...], explains: bool) -> str:
    """What the record tells in place of the numbers it does not."""
    missing = [number.key for number in numbers if not number.is_told]
    named = ", ".join(WORDS.get(key, key) for key in missing)
    if not explains:
        return f"nothing: the model does not explain this record, and its {named} mean little"
    natural = dict(zip([item.key for item in task.free], task.natural(solution.values).tolist(), strict=True))
    black = "time_constant_s" in natural and "rise_celsius" in natural
    if black:
        said = _of_black_box(task, solution, confidence, natural, missing)
        if said:
            return said
    pairs = _pairs(task, solution, confidence, natural, missing)
    if pairs:
        return f"only {pairs}; hold one of them to tell the others"
    halves = {number.key: _half_share(number) for number in numbers if not number.is_told}
    if all(half < ROUGHLY for half in halves.values()):
        return ", ".join(f"{WORDS.get(key, key)} only to ± {100.0 * half:.2g} %" for key, half in halves.items())
    if len(missing) == 1:
        return f"{named} is not told; the others are"
    return f"{named} are not told apart: what one has too much another makes good; hold one of them"


def _half_share(number: Number) -> float:
    """Half the interval as a share of the value."""
    return 0.5 * (number.high - number.low) / max(abs(number.value), 1e-300)


def _of_black_box(
    task: Task, solution: Solution, confidence: Confidence, natural: dict[str, float], missing: list[str]
) -> str:
    keys = [item.key for item in task.free]
    direction = np.zeros(task.size)
    rise, tau = natural["rise_celsius"], natural["time_constant_s"]
    # the logarithm of rise over time constant: the rise is varied as it is, the time constant by its logarithm
    direction[keys.index("rise_celsius")] = 1.0 / rise if rise else 0.0
    direction[keys.index("time_constant_s")] = -1.0
    if {"rise_celsius", "time_constant_s"} & set(missing) and confidence.half_width(direction) <= 0.1:
        half = confidence.half_width(direction)
        better = half < 0.5 * _relative(confidence, task, solution, "time_constant_s")
        if better:
            slope = rise / tau
            return f"only the slope, rise over time constant: {slope:.4g} °C/s (± {100.0 * half:.2g} %)"
    if {"dead_time_s", "second_time_constant_s"} & set(missing) and "second_time_constant_s" in natural:
        both = np.zeros(task.size)
        both[keys.index("second_time_constant_s")] = natural["second_time_constant_s"]
        both[keys.index("dead_time_s")] = 1.0
        late = natural["second_time_constant_s"] + natural["dead_time_s"]
        half = confidence.half_width(both)
        if half <= 0.1 * late:
            return f"only the sum of dead time and second time constant: {late:.3g} s (± {half:.2g} s)"
    ambient_at = task.ambient_at[0]
    if ambient_at >= 0 and "ambient_celsius" in missing:
        level = _mean_level(task)
        settles = np.zeros(task.size)
        settles[keys.index("rise_celsius")], settles[ambient_at] = level, 1.0
        half = confidence.half_width(settles)
        if half < 1.0:
            where = float(solution.values[ambient_at]) + level * rise
            return f"only where the mean output of {100.0 * level:.3g} % holds it: {where:.4g} °C (± {half:.2g} °C)"
    return ""


def _mean_level(task: Task) -> float:
    record = task.records[0]
    edge_s, level = record.edges(0.0)
    inside = np.maximum(edge_s, record.time_s[0])
    lengths = np.diff(np.append(inside, record.time_s[-1]))
    return float((level * np.maximum(lengths, 0.0)).sum() / max(lengths.sum(), 1e-9))


def _relative(confidence: Confidence, task: Task, solution: Solution, key: str) -> float:
    k = next(k for k, item in enumerate(task.free) if item.key == key)
    unit = np.zeros(task.size)
    unit[k] = 1.0 if task.free[k].logarithmic else 1.0 / max(abs(float(solution.values[k])), 1e-300)
    return confidence.half_width(unit)


def _pairs(
    task: Task, solution: Solution, confidence: Confidence, natural: dict[str, float], missing: list[str]
) -> str:
    """The ratio or product of two numbers that is told where neither is; the best one."""
    keys = [item.key for item in task.free]
    best: tuple[float, str] | None = None
    for one, other in itertools.combinations([key for key in missing if key in natural], 2):
        for sign, word in ((-1.0, "/"), (1.0, "·")):
            direction = np.zeros(task.size)
            for key, factor in ((one, 1.0), (other, sign)):
                k = keys.index(key)
                direction[k] = factor if task.free[k].logarithmic else factor / max(abs(natural[key]), 1e-300)
            half = confidence.half_width(direction)
            value = natural[one] * natural[other] ** sign
            if half <= TOLD_SHARE and (best is None or half < best[0]):
                best = half, f"{one} {word} {other}: {value:.4g} (± {100.0 * half:.2g} %)"
    return "" if best is None else best[1]


def warnings_of(
    task: Task, solution: Solution, confidence: Confidence, explains: bool, movement: float, kept_back: float | None
) -> list[str]:
    """What to know before a fit is believed, a line each."""
    warnings = [
        f"{record.name}: {record.thinned_from:,} rows thinned to {record.rows:,} for the fit".replace(",", " ")
        for record in task.records
        if record.is_thinned
    ]
    if not explains:
        warnings.append(
            f"the model does not explain this record: {solution.rms_celsius:.2g} °C rms are left of a movement of"
            f" {movement:.2g} °C; was something else going on, or is it another load?"
        )
    elif confidence.autocorrelation >= FOLLOWS:
        warnings.append(
            "the residual follows itself in long waves: trust it more than the intervals; another order, or a"
            " disturbance left out, may do better"
        )
    if kept_back is not None and kept_back > max(3.0 * solution.rms_celsius, 0.02 * movement):
        warnings.append(
            f"on the part kept back a fit of the first part is {kept_back:.2g} °C rms off: it does not predict"
        )
    if any(record.stretches[0].is_cold and not len(record.change_s) for record in task.records):
        warnings.append("the output is the same throughout: taken as switched on, from rest, at the first row")
    if any(surroundings.source == "fit" for surroundings in task.around):
        warnings.append("the ambient was fitted too: a column of it, a start from rest, or its value tells more")
    if task.share_before > 0.0 and any(len(r.change_s) and not r.is_thinned for r in task.records):
        warnings.append("changes of the output were put half-way between the rows that show them")
    return warnings


def suspect(task: Task, left: list[Column]) -> tuple[int, float, float] | None:
    """(record, begin s, end s) of a stretch that the model misses by far more than the rest, where there is one."""
    for number, (record, part) in enumerate(zip(task.records, left, strict=True)):
        rows = np.flatnonzero(np.isfinite(part))
        if len(rows) < 20:
            continue
        size = np.abs(part[rows])
        top = int(np.argmax(size))
        swing = float(np.ptp(record.celsius[rows]))
        if size[top] < max(SUSPECT * float(np.median(size)), SUSPECT_SWING * swing):
            continue
        sign = np.sign(part[rows[top]])
        out = (size > SUSPECT_ENDS * size[top]) & (np.sign(part[rows]) == sign)
        begin = top - int(np.argmin(out[: top + 1][::-1])) if not out[: top + 1].all() else -1
        end = top + int(np.argmin(out[top:])) if not out[top:].all() else len(rows)
        if end - begin - 1 < 3 or end - begin > MOST_SUSPECT * len(rows):
            continue
        return number, float(record.time_s[rows[max(begin, 0)]]), float(record.time_s[rows[min(end, len(rows) - 1)]])
    return None


def recommended(fits: dict[str, Fit]) -> tuple[str, str]:
    """(the order that is recommended, why) of an integrating, a first- and a second-order fit."""
    integrating, first, second = fits["integrating"], fits["1"], fits["2"]
    if not any(fit.explains for fit in fits.values()):
        return "1", "first order, as none of them explains this record; perhaps the design's own load does"
    better = second.residual_rms_celsius < WORTH_IT * first.residual_rms_celsius
    predicts = (second.kept_back_rms_celsius or 0.0) <= 1.1 * (first.kept_back_rms_celsius or math.inf)
    if better and predicts:
        share = 100.0 * (1.0 - second.residual_rms_celsius / max(first.residual_rms_celsius, 1e-12))
        return "2", f"second order: it leaves {share:.0f} % less than first order"
    straight = integrating.residual_rms_celsius <= 1.03 * first.residual_rms_celsius
    if straight and integrating.explains and not first.number("time_constant_s").is_told:
        return "integrating", "integrating: the record never bends to where it would settle, and tells the slope alone"
    if not better:
        return "1", "first order: a second time constant leaves hardly less"
    return "1", "first order: a second one fits better and predicts worse"


def in_words(number: Number) -> str:
    """A fitted number as text: its value with as many digits as it is known to."""
    half = 0.5 * (number.high - number.low)
    digits = 4
    if math.isfinite(half) and half > 0.0:
        digits = max(min(int(math.log10(max(abs(number.value) / half, 1.0))) + 2, 6), 2)
    unit = unit_of(number.key)
    return f"{float(f'{number.value:.{digits}g}'):.8g}{f' {unit}' if unit else ''}"
