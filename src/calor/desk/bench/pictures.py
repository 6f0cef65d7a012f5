"""Live pictures on the benches: what a law does over temperature or time, and a setpoint's profile; corners drag."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np
from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtGui import QMouseEvent

from calor.desk.state.desk import Desk
from calor.desk.widgets.chart import Chart
from calor.law import fan_curve, on_off, pid, predictive, program, stages, timer
from calor.law.outputs import Outline
from calor.settings import bounds_of
from calor.units import celsius_to, format_duration, to_celsius

HEIGHT_PX = 150
NEAR_PX = 12.0


class Corner(NamedTuple):
    """A corner that can be dragged: where it is, as drawn."""

    x: float
    y: float


class BenchPicture(Chart):
    """One picture of a block, drawn anew with every edit."""

    def __init__(self, desk: Desk, block: str) -> None:
        super().__init__("", most_ticks=(5, 4))
        self.setFixedHeight(HEIGHT_PX)
        self._desk, self._block = desk, block
        self.corners: list[Corner] = []
        self._drawn: tuple[Any, ...] = (None,) * 4
        self.move_corner: Callable[[int, float, float], None] | None = None
        self._held: int | None = None
        desk.runs.changed.connect(self.show_model)

    def show_model(self) -> None:
        """Draw the block as the design has it."""
        desk = self._desk
        settings = getattr(desk.document.design, self._block)
        run = desk.runs.current if self._block == "setpoint" else None
        drawn = (desk.document.design, desk.view.unit, self._theme, run)
        if all(now is then for now, then in zip(drawn, self._drawn, strict=True)):
            return
        self._drawn = drawn
        draw = PICTURES.get((self._block, settings.kind))
        if draw is not None:
            for name in list(self.plot.curves):
                self.draw(name, [], [], self._theme.ink)
            self.mark()
            draw(self, settings)
            self.mark_points("corners", *_columns(self.corners), self._theme.ink)

    def put(self, values: dict[str, Any]) -> None:
        """Take what was dragged; a place where it cannot be is let pass."""
        self._desk.document.set_values(self._block, values, f"{self._block}.dragged")

    def lines(self, outlines: list[Outline], cools: bool) -> tuple[float, float]:
        """Draw a law's lines over temperature, and mark the setpoint; the range of the x axis."""
        t, unit = self._theme, self._desk.view.unit
        colours = {"going": t.cool if cools else t.heat, "back": t.pinned, "second": t.cool}
        for number, line in enumerate(outlines):
            x = np.asarray(celsius_to(unit, np.array(line.x)))
            wide = 1.4 if line.role == "back" else 1.8
            self.draw(f"line {number}", x, np.array(line.y) * 100.0, colours[line.role], wide)
        every = np.asarray(celsius_to(unit, np.concatenate([line.x for line in outlines])))
        span = float(every.min()), float(every.max())
        lowest, highest = (-125.0, 125.0) if any(min(line.y) < 0.0 for line in outlines) else (-6.0, 108.0)
        self.show_range(span, (lowest, highest))
        return span

    def _place(self, event: QMouseEvent) -> QPointF:
        return self.plot.to_place(event.position())

    def _nearest(self, event: QMouseEvent) -> int | None:
        """The corner under the pointer."""
        at = event.position()
        for number, corner in enumerate(self.corners):
            away = self.plot.to_x(corner.x) - at.x(), self.plot.to_y(corner.y) - at.y()
            if math.hypot(*away) <= NEAR_PX:
                return number
        return None

    def eventFilter(self, watched: Any, event: Any) -> bool:
        if isinstance(event, QMouseEvent) and self.move_corner is not None:
            if event.type() == QEvent.Type.MouseButtonPress and event.button() == Qt.MouseButton.LeftButton:
                self._held = self._nearest(event)
                return self._held is not None
            if event.type() == QEvent.Type.MouseMove:
                if self._held is not None:
                    place = self._place(event)
                    self.move_corner(self._held, place.x(), place.y())
                    return True
                near = self._nearest(event) is not None
                self.plot.setCursor(Qt.CursorShape.SizeAllCursor if near else Qt.CursorShape.ArrowCursor)
            if event.type() == QEvent.Type.MouseButtonRelease and self._held is not None:
                self._held = None
                self._desk.document.end_merging()
                return True
        return super().eventFilter(watched, event)


def _columns(corners: list[Corner]) -> tuple[list[float], list[float]]:
    return [corner.x for corner in corners], [corner.y for corner in corners]


def _read_lines(picture: BenchPicture, outlines: list[Outline], said: Callable[[float, list[float]], str]) -> None:
    """Say at the pointer what each line is there."""
    unit = picture._desk.view.unit
    drawn = []
    for line in outlines:
        x = np.asarray(celsius_to(unit, np.array(line.x)))
        order = np.argsort(x, kind="stable")
        drawn.append((x[order], np.array(line.y)[order] * 100.0))
    picture.read_with(lambda value: said(value, [float(np.interp(value, x, y)) for x, y in drawn]))


def _over_temperature(
    outline: Callable[[Any, float], list[Outline]], title: str, said: Callable[[list[float]], str] | None = None
) -> Callable[[BenchPicture, Any], None]:
    """A picture of a law over temperature, with the setpoint marked; `said` is what the pointer says of its lines."""

    def draw(picture: BenchPicture, law: Any) -> None:
        setpoint, unit = picture._desk.document.design.setpoint.celsius, picture._desk.view.unit
        curve = outline(law, setpoint)
        picture.lines(curve, law.action == "cool")
        picture.mark(float(celsius_to(unit, setpoint)))
        picture.set_title(title.format(unit=unit))
        if said is not None:
            _read_lines(picture, curve, lambda x, y: f"{x:.2f} {unit}: {said(y)}")

    return draw


def _timer(picture: BenchPicture, law: Any) -> None:
    t = picture._theme
    line = timer.outline(law)[0]
    picture.draw("line 0", line.x, np.array(line.y) * 100.0, t.cool if law.action == "cool" else t.heat)
    picture.show_range((0.0, line.x[-1]), (-6.0, 108.0))
    picture.set_title(f"% over seconds; {timer.mean_output(law) * 100.0:.1f} % once it repeats")


def _predictive(picture: BenchPicture, law: Any) -> None:
    line = predictive.outline(law)[0]
    scale, noun = (60.0, "min") if line.x[-1] > 300.0 else (1.0, "s")
    picture.draw("line 0", np.array(line.x) / scale, np.array(line.y) * 100.0, picture._theme.setpoint)
    picture.show_range((0.0, line.x[-1] / scale), (-6.0, 108.0))
    picture.set_title(f"% of a small setpoint step followed, over {noun}")


def _fan(picture: BenchPicture, law: Any) -> None:
    unit, t = picture._desk.view.unit, picture._theme
    places, warming, cooling = fan_curve.outline(law)
    outlines = [Outline("back", list(places), list(cooling)), Outline("going", list(places), list(warming))]
    picture.lines(outlines, law.action == "cool")
    if law.second_on_celsius is not None:
        on, off = fan_curve.second_ends(law)
        x = np.asarray(celsius_to(unit, np.array([off, off, on, on])))
        picture.draw("second", x, np.array([-4.0, 104.0, 104.0, -4.0]), t.setpoint, 1.0)
    second = "" if law.second_on_celsius is None else "; ochre: second fan"
    picture.set_title(f"% over {unit}; grey: until it goes off{second}")
    _read_lines(picture, outlines, lambda x, y: f"{x:.1f} {unit}: {y[1]:.0f} %, running {y[0]:.0f} %")
    ends = law.points or ((law.start_celsius, law.floor), (law.full_celsius, 1.0))
    picture.corners = [Corner(float(celsius_to(unit, celsius)), output * 100.0) for celsius, output in ends]

    def move(number: int, x: float, y: float) -> None:
        celsius = float(f"{to_celsius(unit, x):.3g}")
        output = round(min(max(y / 100.0, 0.0), 1.0), 2)
        if law_now().points:
            points = list(law_now().points)
            points[number] = (celsius, output)
            picture.put({"points": tuple(points)})
        elif number == 0:
            picture.put({"start_celsius": celsius, "floor": output})
        else:
            picture.put({"full_celsius": celsius})

    def law_now() -> Any:
        return picture._desk.document.design.law

    picture.move_corner = move


def _program(picture: BenchPicture, setpoint: Any) -> None:
    desk, unit, t = picture._desk, picture._desk.view.unit, picture._theme
    result = desk.runs.current
    begin = desk.document.design.start_celsius(desk.document.trial)
    times, places = program.profile(setpoint, begin)
    scale, noun = (3600.0, "h") if times[-1] > 5400.0 else (60.0, "min")
    end_s = times[-1]
    finish = ""
    if result is not None and result.request.design is desk.document.design:
        trace = result.trace
        over = next((event.at_s for event in trace.events if event.kind == "program_over"), None)
        finish = f"; finishes at {format_duration(over)}" if over is not None else "; does not finish in this trial"
        end_s = max(end_s, min(trace.span_s, over * 1.02 if over is not None else trace.span_s))
        stride = max(len(trace.time_s) // 400, 1)
        shown = trace.measured_celsius[::stride]
        picture.draw("run", trace.time_s[::stride] / scale, celsius_to(unit, shown), t.measured, 1.2)
    drawn = np.asarray(celsius_to(unit, np.array(places)))
    picture.draw("plan", np.array(times) / scale, drawn, t.setpoint)
    low, high = float(drawn.min()), float(drawn.max())
    room = 0.1 * max(high - low, 1.0)
    picture.show_range((0.0, max(end_s, 1.0) / scale), (low - room, high + room))
    picture.set_title(f"{unit} over {noun}{finish}")
    picture.corners = [Corner(times[2 * k + 1] / scale, float(drawn[2 * k + 1])) for k in range(len(setpoint.segments))]

    def move(number: int, x: float, y: float) -> None:
        now: Any = desk.document.design.setpoint
        segments = [segment.model_dump() for segment in now.segments]
        segment = segments[number]
        segment["to_celsius"] = round(float(to_celsius(unit, y)), 1)
        corners = program.profile(now, begin)[0]
        ramp_s = max(x * scale - corners[2 * number], 0.0)
        if segment["rate_celsius_per_min"] is None:
            segment["ramp_s"] = float(round(ramp_s))
        elif ramp_s > 0.0:
            from_celsius = program.profile(now, begin)[1][2 * number]
            low_rate, high_rate, _ = bounds_of(program.Segment.model_fields["rate_celsius_per_min"])
            rate = abs(segment["to_celsius"] - from_celsius) / ramp_s * 60.0
            segment["rate_celsius_per_min"] = float(f"{min(max(rate, low_rate), high_rate):.3g}")
        picture.put({"segments": tuple(segments)})

    picture.move_corner = move


def _day_night(picture: BenchPicture, setpoint: Any) -> None:
    unit, t = picture._desk.view.unit, picture._theme
    edges = sorted([(setpoint.day_begins_s, setpoint.day_celsius), (setpoint.night_begins_s, setpoint.night_celsius)])
    before = edges[1][1]
    x, y = [0.0], [before]
    for at_s, celsius in edges:
        x += [at_s / 3600.0, at_s / 3600.0]
        y += [before, celsius]
        before = celsius
    x.append(24.0)
    y.append(before)
    drawn = np.asarray(celsius_to(unit, np.array(y)))
    picture.draw("plan", x, drawn, t.setpoint)
    room = 0.2 * max(float(np.ptp(drawn)), 1.0)
    picture.show_range((0.0, 24.0), (float(drawn.min()) - room, float(drawn.max()) + room))
    picture.set_title(f"{unit} over the hours of a day")


PICTURES: dict[tuple[str, str], Callable[[BenchPicture, Any], None]] = {
    ("law", "on_off"): _over_temperature(on_off.outline, "% over {unit}; grey: while it is on"),
    ("law", "pid"): _over_temperature(
        pid.outline, "% over {unit}, by the proportional part alone", lambda y: f"{sum(y):.0f} %"
    ),
    ("law", "stages"): _over_temperature(
        stages.outline, "% of the power over {unit}; grey: on the way back",
        lambda y: f"{y[1]:.0f} %, on the way back {y[0]:.0f} %",
    ),
    ("law", "timer"): _timer, ("law", "predictive"): _predictive,
    ("law", "fan_curve"): _fan, ("setpoint", "program"): _program, ("setpoint", "day_night"): _day_night,
}  # fmt: skip
