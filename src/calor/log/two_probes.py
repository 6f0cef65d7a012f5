"""Two probes of one thing, from a log: offset, gain, lag, and whether their difference follows the output.

The second probe is taken as offset + gain·(the first, some time ago). The lag that leaves the least squared residual is
found over a grid and refined by a parabola. A ground shift shows as a step of the difference at the instants at which
the output switches, where the temperatures themselves cannot step. Source: least squares, any textbook; that a step
locked to the output is a ground shift is common practice.
"""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from calor.compiled import Column
from calor.errors import LogError
from calor.log import read as logs
from calor.log.columns import temperature_unit
from calor.units import to_celsius

FEWEST_ROWS = 20
FEWEST_EDGES = 4


class Comparison(NamedTuple):
    """How the second probe differs from the first. What the log cannot tell is NaN, and `why` says why.

    offset_celsius     second less first, where the first shows the middle of its range
    gain               how much the second moves for 1 °C of the first
    lag_s              how much later the second follows; below 0: earlier
    residual_celsius   standard deviation of what these do not explain
    step_celsius       mean step of the difference when the output goes on
    step_error_celsius standard error of it
    """

    offset_celsius: float
    at_celsius: float
    gain: float
    lag_s: float
    residual_celsius: float
    step_celsius: float
    step_error_celsius: float
    edges: int
    why: str

    @property
    def follows_output(self) -> bool | None:
        """Whether the difference steps with the output; None where there were too few switchings to tell."""
        if self.edges < FEWEST_EDGES or not math.isfinite(self.step_celsius):
            return None
        return abs(self.step_celsius) > 3.0 * self.step_error_celsius and abs(self.step_celsius) > 0.01


def compare(time_s: Column, first: Column, second: Column, output: Column | None = None) -> Comparison:
    """Two columns of readings in °C at `time_s`, and the recorded output where there is one.

    Raises ValueError where there are fewer than 20 rows in which both read.
    """
    known = np.isfinite(time_s) & np.isfinite(first) & np.isfinite(second)
    if known.sum() < FEWEST_ROWS:
        raise ValueError(f"has {int(known.sum())} rows in which both probes read; at least {FEWEST_ROWS} are needed")
    time_s, first, second = time_s[known], first[known], second[known]
    output = None if output is None else output[known]
    pace_s = float(np.median(np.diff(time_s)))
    swing = float(np.ptp(first))
    noise = float(np.std(np.diff(first)) / math.sqrt(2.0))
    middle = 0.5 * float(first.min() + first.max())
    step, error, edges = _step(first, second, output)
    if swing < max(6.0 * noise, 0.2):
        offset = float(np.mean(second - first))
        residual = float(np.std(second - first))
        why = "the temperature hardly moves in this log: it tells an offset, and no gain or lag"
        return Comparison(offset, middle, math.nan, math.nan, residual, step, error, edges, why)
    longest_s = min(0.1 * float(time_s[-1] - time_s[0]), 600.0)
    lags = np.linspace(-longest_s, longest_s, 401)
    costs = np.array([_fit(time_s, first, second, lag, longest_s)[2] for lag in lags])
    best = int(np.argmin(costs))
    lag = float(lags[best])
    for _ in range(2):
        # around the best one ever closer, then the bottom of a parabola through three
        near = np.linspace(lag - (lags[1] - lags[0]), lag + (lags[1] - lags[0]), 21)
        costs = np.array([_fit(time_s, first, second, at, longest_s)[2] for at in near])
        best = int(np.argmin(costs))
        lag, lags = float(near[best]), near
    if 0 < best < len(costs) - 1:
        left, here, right = costs[best - 1 : best + 2]
        bend = left - 2.0 * here + right
        lag += float(0.5 * (left - right) / bend * (lags[1] - lags[0])) if bend > 0.0 else 0.0
    level, gain, cost = _fit(time_s, first, second, lag, longest_s)
    why = "" if abs(lag) < 0.98 * longest_s else "the lag is longer than this log can tell"
    if abs(lag) < 0.02 * pace_s:
        lag = 0.0
    return Comparison(
        level + (gain - 1.0) * middle, middle, gain, lag, math.sqrt(cost), step, error, edges, why
    )  # fmt: skip


def _fit(time_s: Column, first: Column, second: Column, lag_s: float, margin_s: float) -> tuple[float, float, float]:
    """(level, gain, mean square residual) of second on first as it was `lag_s` ago, away from the log's ends."""
    inside = (time_s >= time_s[0] + margin_s) & (time_s <= time_s[-1] - margin_s)
    ago = np.interp(time_s[inside] - lag_s, time_s, first)
    middle = float(ago.mean())
    gain, level = np.polyfit(ago - middle, second[inside], 1)
    residual = second[inside] - level - gain * (ago - middle)
    return float(level - gain * middle), float(gain), float(np.mean(residual**2))


def _step(first: Column, second: Column, output: Column | None) -> tuple[float, float, int]:
    """(mean step of the difference as the output goes on, its standard error, switchings looked at)."""
    if output is None or not np.isfinite(output).any():
        return math.nan, math.nan, 0
    on = np.nan_to_num(output) > 0.5
    edges = np.flatnonzero(on[1:] != on[:-1]) + 1
    edges = edges[(edges >= 3) & (edges <= len(first) - 4)]
    if len(edges) < FEWEST_EDGES:
        return math.nan, math.nan, len(edges)
    apart = second - first
    steps = []
    for edge in edges:
        # a step beside the slope that the difference has of its own: two rows each side, carried to the edge
        before, after = apart[edge - 3 : edge], apart[edge + 1 : edge + 4]
        if (on[edge - 3 : edge] == on[edge - 1]).all() and (on[edge + 1 : edge + 4] == on[edge]).all():
            sign = 1.0 if on[edge] else -1.0
            drift = 0.5 * ((before[-1] - before[0]) / 2.0 + (after[-1] - after[0]) / 2.0)
            steps.append(sign * (float(after.mean() - before.mean()) - 4.0 * drift))
    if len(steps) < FEWEST_EDGES:
        return math.nan, math.nan, len(steps)
    return float(np.mean(steps)), float(np.std(steps, ddof=1) / math.sqrt(len(steps))), len(steps)


def compare_log(path: Path) -> dict[str, Any]:
    """Two probes in the log at `path`, with the names of their columns. Raises LogError where there are not two."""
    time_s, columns, output = logs.read_temperatures(path)
    if len(columns) < 2:
        raise LogError(
            f"{path}: has {len(columns)} column of temperatures (received {', '.join(columns) or 'none'});"
            " two are needed, named first_celsius and second_celsius for example"
        )
    names = list(columns)[:2]
    first, second = (to_celsius(temperature_unit(name), columns[name]) for name in names)
    try:
        found = compare(time_s, first, second, output)
    except ValueError as error:
        raise LogError(f"{path}: {error}") from None

    def plain(value: float) -> float | None:
        return value if math.isfinite(value) else None

    follows = found.follows_output
    verdict = {
        True: f"the difference steps by {found.step_celsius:.3g} °C as the output goes on: look for a ground shift",
        False: "the difference does not follow the output",
        None: "too few switchings to tell whether the difference follows the output",
    }[follows]
    return {
        "first": names[0].strip(),
        "second": names[1].strip(),
        "offset_celsius": found.offset_celsius,
        "at_celsius": found.at_celsius,
        "gain": plain(found.gain),
        "lag_s": plain(found.lag_s),
        "residual_celsius": found.residual_celsius,
        "output_step_celsius": plain(found.step_celsius),
        "output_step_error_celsius": plain(found.step_error_celsius),
        "switchings": found.edges,
        "follows_output": follows,
        "note": "; ".join(text for text in (found.why, verdict) if text),
    }
