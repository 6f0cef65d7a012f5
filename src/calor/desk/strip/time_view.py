"""The stretch of time on the screen: zoomed, panned, held inside the run."""

from __future__ import annotations

SHORTEST_S = 0.5


class TimeView:
    """Begin and end of what is shown, s; the whole span until it is zoomed."""

    def __init__(self) -> None:
        self.span_s = 1.0
        self._stretch: tuple[float, float] | None = None

    @property
    def is_whole(self) -> bool:
        """Whether the whole span is shown."""
        return self._stretch is None

    def shown(self) -> tuple[float, float]:
        """Begin and end of what is shown."""
        return self._stretch or (0.0, self.span_s)

    def look_at(self, begin_s: float, end_s: float) -> None:
        """Show a stretch, held inside the span."""
        length = min(max(end_s - begin_s, SHORTEST_S), self.span_s)
        begin_s = min(max(begin_s, 0.0), self.span_s - length)
        self._stretch = None if length >= self.span_s * 0.9999 else (begin_s, begin_s + length)

    def restore(self) -> None:
        """Show the whole span."""
        self._stretch = None

    def zoom(self, factor: float, about_s: float | None = None) -> None:
        """Show `factor` times as much time, keeping an instant where it is on the screen."""
        begin, end = self.shown()
        about = (begin + end) / 2.0 if about_s is None else about_s
        self.look_at(about - (about - begin) * factor, about + (end - about) * factor)

    def pan(self, share: float) -> None:
        """Move by a share of what is shown."""
        begin, end = self.shown()
        by = (end - begin) * share
        self.look_at(begin + by, end + by)
