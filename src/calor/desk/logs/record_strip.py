"""The strip of a record: readings, the other record underneath, the fit over them, what is left, what was switched."""

from __future__ import annotations

from typing import Any

import numpy as np
from PyQt6.QtWidgets import QHBoxLayout, QVBoxLayout

from calor.compiled import Column
from calor.desk.logs.shelf import Opened, Shelf
from calor.desk.state.desk import Desk
from calor.desk.strip.lanes import LEFT_PX, RIGHT_PX, Lane
from calor.desk.strip.rows import Row
from calor.desk.strip.time_strip import TimeStrip
from calor.desk.widgets.fields import label
from calor.identify.observed import Observed
from calor.loop.envelope import envelope, share_on
from calor.loop.trace import RunEvent, Trace
from calor.units import (
    TemperatureUnit,
    celsius_to,
    difference_to,
    format_difference,
    format_duration,
    format_temperature,
)

EMPTY = (
    "No record is open.\nOpen a log by Ctrl+Shift+L, drop one here, or choose a made-up one on the left:\n"
    "a CSV file, or what a serial monitor caught."
)
READING = "Reading {name} …"
SHORT_NAMES = {
    "error": "error value",
    "spike": "spike",
    "stuck": "stuck",
    "rate": "jump",
    "clipped": "clipped",
    "no_reading": "no reading",
}
MOST_MARKS = 60


def broken(record: Observed, values: Column) -> tuple[Column, Column]:
    """Times and values of a fit, broken before each stretch, as the record is."""
    firsts = [stretch.first for stretch in record.stretches[1:]]
    return np.insert(record.time_s, firsts, record.time_s[firsts]), np.insert(values, firsts, np.nan)


class RecordStrip(TimeStrip):
    """Readings with what lies over and under them, the ambient, the residual, the output, and what was found where."""

    def __init__(self, desk: Desk, shelf: Shelf) -> None:
        super().__init__((Lane(6), Lane(5), Lane(4), Lane(2)))
        _, self.residual, self.ambient, self.output = self.lanes
        self._desk, self._shelf = desk, shelf
        self.whole_button.setText("Whole record")
        self.status = label("", "quiet")
        self.captions = {lane: label("", "quiet") for lane in self.lanes[1:]}
        self._build()
        for signal in (shelf.changed, shelf.measured, shelf.compared_changed, shelf.fitted, desk.view.unit_changed):
            signal.connect(self.redraw)

    def _build(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 8, 0, 4)
        column.setSpacing(0)
        column.addLayout(self.head(self.status, self.caliper_button, self.whole_button))
        column.addWidget(self.whole, 9)
        for lane, stretch in ((self.residual, 4), (self.ambient, 3), (self.output, 3)):
            line = QHBoxLayout()
            line.setContentsMargins(LEFT_PX, 3, RIGHT_PX, 0)
            line.addWidget(self.captions[lane], 1)
            column.addLayout(line)
            column.addWidget(lane, stretch)
        column.addWidget(self.rows)

    # ---- what the strip asks

    def span_s(self) -> float:
        item, other, aligned = self._shelf.chosen, self._shelf.other, self._shelf.aligned
        span_s = 1.0 if item is None else item.record.trace.span_s
        if other is not None and aligned is not None:
            span_s = max(span_s, other.record.trace.span_s + aligned.shift_s)
        return span_s

    def measured(self) -> Trace | None:
        item = self._shelf.chosen
        return None if item is None else item.record.trace

    def shown_unit(self) -> TemperatureUnit:
        return self._desk.view.unit

    def calipers_moved(self) -> None:
        calipers = sorted(self.calipers)
        self._shelf.choose_stretch((calipers[0], calipers[1]) if calipers else None)

    # ---- drawing

    def redraw(self) -> None:
        item = self._shelf.chosen
        self.empty.setVisible(item is None)
        if item is None:
            reading = self._shelf.reading
            self.empty.setText(READING.format(name=reading[0].name) if reading else EMPTY)
            return
        begin, end = self.shown()
        fit = item.fit
        has_ambient = item.record.ambient_celsius is not None
        shares = item.record.trace.recorded_output
        has_share = shares is not None and not set(np.unique(shares[np.isfinite(shares)])[:3].tolist()) <= {0.0, 1.0}
        for lane, there in ((self.residual, fit is not None), (self.ambient, has_ambient), (self.output, has_share)):
            lane.setVisible(there)
            self.captions[lane].setVisible(there)
        for lane in self.lanes:
            lane.show_span(begin, end)
        self._draw_readings(item, begin, end)
        self._draw_below(item, begin, end)
        self._draw_rows(item, begin, end)
        self._write(item)
        self.draw_calipers()

    def _points(self, time_s: Column, celsius: Column, begin: float, end: float, lane: Lane) -> Any:
        times, values = envelope(time_s, celsius, begin, end, lane.pixels())
        return times, celsius_to(self._desk.view.unit, values)

    def _draw_readings(self, item: Opened, begin: float, end: float) -> None:
        t, unit, trace, lane = self._theme, self._desk.view.unit, item.record.trace, self.whole
        low, high = trace.measured_range
        lane.draw("measured", self._points(*trace.line, begin, end, lane), t.measured, z=10)
        setpoint = None
        if np.isfinite(trace.setpoint_celsius).any():
            setpoint = self._points(trace.time_s, trace.setpoint_celsius, begin, end, lane)
        lane.draw("setpoint", setpoint, t.setpoint, dash=True, z=5, width=1.2)
        other, aligned = self._shelf.other, self._shelf.aligned
        below = None
        if other is not None and aligned is not None:
            times, values = other.record.trace.line
            below = self._points(times + aligned.shift_s, values, begin, end, lane)
            low, high = min(low, other.record.trace.measured_range[0]), max(high, other.record.trace.measured_range[1])
        lane.draw("other", below, t.pinned, z=-5)
        answer = None
        if item.fit is not None:
            record = item.fit.records[0]
            answer = self._points(*broken(record, item.fit.answer_celsius[0]), begin, end, lane)
            low = min(low, float(np.nanmin(item.fit.answer_celsius[0])))
            high = max(high, float(np.nanmax(item.fit.answer_celsius[0])))
        lane.draw("fit", answer, t.heat, dash=True, z=12, width=1.4)
        if np.isfinite(low):
            low, high = celsius_to(unit, low), celsius_to(unit, high)
            room = max(0.04 * (high - low), 0.05)
            lane.show_values(low - room, high + room)

    def _draw_below(self, item: Opened, begin: float, end: float) -> None:
        """What the fit leaves, the ambient, and the output where it is a share."""
        t, unit, record = self._theme, self._desk.view.unit, item.record
        if item.fit is not None:
            observed, left = item.fit.records[0], difference_to(unit, item.fit.residual_celsius[0])
            times, values = envelope(*broken(observed, left), begin, end, self.residual.pixels())
            self.residual.draw("residual", (times, values), t.ink, width=1.0)
            most = float(np.nanmax(np.abs(left), initial=0.0)) or 1.0
            sides = np.array([begin, end])
            self.residual.draw("zero", (sides, np.zeros(2)), t.pinned, z=-5, width=1.0)
            self.residual.show_values(-1.1 * most, 1.1 * most)
            self.captions[self.residual].setText(
                f"residual, {unit}: left by the fit; {format_difference(unit, item.fit.residual_rms_celsius, 3)} rms"
            )
        if record.ambient_celsius is not None:
            around = record.ambient_celsius
            self.ambient.draw("ambient", self._points(record.trace.time_s, around, begin, end, self.ambient), t.cool)
            low, high = (float(celsius_to(unit, value)) for value in (np.nanmin(around), np.nanmax(around)))
            room = max(0.1 * (high - low), 0.1)
            self.ambient.show_values(low - room, high + room)
            column = record.recognised.of("ambient")
            self.captions[self.ambient].setText(f"ambient, {unit}{f': {column.name}' if column is not None else ''}")
        if record.trace.recorded_output is not None:
            times, values = envelope(
                record.trace.time_s, record.trace.recorded_output * 100.0, begin, end, self.output.pixels()
            )
            self.output.draw("output", (times, values), t.heat, width=1.0)
            low = -113.0 if float(np.nanmin(record.trace.recorded_output)) < 0.0 else -13.0
            self.output.show_values(low, 113.0)
            column = record.recognised.of("output")
            self.captions[self.output].setText(f"output, %{f': {column.name}' if column is not None else ''}")

    def _draw_rows(self, item: Opened, begin: float, end: float) -> None:
        t, trace = self._theme, item.record.trace
        pixels = max(self.rows.width() - LEFT_PX - RIGHT_PX, 50)
        rows = [Row("on", self._share(trace, begin, end, pixels), t.heat)]
        caption = "output on" if trace.recorded_output is not None else "no column of the output"
        other, aligned = self._shelf.other, self._shelf.aligned
        if other is not None and aligned is not None:
            shift = aligned.shift_s
            below = other.record.trace
            rows.append(Row("other", self._share(below, begin - shift, end - shift, pixels), t.pinned))
            caption = "output on: in this record, and in the other one"
        events = [(event, t.pinned) for event in trace.events]
        for finding in item.record.findings:
            if finding.kind in SHORT_NAMES and not finding.taken_back:
                name = SHORT_NAMES[finding.kind]
                places = list(zip(finding.at_s, finding.until_s, strict=True))[:MOST_MARKS]
                for number, (at_s, until_s) in enumerate(places):
                    lasts = until_s if until_s > at_s else float("nan")
                    said = name if number == 0 or len(places) < 4 else ""
                    events.append((RunEvent(at_s, finding.kind, said, lasts), t.failed))
        for left_s, until_s in item.left_out:
            events.append((RunEvent(left_s, "left_out", "left out of the fit", until_s), t.setpoint))
        changed = len(rows) != len(self.rows.rows)
        self.rows.rows, self.rows.caption = rows, caption
        self.rows.events = sorted(events, key=lambda place: place[0].at_s)
        self.rows.none = "nothing found"
        self.rows.span = (begin, end)
        if changed:
            self.rows.updateGeometry()
        self.rows.update()

    @staticmethod
    def _share(trace: Trace, begin: float, end: float, pixels: int) -> Any:
        """The mean output under each pixel, nothing in gaps; None where it was not recorded."""
        if trace.recorded_output is None:
            return None
        share = share_on(trace, begin, end, pixels)
        times = np.linspace(begin, end, pixels)
        for gap in (event for event in trace.events if event.kind == "gap"):
            share[(times > gap.at_s) & (times < gap.until_s)] = 0.0
        return share

    def _write(self, item: Opened) -> None:
        t = self._theme
        entries = [(item.record.name, t.measured, "line")]
        if np.isfinite(item.record.trace.setpoint_celsius).any():
            entries.append(("setpoint", t.setpoint, "dash"))
        if item.fit is not None:
            entries.append(("fit", t.heat, "dash"))
        other = self._shelf.other
        if other is not None and self._shelf.aligned is not None:
            entries.append((f"{other.record.name}, by {self._shelf.aligned.how}", t.pinned, "line"))
        self.legend.entries = entries
        self.unit_label.setText(self._desk.view.unit)
        self.legend.update()
        self.whole_button.setEnabled(not self._view.is_whole)
        reading = self._shelf.reading
        self.status.setText(READING.format(name=reading[0].name) if reading else "")

    def read_at(self, time_s: float | None) -> None:
        item, unit = self._shelf.chosen, self._desk.view.unit
        if item is None:
            return
        trace = item.record.trace
        row = -1 if time_s is None else int(np.searchsorted(trace.time_s, time_s, side="right")) - 1
        inside = time_s is not None and 0 <= row < trace.steps
        for lane in self.lanes:
            lane.lines[2].show_at(time_s if inside else None)
        if inside and time_s is not None:
            said = f"{format_duration(time_s)}  {format_temperature(unit, trace.measured_celsius[row], 2)}"
            if trace.recorded_output is not None and np.isfinite(trace.recorded_output[row]):
                said += f"  {100.0 * trace.recorded_output[row]:.0f} %"
            self.status.setText(said)
        else:
            self._write(item)

    def show_place(self, at_s: float, until_s: float) -> None:
        """Show a place that something was found at, with some room on both sides."""
        span_s = self.span_s()
        room = max(0.02 * span_s, 2.0 * (until_s - at_s), 10.0)
        self.look_at(max(at_s - room, 0.0), min(until_s + room, span_s))

    def started_anew(self) -> None:
        """Another record: all of it, without calipers."""
        self._view.restore()
        self.calipers[:] = []
        self.caliper_button.setChecked(False)
        self.readout.hide()
