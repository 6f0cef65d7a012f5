"""Setpoint by hand: a knob's counts mapped to a range with a margin at each end, and a button that toggles.

Without margins the ends of the range could not be reached, as a knob's wiper does not quite reach its ends: 3 to 1020
of 1023 is usual. A button acts on the edge, not the level, and only when it has been still (common practice).
"""

from __future__ import annotations

import math
from typing import NamedTuple, Self

from pydantic import model_validator

from calor.compiled import compiled
from calor.settings import Settings, difference, duration, number, temperature


class Knob(Settings):
    """A potentiometer that sets the setpoint."""

    bits: int = number(10, "Converter bits", "Bits of the converter it is read by.", "integer", 6, 24)
    low_celsius: float = temperature(20.0, "Lowest by knob", "Setpoint at its lower end.")
    high_celsius: float = temperature(40.0, "Highest by knob", "Setpoint at its upper end.")
    low_counts: int = number(3, "Lower margin", "Codes up to this one are the lower end.", "integer", 0, 2**24 - 1)
    high_counts: int = number(
        1020, "Upper margin", "Codes from this one on are the upper end.", "integer", 1, 2**24 - 1
    )
    hysteresis_counts: int = number(
        2, "Hysteresis, codes", "Smaller turns than this are noise, and leave the setpoint alone.", "integer", 0, 2**16
    )
    step_celsius: float = difference(
        0.5, "Rounding step", "The setpoint is rounded to this; 0: not rounded.", 0.0, 50.0
    )

    @model_validator(mode="after")
    def _fits(self) -> Self:
        top = 2**self.bits - 1
        if not self.low_counts < self.high_counts <= top:
            raise ValueError(
                f"low_counts and high_counts must rise and end by {top} with {self.bits} bits (received"
                f" {self.low_counts} and {self.high_counts}); 3 and {max(top - 3, 4)} leave the usual margin"
            )
        if self.low_celsius == self.high_celsius:
            raise ValueError(f"low_celsius and high_celsius are the same (received {self.low_celsius:g}); set two ends")
        return self


class KnobNumbers(NamedTuple):
    """The knob as compiled code sees it."""

    low_counts: float
    celsius_per_count: float
    low_celsius: float
    high_celsius: float
    step_celsius: float
    high_counts: int
    hysteresis_counts: int


class KnobState(NamedTuple):
    """The code that counts, and whether there is one yet."""

    counts: int
    has_counts: bool


def knob_numbers(settings: Knob) -> KnobNumbers:
    """The settings as plain numbers."""
    width = float(settings.high_counts - settings.low_counts)
    return KnobNumbers(
        float(settings.low_counts),
        (settings.high_celsius - settings.low_celsius) / width,
        settings.low_celsius,
        settings.high_celsius,
        settings.step_celsius,
        settings.high_counts,
        settings.hysteresis_counts,
    )


@compiled
def setpoint_of(knob: KnobNumbers, counts: float) -> float:
    """Setpoint in °C for a code of the knob."""
    celsius = knob.low_celsius + (counts - knob.low_counts) * knob.celsius_per_count
    low, high = min(knob.low_celsius, knob.high_celsius), max(knob.low_celsius, knob.high_celsius)
    held = min(max(celsius, low), high)
    if knob.step_celsius > 0.0:
        # rounded from the lower end on, so that both ends of a range of whole steps are reached
        steps = math.floor((held - low) / knob.step_celsius + 0.5)
        held = min(low + steps * knob.step_celsius, high)
    return held


@compiled
def knob_step(knob: KnobNumbers, state: KnobState, counts: int) -> tuple[KnobState, float]:
    """(state, setpoint in °C) after one more code: a turn no larger than the hysteresis is none; the ends always
    are."""
    turned = not state.has_counts or abs(counts - state.counts) > knob.hysteresis_counts
    if turned or counts <= int(knob.low_counts) or counts >= knob.high_counts:
        state = KnobState(counts, True)
    return state, setpoint_of(knob, float(state.counts))


def celsius_at(settings: Knob, share: float) -> float:
    """Setpoint in °C where the knob is turned to a share of its travel, as its converter reads it."""
    top = 2**settings.bits - 1
    return float(setpoint_of(knob_numbers(settings), float(math.floor(share * top + 0.5))))


def share_at(settings: Knob, celsius: float) -> float:
    """How far the knob is turned for a setpoint (°C), as a share of its converter's scale."""
    numbers = knob_numbers(settings)
    counts = numbers.low_counts + (celsius - numbers.low_celsius) / numbers.celsius_per_count
    return float(min(max(counts, numbers.low_counts), float(numbers.high_counts)) + 0.5) / 2.0**settings.bits


class Button(Settings):
    """A push button that switches the thermostat on and off."""

    debounce_s: float = duration(
        0.03, "Debounce time", "A contact that has not been still for this long is bouncing.", 0.001, 5.0
    )
    starts_on: bool = False


class ButtonState(NamedTuple):
    """What the button remembers: the level that counts, the last one seen, for how long, and what it has switched."""

    pressed: bool
    last: bool
    still_s: float
    on: bool


def button_start(settings: Button) -> ButtonState:
    """The button as it is when the controller is switched on."""
    return ButtonState(False, False, 0.0, settings.starts_on)


@compiled
def button_step(debounce_s: float, state: ButtonState, level: bool, dt_s: float) -> ButtonState:
    """The button `dt_s` later, its contact closed (`level`) or not: it toggles once each time it goes down."""
    still_s = state.still_s + dt_s if level == state.last else 0.0
    pressed, on = state.pressed, state.on
    if level != pressed and still_s >= debounce_s:
        pressed = level
        if pressed:
            on = not on
    return ButtonState(pressed, level, still_s, on)
