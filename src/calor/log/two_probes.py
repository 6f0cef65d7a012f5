"""Two probes of one thing, from a log: offset, gain, lag, and whether their difference follows the output.

The second probe is taken as offset + gain·(the first, some time ago) + a step with the output, where there is one.
The lag that leaves the least squared residual is found over a grid and refined by a parabola. A step with the output
that is well above its standard error is a ground shift: temperatures cannot step. A lag and a step look alike where
the temperature rises and falls evenly, and then the standard errors are large. Source: least squares with the standard
errors of its linearisation, residuals correlated by their first autocorrelation (any textbook); that a step locked to
the output is a ground shift is common practice.
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
from calor.units import TemperatureUnit, format_difference, to_celsius

FEWEST_ROWS = 60
FEWEST_EDGES = 4
AS_GOOD = 1.04
SMOOTHING = np.exp(-0.5 * (np.arange(-9, 10) / 3.0) ** 2)
SMOOTHING /= SMOOTHING.sum()
SMALLEST_STEP_CELSIUS = 0.03


class Comparison(NamedTuple):
    """How the second probe differs from the first. What the log cannot tell is NaN, and `why` says why.

    offset_celsius     second less first, where the first shows the middle of its range
    gain               how much the second moves for 1 °C of the first
    lag_s              how much later the second follows; below 0: earlier
    residual_celsius   standard deviation of what these do not explain
    lag_error_s        standard error of it
    step_celsius       step of the difference when the output goes on
    step_error_celsius standard error of it
    """

    offset_celsius: float
    at_celsius: float
    gain: float
    lag_s: float
    lag_error_s: float
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
        return abs(self.step_celsius) > max(4.0 * self.step_error_celsius, SMALLEST_STEP_CELSIUS)


def compare(time_s: Column, first: Column, second: Column, output: Column | None = None) -> Comparison:
    """Two columns of readings in °C at `time_s`, and the recorded output where there is one.

    Raises ValueError where there are fewer than 60 rows in which both read.
    """
    known = np.isfinite(time_s) & np.isfinite(first) & np.isfinite(second)
    if known.sum() < FEWEST_ROWS:
        raise ValueError(f"has {int(known.sum())} rows in which both probes read; at least {FEWEST_ROWS} are needed")
    time_s, first, second = time_s[known], first[known], second[known]
    output = None if output is None else output[known]
    swing = float(np.ptp(first))
    noise = float(np.std(np.diff(first)) / math.sqrt(2.0))
    middle = 0.5 * float(first.min() + first.max())
    on = None if output is None or not np.isfinite(output).any() else (np.nan_to_num(output) > 0.5).astype(float)
    edges = 0 if on is None else int(np.count_nonzero(on[1:] != on[:-1]))
    on = on if edges >= FEWEST_EDGES else None
    if swing < max(6.0 * noise, 0.2):
        coefficients = _solved(second - first, [np.ones_like(first), *([] if on is None else [on])])
        step, error = (
            (math.nan, math.nan) if on is None else (float(coefficients.values[1]), float(coefficients.errors[1]))
        )
        why = "the temperature hardly moves in this log: it tells an offset, and no gain or lag"
        offset = float(np.mean(second - first))
        return Comparison(offset, middle, math.nan, math.nan, math.nan, coefficients.residual, step, error, edges, why)
    # all alike smoothed: a reading between two noisy ones is quieter than they are, which would draw the lag there
    reach = (len(SMOOTHING) - 1) // 2
    time_s = time_s[reach : len(time_s) - reach]
    first, second = (np.convolve(column, SMOOTHING, "valid") for column in (first, second))
    on = None if on is None else np.convolve(on, SMOOTHING, "valid")
    longest_s = min(0.1 * float(time_s[-1] - time_s[0]), 600.0)

    def cost(lag_s: float) -> float:
        # below a thousandth of a degree no log tells one fit from another
        return math.hypot(_fit(time_s, first, second, on, lag_s, longest_s, middle).residual, 1e-3)

    pace_s = float(np.median(np.diff(time_s)))
    coarse_s = longest_s / 100.0
    # where the output switches, the least lies in a narrow valley: the finer grids reach well beyond it
    lag, wide_s = 0.0, 0.0
    for reach_s, step_s in ((longest_s, coarse_s), (3.0 * coarse_s, 0.25 * pace_s), (0.5 * pace_s, 0.02 * pace_s)):
        lags = lag + np.arange(-reach_s, reach_s + 0.5 * step_s, step_s)
        costs = np.array([cost(at) for at in lags])
        as_good = lags[costs <= AS_GOOD * costs.min()]
        lag, wide_s = (
            float(lags[int(np.argmin(costs))]),
            max(wide_s, float(np.ptp(as_good)) if step_s < coarse_s else 0.0),
        )
    why = "" if abs(lag) < 0.98 * longest_s else "the lag is longer than this log can tell"
    if cost(0.0) <= AS_GOOD * cost(lag) and wide_s > 0.5 * coarse_s:
        lag, why = 0.0, "this log cannot tell a lag from an offset: taken as none"
    fitted = _fit(time_s, first, second, on, lag, longest_s, middle)
    errors = _fit(time_s, first, second, on, lag, longest_s, middle, with_lag=True).errors
    gain = float(fitted.values[1])
    # where a lag further off is nearly as good, the linearisation knows only one of the two
    doubt = max(1.0, wide_s / max(float(errors[-1]), 1e-9) / 2.0)
    step, error = (math.nan, math.nan) if on is None else (float(fitted.values[2]), doubt * float(errors[2]))
    offset = float(fitted.values[0]) - middle + (0.0 if on is None else step * float(on.mean()))
    return Comparison(
        offset, middle, gain, lag, doubt * float(errors[-1]), fitted.residual, step, error, edges, why
    )  # fmt: skip


class _Solution(NamedTuple):
    """Least squares: the values, their standard errors, and the standard deviation of what is left."""

    values: Column
    errors: Column
    residual: float


def _solved(wanted: Column, columns: list[Column]) -> _Solution:
    basis = np.column_stack(columns)
    values = np.linalg.lstsq(basis, wanted, rcond=None)[0]
    left = wanted - basis @ values
    spread = float(left @ left) / max(len(wanted) - len(columns), 1)
    # rows that repeat each other tell less than so many rows
    together = float(np.clip(left[1:] @ left[:-1] / max(float(left @ left), 1e-300), 0.0, 0.98))
    covariance = np.linalg.pinv(basis.T @ basis) * spread * (1.0 + together) / (1.0 - together)
    return _Solution(np.asarray(values, np.float64), np.sqrt(np.diag(covariance)), math.sqrt(spread))


def _fit(
    time_s: Column,
    first: Column,
    second: Column,
    on: Column | None,
    lag_s: float,
    margin_s: float,
    middle: float,
    with_lag: bool = False,
) -> _Solution:
    """Second on first as it was `lag_s` ago: level at the middle of the first, gain, step with the output.

    `with_lag` adds what a small change of the lag would do as the last column, so that the errors allow for it.
    """
    inside = (time_s >= time_s[0] + margin_s) & (time_s <= time_s[-1] - margin_s)
    ago = np.interp(time_s[inside] - lag_s, time_s, first) - middle
    columns = [np.ones_like(ago), ago, *([] if on is None else [on[inside]])]
    if with_lag:
        near_s = float(np.median(np.diff(time_s)))
        moved = [np.interp(time_s[inside] - lag_s - d, time_s, first) for d in (-near_s, near_s)]
        columns.append((moved[1] - moved[0]) / (2.0 * near_s))
    return _solved(second[inside], columns)


def compare_log(path: Path) -> dict[str, Any]:
    """Two probes in the log at `path`, with the names of their columns. Raises LogError where there are not two."""
    time_s, columns, output = logs.read_temperatures(path)
    if len(columns) < 2:
        raise LogError(
            path,
            f"has {len(columns)} column of temperatures",
            ", ".join(columns) or "none",
            "two are needed, named first_celsius and second_celsius for example",
        )
    names = list(columns)[:2]
    first, second = (to_celsius(temperature_unit(name), columns[name]) for name in names)
    try:
        compared = compare(time_s, first, second, output)
    except ValueError as error:
        raise LogError(path, error) from None

    def plain(value: float) -> float | None:
        return value if math.isfinite(value) else None

    follows = compared.follows_output
    verdict = {
        True: f"the difference steps by {compared.step_celsius:.3g} °C as the output goes on: look for a ground shift",
        False: "the difference does not follow the output",
        None: "too few switchings to tell whether the difference follows the output",
    }[follows]
    return {
        "first": names[0].strip(),
        "second": names[1].strip(),
        "offset_celsius": compared.offset_celsius,
        "at_celsius": compared.at_celsius,
        "gain": plain(compared.gain),
        "lag_s": plain(compared.lag_s),
        "lag_error_s": plain(compared.lag_error_s),
        "residual_celsius": compared.residual_celsius,
        "output_step_celsius": plain(compared.step_celsius),
        "output_step_error_celsius": plain(compared.step_error_celsius),
        "switchings": compared.edges,
        "follows_output": follows,
        "note": "; ".join(text for text in (compared.why, verdict) if text),
    }


def in_words(found: dict[str, Any], unit: TemperatureUnit) -> str:
    """A comparison as one line."""
    offset = format_difference(unit, abs(found["offset_celsius"]), 3)
    side = "above" if found["offset_celsius"] >= 0.0 else "below"
    parts = [f"{found['second']} reads {offset} {side} {found['first']}"]
    if found["gain"] is not None:
        late = found["lag_s"]
        when = f"{abs(late):.3g} s {'later' if late >= 0.0 else 'earlier'}"
        parts.append(f"moves {found['gain']:.4f} times as far, {when}")
    return ", ".join(parts) + f"; {found['note']}."
