"""On/off with two thresholds: a start/stop pair, or the setpoint with a hysteresis around it.

Heating is on below the lower threshold and off above the upper; cooling is on above the upper and off below
the lower. Source: common practice.
"""

from __future__ import annotations

from typing import Any, Literal, NamedTuple, Self

from pydantic import model_validator

from calor.compiled import compiled
from calor.elapsed import NOT_YET_S, passed
from calor.law.outputs import Demands, Inputs, Outline, two
from calor.settings import Settings, choice, difference, duration, temperature
from calor.units import TemperatureUnit, difference_to, format_difference, format_duration, format_temperature

DEFAULT_HYSTERESIS_CELSIUS = 1.0


class OnOff(Settings):
    """Fully on or fully off."""

    kind: Literal["on_off"] = choice(
        "on_off", "Law", "Fully on or fully off, by two thresholds.", words={"on_off": "On/off"}
    )
    action: Literal["heat", "cool", "heat_cool"] = choice(
        "heat",
        "Action",
        "Whether more output makes it warmer or colder; heat_cool: one output for each.",
        words={"heat": "Heats", "cool": "Cools", "heat_cool": "Heats, cools"},
    )
    period_s: float = duration(1.0, "Control step", "How often the law reads and decides.", 0.001, 3600.0)
    start_celsius: float | None = temperature(
        None,
        "Switch-on point",
        "Start/stop pair: on below (heat) or above (cool) this; not used with a hysteresis.",
    )
    stop_celsius: float | None = temperature(
        None,
        "Switch-off point",
        "Start/stop pair: off above (heat) or below (cool) this; not used with a hysteresis.",
    )
    hysteresis_celsius: float | None = difference(
        None, "Hysteresis", "Distance between switching on and off; 1 °C where nothing else is given.", 0.0, 500.0
    )
    placed: Literal["centred", "below", "above"] = choice(
        "centred",
        "Hysteresis placed",
        "Where the hysteresis lies: around the setpoint, all below it or all above it.",
        words={"centred": "Centred", "below": "Below", "above": "Above"},
    )
    dead_zone_celsius: float = difference(
        1.0,
        "Dead zone",
        "With heat_cool: from where heating ends to where cooling ends, around the setpoint.",
        0.0,
        500.0,
    )
    min_on_s: float = duration(0.0, "Minimum on time", "Once on, it stays on at least this long.", 0.0, 86_400.0)
    min_off_s: float = duration(
        0.0, "Minimum off time", "Once off, it stays off at least this long; so too after switching on.", 0.0, 86_400.0
    )

    @model_validator(mode="after")
    def _one_school(self) -> Self:
        if self.action == "heat_cool" and self.placed != "centred":
            raise ValueError(
                f'placed = "{self.placed}" goes with one output; heat_cool has dead_zone_celsius around the setpoint'
            )
        pair = (self.start_celsius, self.stop_celsius)
        if pair == (None, None):
            return self
        if None in pair:
            missing = "start_celsius" if self.start_celsius is None else "stop_celsius"
            raise ValueError(f"start_celsius and stop_celsius go together; give {missing} as well")
        if self.hysteresis_celsius is not None:
            raise ValueError("give either start_celsius and stop_celsius or hysteresis_celsius, not both")
        if self.action == "heat_cool":
            raise ValueError("heat_cool has no start/stop pair; give hysteresis_celsius and dead_zone_celsius")
        start, stop = float(pair[0] or 0.0), float(pair[1] or 0.0)
        if (stop < start) if self.action == "heat" else (stop > start):
            order = "below" if self.action == "heat" else "above"
            raise ValueError(
                f"to {self.action}, start_celsius must be {order} stop_celsius; swap {start:g} and {stop:g}"
            )
        return self


def along_with(settings: OnOff, key: str, value: Any) -> dict[str, Any]:
    """All that changes with one setting: the pair goes together and without a hysteresis, and turns round with the
    action."""
    if key == "hysteresis_celsius" and value is not None:
        return {key: value, "start_celsius": None, "stop_celsius": None}
    if key == "action" and value == "heat_cool":
        return {key: value, "placed": "centred"}
    if key == "action" and settings.start_celsius is not None:
        return {key: value, "start_celsius": settings.stop_celsius, "stop_celsius": settings.start_celsius}
    if key not in ("start_celsius", "stop_celsius"):
        return {key: value}
    other = "stop_celsius" if key == "start_celsius" else "start_celsius"
    if value is None:
        return {key: None, other: None}
    values: dict[str, Any] = {key: value, "hysteresis_celsius": None}
    if getattr(settings, other) is None:
        side = 1.0 if (settings.action == "heat") == (other == "stop_celsius") else -1.0
        values[other] = value + side * (settings.hysteresis_celsius or DEFAULT_HYSTERESIS_CELSIUS)
    return values


class OnOffNumbers(NamedTuple):
    """The law as the kernel sees it: thresholds absolute, or relative to the setpoint."""

    relative: bool
    on_celsius: float
    off_celsius: float
    cools: bool
    min_on_s: float
    min_off_s: float
    both: bool
    dead_zone_celsius: float


class OnOffState(NamedTuple):
    """Whether it is on, how long it has been so (s) and what rounding added to that; the same of cooling, where there
    are two outputs."""

    on: bool
    held_s: float
    held_rest_s: float
    cool_on: bool
    cool_held_s: float
    cool_held_rest_s: float


def thresholds_celsius(settings: OnOff, setpoint_celsius: float) -> tuple[float, float]:
    """(on, off): the temperatures at which it switches on and off, in °C; with two outputs those of heating."""
    plain = numbers(settings)
    base = setpoint_celsius if plain.relative else 0.0
    return base + plain.on_celsius, base + plain.off_celsius


def outline(settings: OnOff, setpoint_celsius: float) -> list[Outline]:
    """The hysteresis loop over temperature: switched on the way there and back; cooling of two outputs below 0."""
    on, off = thresholds_celsius(settings, setpoint_celsius)
    wide = max(1.2 * abs(off - on), 2.5 * abs(on - setpoint_celsius), 0.5)
    low, high = min(on, off, setpoint_celsius) - wide, max(on, off, setpoint_celsius) + wide
    if settings.action == "cool":
        return [
            Outline("back", [high, off, off, low], [1.0, 1.0, 0.0, 0.0]),
            Outline("going", [low, on, on, high], [0.0, 0.0, 1.0, 1.0]),
        ]
    lines = [
        Outline("back", [low, off, off, high], [1.0, 1.0, 0.0, 0.0]),
        Outline("going", [high, on, on, low], [0.0, 0.0, 1.0, 1.0]),
    ]
    if settings.action == "heat_cool":
        cool_on, cool_off = 2.0 * setpoint_celsius - on, 2.0 * setpoint_celsius - off
        high, low = max(high, cool_on + wide), min(low, on - wide)
        lines = [
            Outline("back", [low, off, off, high], [1.0, 1.0, 0.0, 0.0]),
            Outline("going", [high, on, on, low], [0.0, 0.0, 1.0, 1.0]),
            Outline("back", [high, cool_off, cool_off, low], [-1.0, -1.0, 0.0, 0.0]),
            Outline("second", [low, cool_on, cool_on, high], [0.0, 0.0, -1.0, -1.0]),
        ]
    return lines


def numbers(settings: OnOff) -> OnOffNumbers:
    """The settings as plain numbers."""
    cools = settings.action == "cool"
    if settings.start_celsius is not None and settings.stop_celsius is not None:
        relative, on, off = False, settings.start_celsius, settings.stop_celsius
    else:
        spread = DEFAULT_HYSTERESIS_CELSIUS if settings.hysteresis_celsius is None else settings.hysteresis_celsius
        lower = {"centred": -0.5, "below": -1.0, "above": 0.0}[settings.placed] * spread
        if settings.action == "heat_cool":
            lower = -0.5 * settings.dead_zone_celsius - spread
        relative, on, off = True, lower, lower + spread
        if cools:
            on, off = off, on
    both = settings.action == "heat_cool"
    return OnOffNumbers(
        relative,
        on,
        off,
        cools,
        settings.min_on_s,
        settings.min_off_s,
        both,
        settings.dead_zone_celsius if both else 0.0,
    )


def start() -> OnOffState:
    """Off from the first decision on: nobody knows when it was switched off, and a minimum off time begins there."""
    return OnOffState(False, NOT_YET_S, 0.0, False, NOT_YET_S, 0.0)


@compiled
def _switched(
    law: OnOffNumbers, cools: bool, on_at: float, off_at: float, on: bool, held_s: float, celsius: float
) -> bool:
    """Whether one output is on after a reading."""
    wanted = on
    if cools:
        if celsius > on_at:
            wanted = True
        elif celsius < off_at:
            wanted = False
    elif celsius < on_at:
        wanted = True
    elif celsius > off_at:
        wanted = False
    if wanted != on and held_s >= (law.min_on_s if on else law.min_off_s):
        return wanted
    return on


@compiled
def _next(state: OnOffState, on: bool, cool_on: bool, dt_s: float) -> OnOffState:
    """The state with its outputs as they are now: what changed begins to be held."""
    held_s, rest_s = passed(state.held_s, state.held_rest_s, dt_s)
    if on != state.on:
        held_s, rest_s = 0.0, 0.0
    cool_held_s, cool_rest_s = passed(state.cool_held_s, state.cool_held_rest_s, dt_s)
    if cool_on != state.cool_on:
        cool_held_s, cool_rest_s = 0.0, 0.0
    return OnOffState(on, held_s, rest_s, cool_on, cool_held_s, cool_rest_s)


@compiled
def step(
    law: OnOffNumbers, state: OnOffState, setpoint_celsius: float, measured_celsius: float, dt_s: float
) -> tuple[OnOffState, Demands]:
    """One decision: (state, demands, each 0 or 1). `dt_s` is the time since the decision before."""
    base = setpoint_celsius if law.relative else 0.0
    held_s, _rest_s = passed(state.held_s, state.held_rest_s, dt_s)
    on = _switched(law, law.cools, base + law.on_celsius, base + law.off_celsius, state.on, held_s, measured_celsius)
    cool_on = state.cool_on
    if law.both:
        # cooling is heating's mirror image in the setpoint
        held_s, _rest_s = passed(state.cool_held_s, state.cool_held_rest_s, dt_s)
        cool_on = _switched(law, True, base - law.on_celsius, base - law.off_celsius, cool_on, held_s, measured_celsius)
        # never both: what is on already may have to stay on, and the other waits for it
        if on and cool_on:
            on, cool_on = state.on, not state.on
    return _next(state, on, cool_on, dt_s), two(1.0 if on else 0.0, 1.0 if cool_on else 0.0)


@compiled
def _put(law: OnOffNumbers, on: bool, held_s: float, output: float) -> tuple[bool, float]:
    """(on, demand) of one output put to `output`: off at once, on again only after the minimum off time."""
    wanted = output > 0.5
    if wanted and not on and held_s < law.min_off_s:
        return False, 0.0
    return wanted, output


@compiled
def override(law: OnOffNumbers, state: OnOffState, output: float, dt_s: float) -> tuple[OnOffState, Demands]:
    """What it gives while a guard puts the output to `output`, below 0 to cooling; more than half counts as on."""
    first = max(output, 0.0) if law.both else output
    held_s, _rest_s = passed(state.held_s, state.held_rest_s, dt_s)
    on, demand = _put(law, state.on, held_s, first)
    held_s, _rest_s = passed(state.cool_held_s, state.cool_held_rest_s, dt_s)
    cool_on, cool = _put(law, state.cool_on, held_s, max(-output, 0.0))
    return _next(state, on, cool_on, dt_s), two(demand, cool if law.both else 0.0)


@compiled
def decide(law: OnOffNumbers, state: OnOffState, given: Inputs, dt_s: float) -> tuple[OnOffState, Demands]:
    """One decision, as every law makes it."""
    return step(law, state, given.setpoint_celsius, given.measured_celsius, dt_s)


def summary(settings: OnOff, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    """The two lines on its card."""
    on, off = thresholds_celsius(settings, setpoint_celsius)
    if settings.action == "heat_cool":
        away = format_difference(unit, abs(on - setpoint_celsius), 1)
        return "On/off, heat and cool", f"heats {away} below, cools {away} above"
    word = "Heats" if settings.action == "heat" else "Cools"
    spread = difference_to(unit, abs(on - off))
    on_text = format_temperature(unit, on, 1).removesuffix(f" {unit}")
    return f"On/off, {spread:.2g} {unit} apart", f"{word}: on {on_text}, off {format_temperature(unit, off, 1)}"


def consequences(settings: OnOff, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    on, off = thresholds_celsius(settings, setpoint_celsius)
    signs = ("below", "above") if settings.action != "cool" else ("above", "below")
    line = (
        f"On {signs[0]} {format_temperature(unit, on, 2)}, off {signs[1]} {format_temperature(unit, off, 2)}"
        f" ({format_difference(unit, abs(on - off))} apart)."
    )
    if settings.action == "heat_cool":
        line = "Heating: " + line[0].lower() + line[1:] + " Cooling: the same, mirrored in the setpoint."
        return {"dead_zone_celsius": line}
    lines = {"placed" if settings.start_celsius is None else "stop_celsius": line}
    if settings.min_on_s or settings.min_off_s:
        slowest = format_duration(settings.min_on_s + settings.min_off_s)
        lines["min_off_s"] = f"No cycle is shorter than {slowest}."
    return lines
