"""A chart of one quantity over another: titled, with units on its axes, read at the pointer."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from PyQt6.QtCore import QEvent
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QSizePolicy, QVBoxLayout, QWidget

from calor.desk.widgets import theme as look
from calor.desk.widgets.fields import label
from calor.desk.widgets.painting import Curve
from calor.desk.widgets.plot import Plot


class Chart(QWidget):
    """A title with its units, a plot, and at the pointer a line with both axes read."""

    def __init__(
        self, title: str, logarithmic: bool | tuple[bool, bool] = False, most_ticks: tuple[int, int] = (7, 5)
    ) -> None:
        super().__init__()
        self._logarithmic = logarithmic if isinstance(logarithmic, tuple) else (logarithmic, logarithmic)
        self._read: Callable[[float], str] | None = None
        self._theme = look.LIGHT
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        self.title = label(title, "quiet")
        self._title_text = title
        self.plot = Plot(self._logarithmic, most_ticks)
        column.addWidget(self.title)
        column.addWidget(self.plot, 1)
        self.plot.installEventFilter(self)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def set_title(self, text: str) -> None:
        """Name what is drawn over what, with units."""
        self._title_text = text
        self.title.setText(text)

    def set_theme(self, t: look.Theme) -> None:
        """Take a theme's colours."""
        self._theme = self.plot.theme = t
        self.plot.update()

    def _to(self, values: Any, axis: int) -> Any:
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.log10(np.asarray(values, float)) if self._logarithmic[axis] else np.asarray(values, float)

    def draw(self, name: str, x: Any, y: Any, colour: str, width: float = 1.8) -> None:
        """Show points as a curve."""
        self.plot.curves[name] = Curve(self._to(x, 0), self._to(y, 1), colour, width)
        self.plot.update()

    def mark_points(self, name: str, x: Any, y: Any, colour: str, symbol: str = "o") -> None:
        """Show points as marks, filled circles or open squares."""
        self.plot.points[name] = (self._to(x, 0), self._to(y, 1), colour, symbol)
        self.plot.update()

    def shade(self, low: float, high: float) -> None:
        """Shade a stretch of the x axis."""
        self.plot.band = (float(self._to(low, 0)), float(self._to(high, 0)))
        self.plot.update()

    def mark(self, x: float | None = None, y: float | None = None) -> None:
        """Mark a place on the x axis, and one on the y axis, by a dashed line."""
        self.plot.marked_x, self.plot.marked_y = (
            None if value is None else float(self._to(value, axis)) for axis, value in enumerate((x, y))
        )
        self.plot.update()

    def show_range(self, x: tuple[float, float], y: tuple[float, float]) -> None:
        """Show a range of both axes."""
        (x0, x1), (y0, y1) = self._to(x, 0), self._to(y, 1)
        self.plot.range = ((float(x0), float(x1)), (float(y0), float(y1 if y1 > y0 else y0 + 1.0)))
        self.plot.update()

    def read_with(self, read: Callable[[float], str] | None) -> None:
        """What to say at the pointer, from its place on the x axis."""
        self._read = read

    def read_at(self, x: float) -> str:
        """What is said where the pointer is at `x`."""
        return self._read(x) if self._read is not None else ""

    def eventFilter(self, watched: Any, event: Any) -> bool:
        if event.type() == QEvent.Type.MouseMove and isinstance(event, QMouseEvent) and self._read is not None:
            place = self.plot.to_place(event.position())
            low, high = self.plot.range[0]
            inside = bool(low <= place.x() <= high)
            self.plot.pointer = place.x() if inside else None
            x = 10.0 ** place.x() if self._logarithmic[0] else place.x()
            self.title.setText(self._read(x) if inside else self._title_text)
            self.plot.update()
        elif event.type() == QEvent.Type.Leave:
            self.plot.pointer = None
            self.title.setText(self._title_text)
            self.plot.update()
        return super().eventFilter(watched, event)


def padded(values: Any, share: float = 0.08, at_least: float = 1e-6) -> tuple[float, float]:
    """The range of finite values with some room on both sides; 0 to 1 where there are none."""
    known = np.asarray(values, float)
    known = known[np.isfinite(known)]
    if not len(known):
        return 0.0, 1.0
    low, high = float(known.min()), float(known.max())
    room = max((high - low) * share, at_least)
    return low - room, high + room
