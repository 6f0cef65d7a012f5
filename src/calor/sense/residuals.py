"""What a calibration leaves: each point before and after the correction, and the correction along the curve."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from calor.compiled import Column
from calor.sense import calibration, registry, sweep
from calor.sense.registry import AnyProbe


class Residual(NamedTuple):
    """One calibration point: the reading, and how far it is off before and after the correction."""

    reading_celsius: float
    before_celsius: float
    after_celsius: float


def residuals_of(settings: AnyProbe, celsius: Column) -> tuple[list[Residual], Column, str]:
    """(what is left at each point, what the correction adds along the curve, its kind)."""
    points = settings.calibration
    kind = calibration.kind_of(settings.correction, len(points))
    if not points:
        return [], np.zeros(len(celsius)), kind
    bare = registry.numbers(settings.model_copy(update={"calibration": (), "offset_celsius": 0.0}))
    corrected = registry.numbers(settings.model_copy(update={"offset_celsius": 0.0}))
    shown = np.array([point.reading_celsius for point in points])
    after = _corrected(bare, corrected, shown)
    residuals = [
        Residual(point.reading_celsius, point.reading_celsius - point.true_celsius, float(a) - point.true_celsius)
        for point, a in zip(points, after, strict=True)
    ]
    return residuals, _corrected(bare, corrected, celsius) - celsius, kind


def _corrected(bare: registry.ProbeNumbers, corrected: registry.ProbeNumbers, shown: Column) -> Column:
    """What a calibrated firmware makes of what an uncalibrated one reads, both given the same signal."""
    same = corrected._replace(hardware=bare.firmware)
    return sweep.celsius_of_exact(same, shown)
