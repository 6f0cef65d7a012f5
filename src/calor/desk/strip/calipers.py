"""What the calipers read, and the small panel that says it."""

from __future__ import annotations

from PyQt6.QtWidgets import QLabel, QWidget

from calor.desk.strip.lanes import LEFT_PX
from calor.desk.widgets import theme as look
from calor.log.caliper import between
from calor.loop.trace import Trace
from calor.units import TemperatureUnit, difference_to, format_difference, format_duration

BESIDE_PX = 6


def caliper_text(trace: Trace, unit: TemperatureUnit, begin_s: float, end_s: float) -> str:
    """Δt, ΔT, slope, peak to peak, and the period where there is one, in lines."""
    figures = between(trace, begin_s, end_s)
    slope = difference_to(unit, figures.slope_celsius_per_h)
    lines = [
        f"Δt {format_duration(figures.duration_s)}   ΔT {format_difference(unit, figures.difference_celsius)}",
        f"slope {slope:.3g} {unit}/h".replace("-", "−"),
        f"peak to peak {format_difference(unit, figures.peak_to_peak_celsius)}",
    ]
    if figures.period_s is not None:
        lines.append(f"period {format_duration(figures.period_s)}")
    return "\n".join(lines)


class Readout(QLabel):
    """The panel beside the calipers: to their right where there is room, else to their left."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.hide()

    def set_theme(self, theme: look.Theme) -> None:
        """Take a theme's colours."""
        self.setStyleSheet(
            f"background: {theme.rail}; color: {theme.rail_ink}; border-radius: 3px; padding: 5px 8px;"
            f" font-size: {look.SMALL_PX}px;"
        )

    def show_between(self, text: str, left: float, right: float, top: int) -> None:
        """Say `text` beside calipers that stand at the pixels `left` and `right`."""
        self.setText(text)
        self.adjustSize()
        parent = self.parentWidget()
        room = parent.width() if parent is not None else 0
        x = right + BESIDE_PX if right + BESIDE_PX + self.width() < room else left - BESIDE_PX - self.width()
        self.move(int(min(max(x, LEFT_PX), room - self.width() - 4)), top)
        self.raise_()
