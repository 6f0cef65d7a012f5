"""Thermistor curves from points: Steinhart–Hart through three or fitted to many, beta, a three-parameter fit.

1/T = A + B·ln R + C·(ln R)³, T in kelvin, R in ohm. Source: Steinhart & Hart 1968. The three-parameter curve
R = b1·exp(b2/(t + b3)) is that of Meyer & Roth 1972, t in °C.
"""

from __future__ import annotations

import itertools
import math
from typing import NamedTuple

import numpy as np

from calor.compiled import Column

KELVIN_AT_0_CELSIUS = 273.15
KELVIN_AT_25_CELSIUS = 298.15
FEWEST_POINTS = 3


class Coefficients(NamedTuple):
    """A, B and C of Steinhart–Hart, for R in ohm and T in kelvin."""

    a: float
    b: float
    c: float


class Fit(NamedTuple):
    """What points say of a thermistor. Residuals are fitted less given resistance, Ω, one a point."""

    coefficients: Coefficients
    beta_kelvin: float
    r25_ohm: float
    celsius: Column
    ohm: Column
    fitted_ohm: Column
    three_parameters: tuple[float, float, float] | None
    three_parameters_rss: float


def check_points(celsius: Column, ohm: Column) -> None:
    """Raises ValueError, with the points in it, where they are no NTC thermistor's."""
    if len(celsius) < FEWEST_POINTS:
        raise ValueError(f"takes at least {FEWEST_POINTS} points of [celsius, ohm] (received {len(celsius)}); add some")
    for at, r in zip(celsius, ohm, strict=True):
        if not (math.isfinite(at) and at > -KELVIN_AT_0_CELSIUS):
            raise ValueError(f"the temperature of a point must be above -273.15 °C (received {at:g}); correct it")
        if not (math.isfinite(r) and r > 0.0):
            raise ValueError(f"the resistance of a point must be above 0 Ω (received {r:g} at {at:g} °C); correct it")
    order = np.argsort(celsius, kind="stable")
    for first, second in itertools.pairwise(order):
        if celsius[first] == celsius[second]:
            raise ValueError(
                f"two points are at one temperature (received {ohm[first]:g} and {ohm[second]:g} Ω at"
                f" {celsius[first]:g} °C); take one of them away"
            )
        if ohm[second] >= ohm[first]:
            raise ValueError(
                f"the resistance must fall from point to point as it warms (received {ohm[first]:g} Ω at"
                f" {celsius[first]:g} °C and {ohm[second]:g} Ω at {celsius[second]:g} °C); correct one of them"
            )


def coefficients(celsius: Column, ohm: Column) -> Coefficients:
    """A, B, C through three points, or by least squares of 1/T to more. Raises ValueError where they make no curve."""
    check_points(celsius, ohm)
    x = np.log(ohm)
    # columns centred, so that the powers of a logarithm near 10 do not drown each other
    middle = float(x.mean())
    basis = np.column_stack((np.ones_like(x), x - middle, x**3 - middle**3))
    scale = np.abs(basis).max(axis=0)
    # 1/T weighed by T², so that what is made small is the error of the temperature
    kelvin = celsius + KELVIN_AT_0_CELSIUS
    solved = np.linalg.lstsq(basis / scale * kelvin[:, None], np.ones_like(x), rcond=None)[0] / scale
    a = float(solved[0] - solved[1] * middle - solved[2] * middle**3)
    candidate = Coefficients(a, float(solved[1]), float(solved[2]))
    check_falls(candidate, float(x.min()), float(x.max()))
    return candidate


def check_falls(found: Coefficients, low_log: float, high_log: float) -> None:
    """Raises ValueError where the curve does not fall between two values of ln R."""
    x = np.linspace(low_log, high_log, 101)
    slopes = found.b + 3.0 * found.c * x**2
    inverse = found.a + found.b * x + found.c * x**3
    if not ((slopes > 0.0).all() and (inverse > 0.0).all()):
        raise ValueError(
            "no Steinhart–Hart curve that falls all the way goes through these points"
            f" (received {math.exp(low_log):.6g} to {math.exp(high_log):.6g} Ω); check them"
        )


def ohm_at(found: Coefficients, celsius: float) -> float:
    """Resistance in Ω at `celsius`, the inverse of Steinhart–Hart in closed form (Cardano); NaN where there is none."""
    inverse_kelvin = 1.0 / (celsius + KELVIN_AT_0_CELSIUS)
    if abs(found.c) < 1e-15:
        log = (inverse_kelvin - found.a) / found.b if found.b else math.nan
        return math.exp(log) if abs(log) < 600.0 else math.nan
    roots = np.roots([found.c, 0.0, found.b, found.a - inverse_kelvin])
    # the branch on which resistance falls with temperature: slope of 1/T over ln R above zero
    real = [float(r.real) for r in roots if abs(r.imag) < 1e-6 * max(abs(r), 1.0)]
    rising = [r for r in real if found.b + 3.0 * found.c * r * r > 0.0]
    return math.exp(min(rising, key=abs)) if rising and abs(min(rising, key=abs)) < 600.0 else math.nan


LARGEST_LOG, WORST_MISS = 300.0, 1e9


def beta(celsius: Column, ohm: Column) -> tuple[float, float]:
    """(beta in kelvin, resistance at 25 °C in Ω) by least squares of ln R over 1/T."""
    inverse = 1.0 / (celsius + KELVIN_AT_0_CELSIUS) - 1.0 / KELVIN_AT_25_CELSIUS
    slope, level = np.polyfit(inverse, np.log(ohm), 1)
    return float(slope), math.exp(float(level))


def three_parameters(celsius: Column, ohm: Column) -> tuple[tuple[float, float, float], float]:
    """((b1 Ω, b2 °C, b3 °C), residual sum of squares Ω²) of R = b1·exp(b2/(t + b3)) by least squares of R.

    Starts from the same curve fitted to ln R, which is almost linear, and ends where least squares of R has its least.
    """
    from scipy.optimize import least_squares  # type: ignore[import-untyped, unused-ignore]

    log = np.log(ohm)
    # ln R·(t + b3) = ln b1·(t + b3) + b2 is linear in ln b1, b3 and b2 + b3·ln b1
    start = np.linalg.lstsq(np.column_stack((celsius, np.ones_like(log), -log)), log * celsius, rcond=None)[0]
    log_b1, b3 = float(start[0]), float(start[2])
    b2 = float(start[1]) - b3 * log_b1

    if b3 + float(celsius.min()) <= 0.0:
        # of a plain exponential b3 is infinite, and this has its pole among the points; the beta form has none
        slope, r25 = beta(celsius, ohm)
        log_b1, b2, b3 = math.log(r25) - slope / KELVIN_AT_25_CELSIUS, slope, KELVIN_AT_0_CELSIUS

    def misses(p: Column) -> Column:
        below = celsius + p[2]
        if not (below > 0.0).all():  # a curve with a pole among the points is none
            return np.full(len(ohm), WORST_MISS)
        return np.asarray((np.exp(np.clip(p[0] + p[1] / below, -LARGEST_LOG, LARGEST_LOG)) - ohm) / ohm.mean())

    solution = least_squares(
        misses, [log_b1, b2, b3], x_scale=[1.0, abs(b2) + 1.0, abs(b3) + 1.0], xtol=1e-15, ftol=1e-15, gtol=1e-15,
        method="lm", max_nfev=20_000,
    )  # fmt: skip
    p = solution.x
    residuals = np.exp(p[0] + p[1] / (celsius + p[2])) - ohm
    return (math.exp(float(p[0])), float(p[1]), float(p[2])), float(residuals @ residuals)


def fit(celsius: Column, ohm: Column) -> Fit:
    """Steinhart–Hart, beta and the three-parameter curve of points, with residuals. Raises ValueError."""
    order = np.argsort(celsius, kind="stable")
    celsius, ohm = np.asarray(celsius, float)[order], np.asarray(ohm, float)[order]
    solution = coefficients(celsius, ohm)
    slope, r25 = beta(celsius, ohm)
    fitted = np.array([ohm_at(solution, at) for at in celsius])
    if len(celsius) == FEWEST_POINTS:
        return Fit(solution, slope, r25, celsius, ohm, fitted, None, math.nan)
    three, rss = three_parameters(celsius, ohm)
    usable = all(map(math.isfinite, (*three, rss))) and three[0] > 0.0
    return Fit(solution, slope, r25, celsius, ohm, fitted, three if usable else None, rss)
