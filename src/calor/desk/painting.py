"""What charts are painted of: round ticks, and curves straight from columns of numbers."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QPolygonF

TICK_PX = 13
"""So much room a figure on an upright axis needs."""
FAR_PX = 1e6
"""No point is painted further out than this: Qt's painter counts in whole numbers."""
_STEPS_S = (
    0.1, 0.2, 0.5, 1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 10800, 21600, 43200, 86400, 172800,
    432000, 864000, 1728000, 4320000, 8640000,
)  # fmt: skip


def time_ticks(begin_s: float, end_s: float, most: int = 9) -> list[float]:
    """Round instants between two times, at most about `most`."""
    step = next((step for step in _STEPS_S if (end_s - begin_s) / step <= most), _STEPS_S[-1])
    first = math.ceil(begin_s / step - 1e-9)
    last = math.floor(end_s / step + 1e-9)
    return [k * step for k in range(first, last + 1)]


def value_ticks(low: float, high: float, most: int = 5) -> list[float]:
    """Round values between two."""
    if not high > low:
        return []
    raw = (high - low) / most
    power = 10.0 ** math.floor(math.log10(raw))
    step = next(factor * power for factor in (1, 2, 2.5, 5, 10) if factor * power >= raw * 0.999)
    return [k * step for k in range(math.ceil(low / step - 1e-9), math.floor(high / step + 1e-9) + 1)]


def log_ticks(low: float, high: float) -> list[float]:
    """Logarithms of 1, 2 and 5 times powers of ten between two logarithms; powers alone where there are many."""
    powers = range(math.floor(low), math.ceil(high) + 1)
    factors = (1.0, 2.0, 5.0) if high - low < 2.2 else (1.0,)
    ticks = [power + math.log10(factor) for power in powers for factor in factors]
    return [tick for tick in ticks if low - 1e-9 <= tick <= high + 1e-9]


def doubling_ticks(low: float, high: float) -> list[float]:
    """Logarithms (to 10) of the powers of two between two."""
    step = math.log10(2.0)
    return [k * step for k in range(math.ceil(low / step - 1e-9), math.floor(high / step + 1e-9) + 1)]


def figure(value: float) -> str:
    """A value on an axis."""
    return f"{value:.6g}".replace("-", "−")


def thinned(ticks: list[float], room_px: float) -> list[float]:
    """As many ticks of an upright axis as there is room for their figures."""
    return ticks[:: max(math.ceil(len(ticks) * TICK_PX / max(room_px, TICK_PX)), 1)]


@dataclass(frozen=True)
class Curve:
    """What is drawn under one name: places, NaN where the line is broken; a `width` of 0 is a thin line of 1 pixel."""

    x: Any
    y: Any
    colour: str
    width: float
    dash: bool = False
    z: int = 0


def polygon(x: Any, y: Any) -> QPolygonF:
    """Points as Qt paints them, without a Python object for each."""
    points = QPolygonF()
    points.fill(QPointF(), len(x))
    place = points.data()
    place.setsize(16 * len(x))
    pairs = np.frombuffer(place, np.float64).reshape(-1, 2)
    pairs[:, 0], pairs[:, 1] = x, y
    return points


def paint_curve(painter: QPainter, curve: Curve, to_x: Callable[[Any], Any], to_y: Callable[[Any], Any]) -> None:
    """Paint a curve, its places turned into pixels by `to_x` and `to_y`."""
    if not len(curve.x):
        return
    pen = QPen(QColor(curve.colour), curve.width or 1.0)
    if curve.dash:
        pen.setStyle(Qt.PenStyle.CustomDashLine)
        pen.setDashPattern([5, 3])
    painter.setPen(pen)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, curve.width > 0.0)
    x, y = to_x(curve.x), to_y(curve.y)
    known = np.isfinite(x) & np.isfinite(y)
    if known.all():
        painter.drawPolyline(polygon(x, np.clip(y, -FAR_PX, FAR_PX)))
        return
    edges = np.flatnonzero(np.diff(known.astype(np.int8), prepend=0, append=0))
    for begin, end in zip(edges[::2], edges[1::2], strict=True):
        painter.drawPolyline(polygon(x[begin:end], np.clip(y[begin:end], -FAR_PX, FAR_PX)))
