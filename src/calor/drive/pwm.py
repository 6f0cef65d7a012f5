"""Pulse width modulation by a timer: f = f_clk / (prescaler·top), steps = top.

Of the prescalers the smallest whose top still fits the timer is taken, which leaves the most steps. 16 MHz at 25 kHz
leaves 640 steps. Four-wire fans want 25 kHz nominal, 21 to 28, on their control wire (from memory), and do not stop at
0 %; between about 20 Hz and 18 kHz a winding sings (common practice).
"""

from __future__ import annotations

import math
from typing import Literal, NamedTuple, Self

from pydantic import model_validator

from calor.compiled import compiled
from calor.settings import Settings, choice, fraction, number
from calor.units import TemperatureUnit

PRESCALERS = (1, 8, 64, 256, 1024)
"""Of the timers of small controllers (common practice)."""
FAN_HZ = (21_000.0, 28_000.0)
AUDIBLE_HZ = (20.0, 18_000.0)


class Pwm(Settings):
    """A pulse width that follows the demand, far faster than the load."""

    kind: Literal["pwm"] = choice("pwm", "Drive", "A pulse width that follows the demand.", words={"pwm": "PWM"})
    frequency_hz: float = number(
        25_000.0, "Frequency", "Wanted; the nearest that the timer can do is used.", "frequency", 0.1, 1e6
    )
    timer_clock_hz: float = number(16e6, "Timer clock", "What the timer counts.", "clock_frequency", 1e3, 1e9)
    timer_bits: Literal[8, 10, 16] = choice(16, "Timer width, bits", "Its top is at most 2 to this power, less 1.")
    dead_band: float = fraction(0.0, "Dead band", "Below this share nothing turns or warms, as with many fans.")
    idle_output: float = fraction(
        0.0, "Idle speed", "A four-wire fan does not stop at 0 %: it turns on at this share of full speed."
    )
    supply_switch: bool = choice(
        False, "Supply switched", "The supply is switched off while nothing is asked for, so that an idling fan stops."
    )
    contact_life_cycles: int = number(
        100_000, "Contact life", "Of the relay that switches the supply: once on and once off is a cycle.", "cycles", 1,
        10**9,
    )  # fmt: skip

    @model_validator(mode="after")
    def _reachable(self) -> Self:
        highest, lowest = self.timer_clock_hz / 2.0, self.timer_clock_hz / (PRESCALERS[-1] * (2**self.timer_bits - 1))
        if not lowest <= self.frequency_hz <= highest:
            raise ValueError(
                f"frequency_hz must be from {lowest:.4g} to {highest:.4g} with this timer (received"
                f" {self.frequency_hz:g}); change it or the timer"
            )
        return self


class PwmNumbers(NamedTuple):
    """The drive as the kernel sees it."""

    steps: float
    dead_band: float
    idle_output: float
    supply_switch: bool


class Timing(NamedTuple):
    """What the timer is set to, and what comes of it."""

    prescaler: int
    top: int
    frequency_hz: float


def timing(settings: Pwm) -> Timing:
    """Prescaler and top nearest to the frequency wanted, with the most steps there are."""
    largest = 2**settings.timer_bits - 1
    for prescaler in PRESCALERS:
        top = round(settings.timer_clock_hz / (prescaler * settings.frequency_hz))
        if top <= largest:
            top = max(top, 2)
            return Timing(prescaler, top, settings.timer_clock_hz / (prescaler * top))
    return Timing(PRESCALERS[-1], largest, settings.timer_clock_hz / (PRESCALERS[-1] * largest))


def numbers(settings: Pwm) -> PwmNumbers:
    """The settings as plain numbers."""
    return PwmNumbers(float(timing(settings).top), settings.dead_band, settings.idle_output, settings.supply_switch)


@compiled
def step(drive: PwmNumbers, demand: float, now_s: float, end_s: float) -> tuple[float, float]:
    """What is given: (level 0 to 1 in whole steps, until when). Nothing below the dead band."""
    level = math.floor(demand * drive.steps + 0.5) / drive.steps
    if drive.dead_band > 0.0 and level <= drive.dead_band:
        level = 0.0
    if demand > 0.0 or not drive.supply_switch:
        level = max(level, drive.idle_output)
    return level, end_s


def summary(settings: Pwm, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    """The two lines on its card."""
    del unit, setpoint_celsius
    timer = timing(settings)
    return f"PWM, {_hertz(timer.frequency_hz)}", f"{timer.top} steps, prescaler {timer.prescaler}"


def _hertz(value: float) -> str:
    return f"{value / 1000.0:.4g} kHz" if value >= 1000.0 else f"{value:.4g} Hz"


def consequences(settings: Pwm, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    del unit, setpoint_celsius
    timer = timing(settings)
    away = timer.frequency_hz / settings.frequency_hz - 1.0
    line = f"{_hertz(timer.frequency_hz)} with prescaler {timer.prescaler} and top {timer.top}"
    line += "." if abs(away) < 1e-6 else f", {away * 100.0:+.2g} %.".replace("-", "−")
    if AUDIBLE_HZ[0] <= timer.frequency_hz <= AUDIBLE_HZ[1]:
        line += " It can be heard."
    lines = {"frequency_hz": line, "timer_bits": f"One step is {100.0 / timer.top:.3g} %."}
    if not FAN_HZ[0] <= timer.frequency_hz <= FAN_HZ[1]:
        lines["frequency_hz"] += " A four-wire fan wants 21 to 28 kHz."
    if settings.idle_output:
        stands = "its supply is switched off" if settings.supply_switch else "it never stops"
        lines["idle_output"] = f"At 0 % it turns at {settings.idle_output * 100.0:.3g} %; {stands}."
    if settings.dead_band:
        lines["dead_band"] = f"Up to {settings.dead_band * 100.0:.3g} % is asked in vain."
    return lines
