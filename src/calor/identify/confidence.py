"""How well a record tells each number: intervals that allow for residuals that repeat themselves, and what is mixed.

Least squares takes every row for new. Where residuals follow one another, so many rows tell less: their number is
divided by the sum of the autocorrelation (the integrated autocorrelation time; e.g. G. Box, G. Jenkins, G. Reinsel,
Time Series Analysis, 1994, section 2.1). The intervals are those of the linearised problem with Student's t.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from calor.compiled import Column, Table

TOLD_SHARE = 0.03
"""A number is told where half its 95 % interval is at most this share of it."""
SMALL_CORRELATION = 0.05
NOT_AT_ALL = 1e30
"""Variance of a number that no row depends on."""


class Confidence(NamedTuple):
    """Covariance of the numbers as they are varied, Student's t for 95 %, and the residual's own figures.

    `autocorrelation` is from one row to the next; `rows_in_one` is how many rows tell as much as one that is new.
    `condition` is the condition number of the Jacobian with its columns scaled to one length.
    """

    covariance: Table
    student: float
    autocorrelation: float
    rows_in_one: float
    condition: float

    def half_width(self, direction: Column) -> float:
        """Half the 95 % interval of a sum of the numbers, each times its share of `direction`."""
        variance = float(direction @ self.covariance @ direction)
        return self.student * math.sqrt(variance) if 0.0 <= variance < math.inf else math.inf


def confidence_of(residual: Column, jacobian: Table, pieces: list[slice]) -> Confidence:
    """How well the numbers of a solution are told. `pieces` are the rows that follow one another."""
    from scipy.stats import t

    rows, size = jacobian.shape
    first, together = correlation(residual, pieces)
    effective = max(rows / together, size + 1.0)
    degrees = max(effective - size, 1.0)
    spread = float(residual @ residual) / max(rows - size, 1)
    lengths = np.linalg.norm(jacobian, axis=0)
    safe = np.where(lengths > 0.0, lengths, 1.0)
    _, values, right = np.linalg.svd(jacobian / safe, full_matrices=False)
    largest = float(values[0]) if len(values) else 0.0
    condition = largest / float(values[-1]) if len(values) and values[-1] > 0.0 else math.inf
    inverse = np.where(values > 1e-12 * max(largest, 1e-300), 1.0 / np.maximum(values, 1e-300), 1e12)
    root = (right.T * inverse) / safe[:, None]
    covariance = root @ root.T * spread * together
    unmoved = np.flatnonzero(lengths == 0.0)
    covariance[unmoved, unmoved] = NOT_AT_ALL
    return Confidence(covariance, float(t.ppf(0.975, degrees)), first, together, condition)


def correlation(residual: Column, pieces: list[slice]) -> tuple[float, float]:
    """(correlation of a residual with the next one, how many rows tell as much as one)."""
    total = float(residual @ residual)
    if total <= 0.0 or not len(residual):
        return 0.0, 1.0
    longest = max((piece.stop - piece.start for piece in pieces), default=0)
    sums = np.zeros(max(longest, 2))
    for piece in pieces:
        part = residual[piece]
        if len(part) > 1:
            size = 1 << (2 * len(part) - 1).bit_length()
            spectrum = np.fft.rfft(part, size)
            sums[: len(part)] += np.fft.irfft(spectrum * np.conj(spectrum), size)[: len(part)]
    share = sums / total
    below = np.flatnonzero(share < SMALL_CORRELATION)
    until = int(below[0]) if len(below) else len(share)
    return float(share[1]), max(1.0, 1.0 + 2.0 * float(share[1:until].sum()))
