"""The strip: the run over one time axis, with zoom, pan and calipers."""

from __future__ import annotations

from typing import Any

import numpy as np
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout

from calor.desk.state.controllers import controller_word
from calor.desk.state.desk import Desk
from calor.desk.state.simulator import decided_by_code
from calor.desk.strip.lanes import LEFT_PX, RIGHT_PX, Lane
from calor.desk.strip.rows import Row
from calor.desk.strip.time_strip import TimeStrip
from calor.desk.widgets.fields import label
from calor.desk.widgets.keys import timer
from calor.loop.envelope import envelope, output_on, share_on
from calor.loop.trace import RunEvent, Trace
from calor.units import (
    TemperatureUnit,
    celsius_to,
    difference_to,
    format_difference,
    format_duration,
    format_temperature,
)

CLOSE_UP_BANDS = 3.0
PREPARING = "Preparing the simulation."
NO_RUN = "There is no run to show.\nWhat kept it from being made is said above."
MOST_STEPS = 4
SHOW_BUSY_AFTER_S, SHOW_STOP_AFTER_S = 0.2, 2.0


SHORT = {"heating": "heat", "cooling": "cool", "second fan": "2nd", "fan": "fan"}
"""Names of outputs as they fit beside their rows."""


def is_moving(trace: Trace) -> bool:
    """Whether the setpoint goes along ramps or with a signal, and not in a step or two."""
    return bool(np.count_nonzero(np.diff(trace.setpoint_celsius)) > MOST_STEPS)


class Strip(TimeStrip):
    """Whole run, close-up, demand, what was switched, events; calipers over all of them."""

    def __init__(self, desk: Desk) -> None:
        super().__init__((Lane(5), Lane(6), Lane(2)))
        _, self.close_up, self.demand = self.lanes
        self._desk = desk
        self._is_moving = False
        self.status = label("", "quiet")
        self.stop = QPushButton("Stop")
        self.stop.clicked.connect(desk.simulator.stop)
        self.stop.hide()
        self.close_caption, self.demand_caption = label("", "quiet"), label("demand, %", "quiet")
        self._build()
        self._busy = timer(self, 100, self._show_busy)
        self._busy.start()
        desk.runs.changed.connect(self.redraw)
        desk.runs.failed.connect(self.redraw)
        runs = desk.runs
        for signal in (
            runs.pinned_changed, runs.tried_changed, runs.recorded_changed, desk.view.unit_changed,
        ):  # fmt: skip
            signal.connect(self.redraw)
        desk.document.opened.connect(self._opened)

    def _build(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 8, 0, 4)
        column.setSpacing(0)
        column.addLayout(self.head(self.stop, self.status))
        column.addWidget(self.whole, 9)
        for caption, lane, stretch in ((self.close_caption, self.close_up, 7), (self.demand_caption, self.demand, 3)):
            line = QHBoxLayout()
            line.setContentsMargins(LEFT_PX, 3, RIGHT_PX, 0)
            line.addWidget(caption, 1)
            if lane is self.close_up:
                line.addWidget(self.caliper_button)
                line.addWidget(self.whole_button)
            column.addLayout(line)
            column.addWidget(lane, stretch)
        column.addWidget(self.rows)

    # ---- drawing

    def span_s(self) -> float:
        """Length of what there is to show."""
        result, recorded = self._desk.runs.current, self._desk.runs.recorded
        span_s = result.trace.span_s if result is not None else self._desk.document.trial.span_s
        return max(span_s, recorded.span_s if recorded is not None else 0.0)

    def measured(self) -> Trace | None:
        """The current run."""
        result = self._desk.runs.current
        return None if result is None else result.trace

    def shown_unit(self) -> TemperatureUnit:
        """The unit of the window."""
        return self._desk.view.unit

    def redraw(self) -> None:
        """Draw the model's runs in the shown stretch of time."""
        result = self._desk.runs.current
        self.empty.setVisible(result is None)
        if result is None:
            preparing = f"{PREPARING}\n{self._desk.runs.preparing}".rstrip()
            self.empty.setText(NO_RUN if self._desk.runs.trouble else preparing)
            return
        t, unit, trace = self._theme, self._desk.view.unit, result.trace
        begin, end = self.shown()
        pinned = self._desk.runs.pinned[1].trace if self._desk.runs.pinned else None
        ghost = self._desk.runs.tried.trace if self._desk.runs.tried else None
        recorded = self._desk.runs.recorded
        band = result.request.design.limits.band_celsius
        for lane in self.lanes:
            lane.show_span(begin, end)

        def points(run: Trace | None, name: str, lane: Lane) -> Any:
            if run is None:
                return None
            times, values = run.line if name == "measured_celsius" else (run.time_s, getattr(run, name))
            times, values = envelope(times, values, begin, end, lane.pixels())
            return times, values * 100.0 if name == "demand" else celsius_to(unit, values)

        self._is_moving = is_moving(trace)
        if self._is_moving:
            self._draw_distances(begin, end, band)
        setpoint_steps = self._setpoint_steps(trace)
        for lane in (self.whole,) if self._is_moving else (self.whole, self.close_up):
            times, levels = setpoint_steps
            shown_level = celsius_to(unit, levels)
            margin = difference_to(unit, band)
            lane.draw_band(times, shown_level - margin, shown_level + margin, t.band)
            lane.draw("setpoint", (times, shown_level), t.setpoint, dash=True, z=5, width=1.2)
            lane.draw("pinned", points(pinned, "measured_celsius", lane), t.pinned, z=-5)
            lane.draw("recorded", points(recorded, "measured_celsius", lane), t.recorded, z=8, width=1.2)
            lane.draw("ghost", points(ghost, "measured_celsius", lane), t.measured, dash=True, z=12, width=1.2)
            lane.draw("measured", points(trace, "measured_celsius", lane), t.measured, z=10)
        self.demand.draw("pinned", points(pinned, "demand", self.demand), t.pinned, z=-5)
        self._draw_demands(trace, begin, end)
        self._set_ranges(trace, pinned, recorded, band)
        self._draw_rows(result, begin, end)
        self._write(result, band)
        self._place_calipers()

    def _draw_distances(self, begin: float, end: float, band: float) -> None:
        """The close-up of a setpoint that moves: how far from it the readings are."""
        t, unit, lane, result = self._theme, self._desk.view.unit, self.close_up, self._desk.runs.current
        margin = difference_to(unit, band)
        sides = np.array([begin, end])
        lane.draw_band(sides, np.full(2, -margin), np.full(2, margin), t.band)
        lane.draw("setpoint", (sides, np.zeros(2)), t.setpoint, dash=True, z=5, width=1.2)
        pinned = self._desk.runs.pinned[1].trace if self._desk.runs.pinned else None
        ghost = self._desk.runs.tried.trace if self._desk.runs.tried else None
        lane.draw("recorded", None, t.recorded, z=8)
        for name, run, colour, z in (
            ("pinned", pinned, t.pinned, -5), ("ghost", ghost, t.measured, 12),
            ("measured", result.trace if result is not None else None, t.measured, 10),
        ):  # fmt: skip
            if run is None:
                lane.draw(name, None, colour, z=z)
                continue
            away = np.asarray(difference_to(unit, 1.0)) * (run.measured_celsius - run.setpoint_celsius)
            lane.draw(name, envelope(run.time_s, away, begin, end, lane.pixels()), colour, name == "ghost", z=z)

    def _draw_demands(self, trace: Trace, begin: float, end: float) -> None:
        """What was asked: of one output, of heating and cooling on either side of 0, or of each of several."""
        t, lane = self._theme, self.demand
        first = t.cool if trace.cools else t.heat
        drawn = [("demand", trace.demand, first)]
        if self._both_ways(trace):
            heating, cooling = (output.demand for output in trace.outputs)
            drawn = [("demand", heating, t.heat), ("second", -cooling, t.cool)]
        elif len(trace.outputs) == 2 and trace.outputs[1].name == "second fan":
            drawn.append(("second", trace.outputs[1].demand, t.setpoint))
        for name, values, colour in drawn:
            times, shown = envelope(trace.time_s, values * 100.0, begin, end, lane.pixels())
            lane.draw(name, (times, shown), colour, z=10, width=1.0)
        if len(drawn) == 1:
            lane.draw("second", None, first)

    @staticmethod
    def _setpoint_steps(trace: Trace) -> tuple[Any, Any]:
        changes = np.flatnonzero(np.diff(trace.setpoint_celsius)) + 1
        rows = np.concatenate(([0], changes))
        times = np.append(np.repeat(trace.time_s[rows], 2)[1:], trace.span_s)
        return times, np.repeat(trace.setpoint_celsius[rows], 2)

    def _set_ranges(self, trace: Trace, pinned: Trace | None, recorded: Trace | None, band: float) -> None:
        unit = self._desk.view.unit
        runs = [run for run in (trace, pinned, recorded) if run is not None]
        lows, highs = [float(trace.setpoint_celsius.min()) - band], [float(trace.setpoint_celsius.max()) + band]
        for run in runs:
            low, high = run.measured_range
            if np.isfinite(low):
                lows.append(low)
                highs.append(high)
        low, high = celsius_to(unit, min(lows)), celsius_to(unit, max(highs))
        margin = 0.04 * (high - low)
        self.whole.show_values(low - margin, high + margin)
        middle = 0.0 if self._is_moving else celsius_to(unit, float(trace.setpoint_celsius[0]))
        half = difference_to(unit, self._close_up_half(band))
        self.close_up.show_values(middle - half, middle + half)
        self.demand.show_values(*((-140.0, 140.0) if trace.demand.min() < 0.0 else (-13.0, 113.0)))

    def _close_up_half(self, band: float) -> float:
        """Half the height of the close-up, °C: three bands, less where the band is wide."""
        return min(CLOSE_UP_BANDS * band, 1.5 * band + 1.5) * self._close_up_factor

    def _draw_rows(self, result: Any, begin: float, end: float) -> None:
        t, trace, recorded = self._theme, result.trace, self._desk.runs.recorded
        pixels = max(self.rows.width() - LEFT_PX - RIGHT_PX, 50)
        colour = t.cool if trace.cools else t.heat
        rows = [Row("run", share_on(trace, begin, end, pixels), colour)]
        noun = "output" if not trace.switches else "fan" if trace.cools else "heater"
        caption = f"{noun} on" if trace.switches else "output given"
        if trace.outputs:
            rows = [
                Row(
                    SHORT.get(output.name, output.name.replace("stage ", "")),
                    output_on(output, trace, begin, end, pixels), t.cool if output.name == "cooling" else colour,
                )
                for output in trace.outputs
            ]  # fmt: skip
            caption = "each output: " + ", ".join(output.name for output in trace.outputs)
        if recorded is not None:
            caption = f"{noun} on: in this run, in the log, and by this law on the log's readings"
            has_output = recorded.recorded_output is not None
            share = share_on(recorded, begin, end, pixels) if has_output else None
            rows.append(Row("log", share, t.recorded))
            replayed = result.replayed
            rows.append(Row("replay", share_on(replayed, begin, end, pixels) if replayed is not None else None, colour))
            times = np.linspace(begin, end, pixels)
            for gap in (event for event in recorded.events if event.kind == "gap"):
                for row in rows[1:]:
                    if row.share is not None:
                        row.share[(times > gap.at_s) & (times < gap.until_s)] = 0.0
        marks = {"cut_out": t.failed, "alarm": t.failed, "probe_fault": t.failed, "gap": t.pinned}
        unit = self._desk.view.unit
        events = [(event._replace(text=event.text_in(unit)), marks.get(event.kind, t.cool)) for event in trace.events]
        if recorded is not None:
            events += [(event._replace(text=f"log: {event.text}"), t.pinned) for event in recorded.events]
        in_band = result.verdict.metrics.time_to_band_s
        if in_band is not None:
            events.append((RunEvent(in_band, "in_band", "in band"), t.passed))
        changed = len(rows) != len(self.rows.rows)
        self.rows.rows, self.rows.caption = rows, caption
        self.rows.events = sorted(events, key=lambda item: item[0].at_s)
        self.rows.span = (begin, end)
        if changed:
            self.rows.updateGeometry()
        self.rows.update()

    def _write(self, result: Any, band: float) -> None:
        t, unit, who = self._theme, self._desk.view.unit, result.request.controller
        design = result.request.design
        measured = f"measured: {controller_word(who, design)}" if decided_by_code(result) else "measured"
        entries = [
            (measured, t.measured, "line"),
            (f"setpoint ± {difference_to(unit, band):.3g}", t.setpoint, "dash"),
        ]
        if self._desk.runs.tried is not None:
            entries.append(("tried", t.measured, "dash"))
        if self._desk.runs.pinned is not None:
            entries.append((f"pinned: {self._desk.runs.pinned[0]}", t.pinned, "line"))
        if self._desk.runs.recorded is not None:
            entries.append((f"log: {self._desk.runs.recorded.name}", t.recorded, "line"))
        self.legend.entries = entries
        self.unit_label.setText(unit)
        self.legend.update()
        half = self._close_up_half(band)
        name = "distance from the setpoint, ±" if self._is_moving else "close-up, setpoint ±"
        self.close_caption.setText(f"{name} {format_difference(unit, half, 1)}")
        outputs = result.trace.outputs
        second = "; cooling below 0" if self._both_ways(result.trace) else ""
        if len(outputs) == 2 and outputs[1].name == "second fan":
            second = "; ochre: second fan"
        self.demand_caption.setText(f"demand, %{second}")
        self.whole_button.setEnabled(not self._view.is_whole)
        if self._desk.simulator.progress() is None:
            took = f"simulated in {result.took_s * 1000.0:.0f} ms"
            self.status.setText(
                f"ready after {result.took_s:.1f} s" if result.is_first and result.took_s >= 0.5 else took
            )

    @staticmethod
    def _both_ways(trace: Trace) -> bool:
        return len(trace.outputs) == 2 and trace.outputs[1].name == "cooling"

    def _show_busy(self) -> None:
        progress = self._desk.simulator.progress()
        running = progress is not None and progress[0] > SHOW_BUSY_AFTER_S
        if progress is not None and running and self._desk.runs.current is not None:
            self.status.setText(f"simulating, {progress[1] * 100.0:.0f} %")
        elif progress is None and self.status.text().startswith("simulating"):
            self.redraw()
        self.stop.setVisible(
            progress is not None and progress[0] > SHOW_STOP_AFTER_S and self._desk.runs.current is not None
        )

    def _opened(self) -> None:
        self._view.restore()
        self.set_calipers(False)
        self.redraw()

    def read_at(self, time_s: float | None) -> None:
        """Say what the run was at an instant; None: the pointer has left."""
        result, unit = self._desk.runs.current, self._desk.view.unit
        if result is None:
            return
        trace = result.trace
        row = -1 if time_s is None else int(np.searchsorted(trace.time_s, time_s, side="right")) - 1
        inside = time_s is not None and 0 <= time_s <= trace.span_s and 0 <= row < trace.steps
        for lane in self.lanes:
            lane.lines[2].show_at(time_s if inside else None)
        if inside and time_s is not None:
            reading = format_temperature(unit, trace.measured_celsius[row], 2)
            self.status.setText(f"{format_duration(time_s)}  {reading}  {trace.demand[row] * 100.0:.0f} %")
        else:
            self._write(result, result.request.design.limits.band_celsius)
