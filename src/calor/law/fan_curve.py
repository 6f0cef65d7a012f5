"""Fan curve: off below a start temperature, a floor at the start, full at another, or a table of points between.

Without hysteresis at the start a fan chatters: it goes off again only below the start less the hysteresis. A kick at
the start brings a fan over its own friction; a slew limit keeps it from being heard (common practice).
"""

from __future__ import annotations

import itertools
from typing import Annotated, Literal, NamedTuple, Self

from pydantic import Field, Strict, model_validator

from calor.compiled import compiled
from calor.law.outputs import Demands, Inputs, two
from calor.settings import Settings, choice, difference, duration, fraction, number, temperature
from calor.units import TemperatureUnit, difference_to, format_difference, format_temperature

MOST_POINTS = 8
Eight = tuple[float, float, float, float, float, float, float, float]


class FanCurve(Settings):
    """Output that follows the temperature along a curve."""

    kind: Literal["fan_curve"] = choice(
        "fan_curve", "Law", "Output that follows the temperature along a curve.", words={"fan_curve": "Fan"}
    )
    action: Literal["heat", "cool"] = choice(
        "cool", "Action", "Whether more output makes it warmer or colder.", words={"heat": "Heats", "cool": "Cools"}
    )
    period_s: float = duration(1.0, "Control step", "How often the law reads and decides.", 0.001, 3600.0)
    start_celsius: float = temperature(30.0, "Start temperature", "The fan is off until this temperature is reached.")
    full_celsius: float = temperature(45.0, "Full output above", "Full output from this temperature on.")
    floor: float = fraction(0.3, "Output at start", "Output at the start; a fan turns reliably from here on.")
    points: Annotated[tuple[Annotated[tuple[float, float], Strict(False)], ...], Strict(False)] = Field(
        default=(),
        title="Points",
        description="[[celsius, output], …], 8 at most, in place of start, floor and full.",
        max_length=MOST_POINTS,
    )
    hysteresis_celsius: float = difference(
        2.0, "Hysteresis", "Switches off this far below the start temperature.", 0.0, 100.0
    )
    kick_s: float = duration(0.0, "Kick time", "How long the fan is driven harder as it starts.", 0.0, 60.0)
    kick_output: float = fraction(1.0, "Kick output", "Output during the kick.")
    slew_per_s: float = number(
        0.0, "Slew limit", "Share of full output it changes by in a second; 0: at once.", "number", 0.0, 100.0
    )
    follows: Literal["probe", "difference"] = choice(
        "probe",
        "Input followed",
        "The probe, or how far it is above ambient, read by a second probe.",
        words={"probe": "the probe", "difference": "above ambient"},
    )
    second_on_celsius: float | None = temperature(
        None, "2nd fan on above", "A second fan, on or off, joins from here on; none where left out."
    )
    second_off_celsius: float | None = temperature(
        None, "2nd fan off below", "Switch-off threshold; one hysteresis from the switch-on threshold where left out."
    )
    full_alarm_s: float | None = duration(
        None, "Full-output alarm", "Alarm after this long at full output: the fan is losing. 10 s is usual.", 0.1, 1e5
    )

    @model_validator(mode="after")
    def _second_off_follows(self) -> Self:
        on, off = self.second_on_celsius, self.second_off_celsius
        if on is None and off is not None:
            raise ValueError(f"second_off_celsius ({off:g}) needs second_on_celsius; give it, or leave both out")
        if on is not None and off is not None and (off >= on if self.action == "cool" else off <= on):
            side = "below" if self.action == "cool" else "above"
            raise ValueError(
                f"second_off_celsius ({off:g}) must be {side} second_on_celsius ({on:g}) to {self.action}; swap them"
            )
        return self

    @model_validator(mode="after")
    def _curve_rises(self) -> Self:
        if not self.points:
            if (self.start_celsius >= self.full_celsius) == (self.action == "cool"):
                side = "below" if self.action == "cool" else "above"
                raise ValueError(
                    f"start_celsius ({self.start_celsius:g}) must be {side} full_celsius ({self.full_celsius:g})"
                    f" where it {self.action}s; swap them"
                )
            return self
        if len(self.points) < 2:
            raise ValueError(f"points takes at least two points of [celsius, output] (received {len(self.points)})")
        for first, second in itertools.pairwise(self.points):
            if not first[0] < second[0]:
                raise ValueError(
                    f"points must rise in temperature (received {first[0]:g} and then {second[0]:g} °C); sort them"
                )
            if (second[1] < first[1]) == (self.action == "cool") and second[1] != first[1]:
                raise ValueError(
                    f"points: the output must {'rise' if self.action == 'cool' else 'fall'} as it warms where it"
                    f" {self.action}s (received {first[1]:g} and then {second[1]:g}); correct one of them"
                )
        for celsius, output in self.points:
            if not 0.0 <= output <= 1.0:
                raise ValueError(f"points: an output must be from 0 to 1 (received {output:g} at {celsius:g} °C)")
        return self


class FanCurveNumbers(NamedTuple):
    """The curve as the kernel sees it, turned so that it rises: x is the temperature, or less it where it heats."""

    direction: float
    used: int
    x: Eight
    output: Eight
    start_x: float
    stop_x: float
    kick_s: float
    kick_output: float
    slew_per_s: float
    difference: bool
    has_second: bool
    second_on_x: float
    second_off_x: float


class FanCurveState(NamedTuple):
    """Whether it runs, what is left of the kick (s), the output, and whether a second fan runs."""

    on: bool
    kick_left_s: float
    output: float
    second_on: bool


def curve(settings: FanCurve) -> tuple[tuple[float, float], ...]:
    """The points of the curve, °C and output, in order of temperature."""
    if settings.points:
        return settings.points
    ends = ((settings.start_celsius, settings.floor), (settings.full_celsius, 1.0))
    return ends if settings.action == "cool" else ends[::-1]


def fitting(setpoint_celsius: float, action: str) -> dict[str, float]:
    """Settings for a curve around a setpoint, to start from: it runs a little before it, and full well beyond."""
    side = 1.0 if action == "cool" else -1.0
    return {"start_celsius": setpoint_celsius - side * 3.0, "full_celsius": setpoint_celsius + side * 7.0}


def second_ends(settings: FanCurve) -> tuple[float, float]:
    """(on, off) of the second fan, °C, with the switch-off threshold that is left out; 0 and 0 where there is none."""
    if settings.second_on_celsius is None:
        return 0.0, 0.0
    side = 1.0 if settings.action == "cool" else -1.0
    off_celsius = settings.second_on_celsius - side * max(settings.hysteresis_celsius, 0.1)
    return (
        settings.second_on_celsius,
        off_celsius if settings.second_off_celsius is None else settings.second_off_celsius,
    )


def outline(settings: FanCurve) -> tuple[list[float], list[float], list[float]]:
    """(°C, output as it warms, output as it cools) at the corners of its picture, with the hysteresis in it."""
    plain = numbers(settings.model_copy(update={"kick_s": 0.0, "slew_per_s": 0.0}))
    stop, begin = (edge * plain.direction for edge in (plain.stop_x, plain.start_x))
    points = curve(settings)
    low, high = min(stop, begin, points[0][0]), max(stop, begin, points[-1][0])
    wide = max(high - low, 1.0)
    corners = sorted({low - 0.2 * wide, stop, begin, *(celsius for celsius, _ in points), high + 0.2 * wide})
    places = [place for corner in corners for place in (corner - 1e-6, corner, corner + 1e-6)]

    plain = plain._replace(difference=False)

    def still(celsius: float) -> float:
        return float(step(plain, start(), celsius, 0.0, 1.0)[1].first)

    def asked(celsius: float, ran: bool) -> float:
        return (
            float(step(plain, FanCurveState(True, 0.0, 0.0, False), celsius, 0.0, 1.0)[1].first)
            if ran
            else still(celsius)
        )

    return places, [asked(place, False) for place in places], [asked(place, True) for place in places]


def numbers(settings: FanCurve) -> FanCurveNumbers:
    """The settings as plain numbers."""
    direction = 1.0 if settings.action == "cool" else -1.0
    points = sorted((direction * celsius, output) for celsius, output in curve(settings))
    padded = points + [points[-1]] * (MOST_POINTS - len(points))
    x0, x1, x2, x3, x4, x5, x6, x7 = (x for x, _ in padded)
    y0, y1, y2, y3, y4, y5, y6, y7 = (y for _, y in padded)
    # it runs from the first point that asks for any output on
    running = [x for x, output in points if output > 0.0]
    start_x = points[0][0] if points[0][1] > 0.0 else (running[0] if running else points[-1][0])
    if points[0][1] == 0.0 and running:
        start_x = points[[x for x, _ in points].index(running[0]) - 1][0]
    return FanCurveNumbers(
        direction, len(points), (x0, x1, x2, x3, x4, x5, x6, x7), (y0, y1, y2, y3, y4, y5, y6, y7),
        start_x, start_x - settings.hysteresis_celsius, settings.kick_s, settings.kick_output, settings.slew_per_s,
        settings.follows == "difference", settings.second_on_celsius is not None,
        *(direction * end for end in second_ends(settings)),
    )  # fmt: skip


def start() -> FanCurveState:
    """Standing still."""
    return FanCurveState(False, 0.0, 0.0, False)


@compiled
def step(
    law: FanCurveNumbers, state: FanCurveState, measured_celsius: float, other_celsius: float, dt_s: float
) -> tuple[FanCurveState, Demands]:
    """One decision: (state, demands of the fan and of the second one). `other_celsius` is what a difference is
    against."""
    x = law.direction * measured_celsius
    if law.difference:
        x = law.direction * (measured_celsius - other_celsius)
        if not (other_celsius > -273.15 and other_celsius < 3000.0):
            # without its second temperature a fan runs full, and what heats is off
            x = law.direction * 30_000.0
    second_on = state.second_on
    if law.has_second and x >= law.second_on_x:
        second_on = True
    elif x < law.second_off_x:
        second_on = False
    second = 1.0 if second_on else 0.0
    on, kick_left_s = state.on, state.kick_left_s
    if x >= law.start_x and not on:
        on, kick_left_s = True, law.kick_s
    elif x < law.stop_x:
        on = False
    if not on:
        return FanCurveState(False, 0.0, 0.0, second_on), two(0.0, second)
    wanted = law.output[0]
    if x >= law.x[law.used - 1]:
        wanted = law.output[law.used - 1]
    else:
        for k in range(1, law.used):
            if x >= law.x[k - 1] and x < law.x[k]:
                share = (x - law.x[k - 1]) / (law.x[k] - law.x[k - 1])
                wanted = law.output[k - 1] + share * (law.output[k] - law.output[k - 1])
    if kick_left_s > 0.0:
        kick_left_s -= dt_s
        wanted = max(wanted, law.kick_output)
    elif law.slew_per_s > 0.0 and state.on:
        most = law.slew_per_s * dt_s
        wanted = min(max(wanted, state.output - most), state.output + most)
    return FanCurveState(True, kick_left_s, wanted, second_on), two(wanted, second)


@compiled
def override(law: FanCurveNumbers, state: FanCurveState, output: float, dt_s: float) -> tuple[FanCurveState, Demands]:
    """What it gives while a guard puts the output to `output`: a fan that is to start has its kick, one that stands
    will have it."""
    kick_left_s, given = 0.0, output
    if output > 0.0:
        kick_left_s = state.kick_left_s if state.on else law.kick_s
        if kick_left_s > 0.0:
            kick_left_s -= dt_s
            given = max(output, law.kick_output)
    second = output if law.has_second else 0.0
    return FanCurveState(output > 0.0, kick_left_s, given, second > 0.5), two(given, second)


@compiled
def decide(law: FanCurveNumbers, state: FanCurveState, given: Inputs, dt_s: float) -> tuple[FanCurveState, Demands]:
    """One decision, as every law makes it."""
    return step(law, state, given.measured_celsius, given.other_celsius, dt_s)


def output_names(settings: FanCurve) -> tuple[str, ...]:
    """What its outputs are called, in their order."""
    return ("fan", "second fan") if settings.second_on_celsius is not None else ("output",)


def summary(settings: FanCurve, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    """The two lines on its card."""
    del setpoint_celsius
    points = curve(settings)
    first, last = (points[0], points[-1]) if settings.action == "cool" else (points[-1], points[0])
    detail = (
        f"{first[1] * 100:.3g} % at {format_temperature(unit, first[0])}, full at {format_temperature(unit, last[0])}"
    )
    if settings.follows == "difference":
        apart = [difference_to(unit, point[0]) for point in (first, last)]
        detail = f"{first[1] * 100:.3g} % at {apart[0]:+.3g}, full at {apart[1]:+.3g} {unit} over ambient"
    if settings.second_on_celsius is not None:
        return "Fan curve, second fan", detail
    return f"Fan curve, {len(points)} points", detail


def consequences(settings: FanCurve, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    del setpoint_celsius
    plain = numbers(settings)
    stop = format_temperature(unit, plain.stop_x * plain.direction)
    lines = {"hysteresis_celsius": f"It goes off again at {stop}."}
    if settings.hysteresis_celsius < 1.0:
        lines["hysteresis_celsius"] += f" Below {format_difference(unit, 1.0, 0)} it is likely to chatter."
    if not settings.points and settings.floor < 0.2:
        lines["floor"] = "Many fans do not start so low: give it a kick, or a higher floor."
    if settings.second_on_celsius is not None:
        off = format_temperature(unit, second_ends(settings)[1])
        made = "Switch-off threshold set: off at" if settings.second_off_celsius is None else "It goes off at"
        lines["second_on_celsius"] = f"{made} {off}."
    if settings.slew_per_s:
        lines["slew_per_s"] = f"From floor to full in {(1.0 - settings.floor) / settings.slew_per_s:.3g} s."
    return lines
