"""Runs laid over one another on one time axis: the first in full, others beside it, the band of many behind."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout

from calor.desk.strip.lanes import LEFT_PX, RIGHT_PX, Lane
from calor.desk.strip.rows import Row
from calor.desk.strip.time_strip import TimeStrip
from calor.desk.widgets.fields import label
from calor.loop.envelope import envelope, share_on
from calor.loop.trace import Trace
from calor.proof.work import Band
from calor.units import TemperatureUnit, celsius_to, format_duration, format_temperature

LEAST_LIVE_S, ROOM_SHARE = 120.0, 1.1
"""What is shown at first of a run that grows, and how much further than it the time axis goes at least."""


class Overlaid(NamedTuple):
    """A run with what it is called; `role` is the theme's colour it has, a dashed line where it `is_dashed`.

    `of_load`: the temperature of the load is shown, and not what was read of it. `grows`: more of it comes, and what is
    shown of the time stays with whoever looks.
    """

    name: str
    trace: Trace
    role: str
    is_dashed: bool = False
    of_load: bool = False
    grows: bool = False


class OverlayStrip(TimeStrip):
    """Readings over outputs and events. The calipers measure the first run."""

    def __init__(self, empty: str) -> None:
        super().__init__((Lane(5), Lane(2)))
        self.demand = self.lanes[1]
        self.runs: list[Overlaid] = []
        self.band: Band | None = None
        self.band_words = ""
        self.unit: TemperatureUnit = "°C"
        self.status = label("", "quiet")
        self.empty.setText(empty)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 2, 0, 2)
        column.setSpacing(0)
        column.addLayout(self.head(self.status))
        column.addWidget(self.whole, 5)
        line = QHBoxLayout()
        line.setContentsMargins(LEFT_PX, 2, RIGHT_PX, 0)
        line.addWidget(label("demand, %", "quiet"), 1)
        line.addWidget(self.caliper_button)
        line.addWidget(self.whole_button)
        column.addLayout(line)
        column.addWidget(self.demand, 2)
        column.addWidget(self.rows)

    def show_runs(
        self, runs: list[Overlaid], unit: TemperatureUnit, band: Band | None = None, band_words: str = ""
    ) -> None:  # fmt: skip
        """Show runs, the first one in full; `band` is what many runs lie in."""
        spans = [one.trace.span_s for one in self.runs]
        goes_on = bool(runs and self.runs) and runs[0].grows and self.runs[0].grows
        goes_on = goes_on and runs[0].trace.span_s >= self.runs[0].trace.span_s
        self.runs, self.unit, self.band, self.band_words = runs, unit, band, band_words
        if spans != [one.trace.span_s for one in runs] and not goes_on:
            self._view.restore()
            self.set_calipers(False)
        self.redraw()

    def span_s(self) -> float:
        """Length of the longest run; of one that grows so much that there is room for it, by doubling."""
        ends = [one.trace.span_s for one in self.runs]
        if self.runs and self.runs[0].grows:
            room = LEAST_LIVE_S
            while room < ROOM_SHARE * ends[0]:
                room *= 2.0
            return max(min(room, max(ends)), ends[0])
        if self.band is not None and not ends:
            step_s = float(self.band.time_s[1] - self.band.time_s[0])
            ends = [float(self.band.time_s[-1]) + step_s]
        return max(ends, default=1.0)

    def measured(self) -> Trace | None:
        """The first run."""
        return self.runs[0].trace if self.runs else None

    def shown_unit(self) -> TemperatureUnit:
        """The unit of what is read."""
        return self.unit

    def redraw(self) -> None:
        """Draw the runs in the shown stretch of time."""
        there = bool(self.runs) or self.band is not None
        self.empty.setVisible(not there)
        if not there:
            return
        begin, end = self.shown()
        t, unit = self._theme, self.unit
        for lane in self.lanes:
            lane.show_span(begin, end)
            lane.curves.clear()
        self._draw_band()
        lows, highs = self._range()
        for number, one in enumerate(self.runs):
            colour = getattr(t, one.role)
            line = (one.trace.time_s, one.trace.true_celsius) if one.of_load else one.trace.line
            lanes = [(self.whole, line[0], celsius_to(unit, line[1]))]
            lanes += [] if one.of_load else [(self.demand, one.trace.time_s, 100.0 * one.trace.demand)]
            for lane, times, values in lanes:
                points = envelope(times, values, begin, end, lane.pixels())
                lane.draw(
                    f"run {number}", points, colour, one.is_dashed, 10 - number, 1.4 if lane is self.whole else 1.0
                )
        if self.runs:
            first = self.runs[0].trace
            goal = celsius_to(unit, first.setpoint_celsius)
            self.whole.draw(
                "setpoint", envelope(first.time_s, goal, begin, end, self.whole.pixels()), t.setpoint, True, 5, 1.2
            )
        margin = 0.05 * max(highs - lows, 1e-3)
        self.whole.show_values(celsius_to(unit, lows - margin), celsius_to(unit, highs + margin))
        both_ways = any(np.nanmin(one.trace.demand, initial=0.0) < 0.0 for one in self.runs)
        self.demand.show_values(*((-140.0, 140.0) if both_ways else (-13.0, 113.0)))
        self._draw_rows(begin, end)
        self._write()
        self.whole_button.setEnabled(not self._view.is_whole)
        self._place_calipers()

    def _draw_band(self) -> None:
        band = self.band
        if band is None or not band.runs:
            self.whole.draw_band(np.empty(0), np.empty(0), np.empty(0), self._theme.grid)
            return
        known = np.isfinite(band.low_celsius) & np.isfinite(band.high_celsius)
        low, high = (celsius_to(self.unit, one[known]) for one in (band.low_celsius, band.high_celsius))
        self.whole.draw_band(band.time_s[known], low, high, self._theme.rule)

    def _range(self) -> tuple[float, float]:
        """Lowest and highest of all that is shown, °C."""
        lows, highs = [], []
        for one in self.runs:
            known = one.trace.setpoint_celsius
            if np.isnan(known.sum()):  # a long record without a gap is not copied
                known = known[np.isfinite(known)]
            own = one.trace.measured_range
            if one.of_load:
                own = float(np.nanmin(one.trace.true_celsius)), float(np.nanmax(one.trace.true_celsius))
            for low, high in (own, (known.min(initial=np.inf), known.max(initial=-np.inf))):
                lows.append(float(low))
                highs.append(float(high))
        if self.band is not None and self.band.runs:
            lows.append(float(self.band.low_celsius.min()))
            highs.append(float(self.band.high_celsius.max()))
        low = min((value for value in lows if np.isfinite(value)), default=0.0)
        high = max((value for value in highs if np.isfinite(value)), default=1.0)
        return low, high

    def _draw_rows(self, begin: float, end: float) -> None:
        t, pixels = self._theme, max(self.rows.width() - LEFT_PX - RIGHT_PX, 50)
        rows = []
        for one in [run for run in self.runs if not run.of_load][:2]:
            given = np.isfinite(one.trace.delivered).any()
            colour = t.pinned if one.role == "pinned" else t.cool if one.trace.cools else t.heat
            rows.append(Row(one.name[:6], np.abs(share_on(one.trace, begin, end, pixels)) if given else None, colour))
        marks = {"cut_out": t.failed, "alarm": t.failed, "probe_fault": t.failed, "gap": t.pinned}
        events: list[Any] = []
        if self.runs:
            events = [
                (event._replace(text=event.text_in(self.unit)), marks.get(event.kind, t.cool))
                for event in self.runs[0].trace.events
            ]
        changed = len(rows) != len(self.rows.rows)
        self.rows.rows, self.rows.events, self.rows.span = rows, events, (begin, end)
        self.rows.caption = "output given"
        if changed:
            self.rows.updateGeometry()
        self.rows.update()

    def _write(self) -> None:
        t = self._theme
        entries = [(one.name, getattr(t, one.role), "dash" if one.is_dashed else "line") for one in self.runs]
        if self.runs and np.isfinite(self.runs[0].trace.setpoint_celsius).any():
            entries.append(("setpoint", t.setpoint, "dash"))
        if self.band is not None and self.band.runs:
            entries.append((self.band_words, t.rule, "line"))
        self.legend.entries = entries
        self.unit_label.setText(self.unit)
        self.legend.update()
        self.status.setText("")

    def read_at(self, time_s: float | None) -> None:
        """Say what the first run was at an instant; None: the pointer has left."""
        trace = self.measured()
        if trace is None:
            return
        row = -1 if time_s is None else int(np.searchsorted(trace.time_s, time_s, side="right")) - 1
        inside = time_s is not None and 0 <= time_s <= trace.span_s and 0 <= row < trace.steps
        for lane in self.lanes:
            lane.lines[2].show_at(time_s if inside else None)
        if inside and time_s is not None:
            self.status.setText(
                f"{format_duration(time_s)}  {format_temperature(self.unit, trace.measured_celsius[row], 2)}"
            )
        else:
            self.status.setText("")
