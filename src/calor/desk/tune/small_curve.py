"""A small curve in a row of the table: the reading on the trial, about the setpoint."""

from __future__ import annotations

from typing import Any

import numpy as np
from PyQt6.QtCore import QModelIndex, QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen
from PyQt6.QtWidgets import QStyledItemDelegate, QStyleOptionViewItem, QWidget

from calor.desk.widgets import theme as look
from calor.desk.widgets.painting import polygon
from calor.tune.table import Candidate

POINTS = 48
BELOW_SHARE, ABOVE_SHARE = 0.2, 0.1
"""How far to each side of the setpoint is shown, of how far the reading has to go."""
PLACES = Qt.ItemDataRole.UserRole + 1


def points_of(row: Candidate, trial: str) -> Any:
    """Places (x, y) of the curve, each 0 to 1, and under them the setpoint's y; NaN where there is no reading."""
    trace = row.traces[row.trials.index(trial) if trial in row.trials else 0]
    goal = trace.setpoint_celsius
    away = np.asarray(trace.measured_celsius - goal)
    known = away[np.isfinite(away)]
    if not len(known):
        return np.zeros((0, 3))
    first = float(known[0])
    # a program begins where the load is: then what it strays by says how far is looked
    way = max(abs(first), 0.5 * float(np.abs(known).max()), 1e-3)
    # what is beyond the setpoint is shown on the far side of where the reading begins
    low, high = (-BELOW_SHARE * way, ABOVE_SHARE * way) if first <= 0.0 else (-ABOVE_SHARE * way, BELOW_SHARE * way)
    starts = np.linspace(0, len(away) - 1, POINTS).astype(int)[:-1]
    # the furthest of each part, so that a short swing is seen
    lowest, highest = np.fmin.reduceat(away, starts), np.fmax.reduceat(away, starts)
    far = np.where(-lowest > highest, lowest, highest)
    x = np.linspace(0.0, 1.0, len(far))
    y = np.clip((far - low) / (high - low), 0.0, 1.0)
    return np.column_stack((x, y, np.full(len(far), -low / (high - low))))


class SmallCurve(QStyledItemDelegate):
    """Paints the curve of a row in its cell."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.theme = look.LIGHT

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        super().paint(painter, option, index)
        places = index.data(PLACES)
        if painter is None or places is None or not len(places):
            return
        box = QRectF(option.rect).adjusted(5.0, 3.0, -4.0, -3.0)
        painter.save()
        goal = box.bottom() - float(places[0, 2]) * box.height()
        painter.setPen(QPen(QColor(self.theme.setpoint), 1.0, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(box.left(), goal), QPointF(box.right(), goal))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(self.theme.measured), 1.2))
        x, y = places[:, 0], places[:, 1]
        known = np.isfinite(y)
        painter.drawPolyline(polygon(box.left() + x[known] * box.width(), box.bottom() - y[known] * box.height()))
        painter.restore()
