"""On/off with two thresholds: a start/stop pair, or the setpoint with a hysteresis around it.

Heating is on below the lower threshold and off above the upper; cooling is on above the upper and off below
the lower. Source: common practice.
"""

from __future__ import annotations

from typing import Literal, NamedTuple, Self

from pydantic import model_validator

from calor.compiled import compiled
from calor.settings import Settings, choice, difference, duration, temperature
from calor.units import TemperatureUnit, difference_to, format_difference, format_duration, format_temperature

FOREVER_S = 1e18
DEFAULT_HYSTERESIS_CELSIUS = 1.0


class OnOff(Settings):
    """Fully on or fully off."""

    kind: Literal["on_off"] = choice("on_off", "Law", "Fully on or fully off, by two thresholds.")
    action: Literal["heat", "cool"] = choice("heat", "Action", "Whether more output makes it warmer or colder.")
    period_s: float = duration(1.0, "Control step", "How often the law reads and decides.", 0.001, 3600.0)
    start_celsius: float | None = temperature(
        None, "Starts at", "Start/stop pair: on below (heat) or above (cool) this; not used with a hysteresis."
    )
    stop_celsius: float | None = temperature(
        None, "Stops at", "Start/stop pair: off above (heat) or below (cool) this; not used with a hysteresis."
    )
    hysteresis_celsius: float | None = difference(
        None, "Hysteresis", "Distance between switching on and off; 1 °C where nothing else is given.", 0.0, 500.0
    )
    placed: Literal["centred", "below", "above"] = choice(
        "centred", "Placed", "Where the hysteresis lies: around the setpoint, all below it or all above it."
    )
    min_on_s: float = duration(0.0, "Shortest on", "Once on, it stays on at least this long.", 0.0, 86_400.0)
    min_off_s: float = duration(0.0, "Shortest off", "Once off, it stays off at least this long.", 0.0, 86_400.0)

    @model_validator(mode="after")
    def _one_school(self) -> Self:
        pair = (self.start_celsius, self.stop_celsius)
        if pair == (None, None):
            return self
        if None in pair:
            missing = "start_celsius" if self.start_celsius is None else "stop_celsius"
            raise ValueError(f"start_celsius and stop_celsius go together; give {missing} as well")
        if self.hysteresis_celsius is not None:
            raise ValueError("give either start_celsius and stop_celsius or hysteresis_celsius, not both")
        start, stop = float(pair[0] or 0.0), float(pair[1] or 0.0)
        if (stop < start) if self.action == "heat" else (stop > start):
            order = "below" if self.action == "heat" else "above"
            raise ValueError(
                f"to {self.action}, start_celsius must be {order} stop_celsius; swap {start:g} and {stop:g}"
            )
        return self


class OnOffNumbers(NamedTuple):
    """The law as the kernel sees it: thresholds absolute, or relative to the setpoint."""

    relative: bool
    on_celsius: float
    off_celsius: float
    cools: bool
    min_on_s: float
    min_off_s: float


class OnOffState(NamedTuple):
    """Whether it is on, and how long it has been so (s)."""

    on: bool
    held_s: float


def thresholds_celsius(settings: OnOff, setpoint_celsius: float) -> tuple[float, float]:
    """(on, off): the temperatures at which it switches on and off, in °C."""
    plain = numbers(settings)
    base = setpoint_celsius if plain.relative else 0.0
    return base + plain.on_celsius, base + plain.off_celsius


def numbers(settings: OnOff) -> OnOffNumbers:
    """The settings as plain numbers."""
    cools = settings.action == "cool"
    if settings.start_celsius is not None and settings.stop_celsius is not None:
        relative, on, off = False, settings.start_celsius, settings.stop_celsius
    else:
        spread = DEFAULT_HYSTERESIS_CELSIUS if settings.hysteresis_celsius is None else settings.hysteresis_celsius
        lower = {"centred": -0.5, "below": -1.0, "above": 0.0}[settings.placed] * spread
        relative, on, off = True, lower, lower + spread
        if cools:
            on, off = off, on
    return OnOffNumbers(relative, on, off, cools, settings.min_on_s, settings.min_off_s)


def start() -> OnOffState:
    """Off, and free to switch on at once."""
    return OnOffState(False, FOREVER_S)


@compiled(inline=True, inner=True)
def step(
    law: OnOffNumbers, state: OnOffState, setpoint_celsius: float, measured_celsius: float, dt_s: float
) -> tuple[OnOffState, float]:
    """One decision: (state, demand 0 or 1). `dt_s` is the time since the decision before."""
    base = setpoint_celsius if law.relative else 0.0
    on_at, off_at = base + law.on_celsius, base + law.off_celsius
    held_s = state.held_s + dt_s
    wanted = state.on
    if law.cools:
        if measured_celsius > on_at:
            wanted = True
        elif measured_celsius < off_at:
            wanted = False
    elif measured_celsius < on_at:
        wanted = True
    elif measured_celsius > off_at:
        wanted = False
    if wanted != state.on and held_s >= (law.min_on_s if state.on else law.min_off_s):
        return OnOffState(wanted, 0.0), 1.0 if wanted else 0.0
    return OnOffState(state.on, held_s), 1.0 if state.on else 0.0


def summary(settings: OnOff, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    """The two lines on its card."""
    on, off = thresholds_celsius(settings, setpoint_celsius)
    word = "Heats" if settings.action == "heat" else "Cools"
    spread = difference_to(unit, abs(on - off))
    on_text = format_temperature(unit, on, 1).removesuffix(f" {unit}")
    return f"On/off, {spread:.2g} {unit} apart", f"{word}: on {on_text}, off {format_temperature(unit, off, 1)}"


def consequences(settings: OnOff, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    on, off = thresholds_celsius(settings, setpoint_celsius)
    signs = ("below", "above") if settings.action == "heat" else ("above", "below")
    line = (
        f"On {signs[0]} {format_temperature(unit, on, 2)}, off {signs[1]} {format_temperature(unit, off, 2)}"
        f" ({format_difference(unit, abs(on - off))} apart)."
    )
    lines = {"placed" if settings.start_celsius is None else "stop_celsius": line}
    if settings.min_on_s or settings.min_off_s:
        slowest = format_duration(settings.min_on_s + settings.min_off_s)
        lines["min_off_s"] = f"No cycle is shorter than {slowest}."
    return lines
