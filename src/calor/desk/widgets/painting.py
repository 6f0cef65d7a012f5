"""What charts are painted of: round ticks, and curves straight from columns of numbers."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QColor, QImage, QPainter, QPen, QPolygonF

TICK_PX = 13
"""So much room a figure on an upright axis needs."""
FAR_PX = 1e5
"""No point is painted further out than this: Qt's painter counts in whole numbers."""
DENSE_PER_PX = 0.7
"""With more points than this under a pixel a curve is painted as what it covers of each."""
DASH_PX = (8.0, 5.0)
"""On and off of a dashed line."""
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
    """What is drawn under one name: places, NaN where the line is broken; width in pixels."""

    x: Any
    y: Any
    colour: str
    width: float = 1.6
    dash: bool = False
    z: int = 0


def polygon(x: Any, y: Any) -> QPolygonF:
    """Points as Qt paints them, without a Python object for each."""
    points = QPolygonF()
    points.fill(QPointF(), len(x))
    place = points.data()
    place.setsize(16 * len(x))
    pairs = np.frombuffer(place, np.float64).reshape(-1, 2)  # type: ignore[call-overload]
    pairs[:, 0], pairs[:, 1] = x, y
    return points


def paint_curve(painter: QPainter, curve: Curve, to_x: Callable[[Any], Any], to_y: Callable[[Any], Any]) -> None:
    """Paint a curve, its places turned into pixels by `to_x` and `to_y`."""
    if not len(curve.x):
        return
    x, y = to_x(curve.x), to_y(curve.y)
    known = np.isfinite(x) & np.isfinite(y)
    edges = np.flatnonzero(np.diff(known.astype(np.int8), prepend=0, append=0))
    stretches = [slice(begin, end) for begin, end in zip(edges[::2], edges[1::2], strict=True)]
    many = known.any() and len(x) > DENSE_PER_PX * max(float(np.ptp(x[known])), 1.0)
    # a curve that turns back, as a circle does, is drawn from point to point
    if many and bool((np.diff(x[known]) >= 0.0).all()):
        for part in stretches:
            paint_dense(painter, curve, x[part], y[part])
        return
    pen = QPen(QColor(curve.colour), curve.width)
    if curve.dash:
        pen.setStyle(Qt.PenStyle.CustomDashLine)
        pen.setDashPattern([part / curve.width for part in DASH_PX])
    painter.setPen(pen)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    for part in stretches:
        painter.drawPolyline(polygon(x[part], np.clip(y[part], -FAR_PX, FAR_PX)))


def paint_dense(painter: QPainter, curve: Curve, x: Any, y: Any) -> None:
    """Paint a curve that has many points under each pixel: what it covers of each, from its highest to its lowest.

    Stroking such a line from point to point covers the same and takes a hundred times as long. The pixels are worked
    out as an image, whose cost does not depend on how wildly the line swings.
    """
    device = painter.device()
    scale = device.devicePixelRatioF() if device is not None else 1.0
    height = round(painter.viewport().height() * scale)
    place = np.floor(x * scale)
    starts = np.flatnonzero(np.diff(place, prepend=-np.inf))
    columns = np.arange(int(place[0]), int(place[-1]) + 1)
    high, filled = y * scale, place[starts]
    # a pixel without a point lies on the line from the last point before it to the first after it
    ends = np.append(starts[1:], len(high)) - 1
    line = np.interp(columns, np.repeat(filled, 2), np.column_stack((high[starts], high[ends])).ravel())
    top, bottom = line.copy(), line
    at = (filled - columns[0]).astype(np.intp)
    top[at], bottom[at] = np.minimum.reduceat(high, starts), np.maximum.reduceat(high, starts)
    # pixels side by side meet half-way where one lies above the other
    for upper, lower in ((bottom[:-1], top[1:]), (bottom[1:], top[:-1])):
        meet = np.where(lower > upper, (upper + lower) / 2.0, np.nan)
        upper[:], lower[:] = np.fmax(upper, meet), np.fmin(lower, meet)
    half = curve.width * scale / 2.0
    first = min(max(int(np.floor(top.min() - half)), 0), height)
    last = min(max(int(np.ceil(bottom.max() + half)), first), height)
    if first == last:
        return  # all of it lies above or below the picture
    row = np.arange(first, last, dtype=np.float32)[:, None]
    covered = np.minimum((bottom + half).astype(np.float32), row + 1.0)
    covered -= np.maximum((top - half).astype(np.float32), row)
    np.clip(covered, 0.0, 1.0, out=covered)
    if curve.dash:
        along = np.cumsum(np.hypot(1.0, np.diff((top + bottom) / 2.0, prepend=top[0]))) / scale
        covered[:, along % sum(DASH_PX) >= DASH_PX[0]] = 0.0
    covered *= 255.0
    pixels = covered.astype(np.uint32)
    pixels <<= 24
    pixels |= QColor(curve.colour).rgb() & 0xFFFFFF
    image = QImage(pixels.data, len(columns), last - first, 4 * len(columns), QImage.Format.Format_ARGB32)
    image.setDevicePixelRatio(scale)
    painter.drawImage(QPointF(columns[0] / scale, first / scale), image)
