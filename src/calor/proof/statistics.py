"""Figures over many runs: a share with its interval, and which tolerance goes with a figure most."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

CONFIDENCE = 0.95


class Share(NamedTuple):
    """How many of some runs pass, and between which shares the true one lies at 95 % confidence."""

    passed: int
    runs: int
    low: float
    high: float

    @property
    def share(self) -> float:
        """The share that passed."""
        return self.passed / self.runs if self.runs else float("nan")


def share_of(passed: int, runs: int) -> Share:
    """A share with its exact interval, as for independent draws; those of a Sobol' sequence are spread more evenly, so
    that it errs on the wide side.

    Source: C. J. Clopper and E. S. Pearson, Biometrika 26 (1934), by the incomplete beta function.
    """
    from scipy.special import betaincinv

    tail = 0.5 * (1.0 - CONFIDENCE)
    low = 0.0 if passed == 0 else float(betaincinv(passed, runs - passed + 1, tail))
    high = 1.0 if passed == runs else float(betaincinv(passed + 1, runs - passed, 1.0 - tail))
    return Share(passed, runs, low, high)


def rank_correlation(values: Sequence[float], figures: Sequence[float]) -> float:
    """Spearman's rank correlation, −1 to 1; not a number where either does not vary. Infinite figures rank last.

    Source: C. Spearman, The American Journal of Psychology 15 (1904).
    """
    from scipy.stats import rankdata

    first, second = np.asarray(values, np.float64), np.asarray(figures, np.float64)
    if len(first) < 3 or np.ptp(first) == 0.0 or (first == first[0]).all() or (second == second[0]).all():
        return float("nan")
    a, b = rankdata(first), rankdata(second)
    a, b = a - a.mean(), b - b.mean()
    return float((a * b).sum() / np.sqrt((a * a).sum() * (b * b).sum()))
