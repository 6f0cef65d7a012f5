"""Time-proportional switching: in each window the output is on for demand × window, then off.

A zero-crossing solid-state relay switches whole half-cycles of the mains; a mechanical relay keeps a shortest
pulse and a shortest pause. The demand is taken once, where a window starts; and where a probe fault, the cut-out or an
alarm that trips puts it elsewhere, a window starts at once. After switching on, or a restart, it begins where a pulse
has just ended: what restarts again and again gives nothing, and not its pulses alone. Source: common practice.
"""

from __future__ import annotations

import math
from typing import Literal, NamedTuple

from calor.compiled import compiled
from calor.settings import Settings, choice, duration, number
from calor.units import TemperatureUnit, format_duration

Switch = Literal["ssr_zero_cross", "ssr_random", "mosfet", "relay"]


class TimeProportional(Settings):
    """A switch that gives part of the power by being on part of the time."""

    kind: Literal["time_proportional"] = choice(
        "time_proportional",
        "Drive",
        "On for the demanded share of each window.",
        words={"time_proportional": "Time-proportional"},
    )
    window_s: float = duration(10.0, "Window", "One on and one off make a window.", 0.02, 3600.0)
    switch: Switch = choice(
        "ssr_zero_cross",
        "Switch",
        "Solid-state relay, zero-crossing or random-phase; MOSFET on DC, as slow PWM; or a relay.",
        words={"ssr_zero_cross": "SSR zero cross", "ssr_random": "SSR random", "mosfet": "MOSFET", "relay": "Relay"},
    )
    mains_hz: int = number(50, "Mains frequency", "A zero-crossing switch gives whole half-cycles.", "hertz", 16, 400)
    min_pulse_s: float = duration(
        0.0, "Minimum pulse", "A mechanical relay makes no pulse and no pause shorter than this.", 0.0, 3600.0
    )
    contact_life_cycles: int = number(
        100_000,
        "Contact life",
        "Used where the switch is a relay: once on and once off is a cycle.",
        "cycles",
        1,
        10**9,
    )
    active_low: bool = choice(
        False, "Active low", "The module switches on when its pin is low; the generated C turns the pin's sense round."
    )


SWITCHES = True
"""It switches on and off slowly enough to be counted."""


class TimeProportionalNumbers(NamedTuple):
    """The drive as the kernel sees it; a half-cycle of 0 means any instant."""

    window_s: float
    half_cycle_s: float
    min_pulse_s: float


class TimeProportionalState(NamedTuple):
    """From when windows are counted (s), how many have begun (-1 before the first of all), when the running one's
    pulse and itself end (s), and the demand it was begun with."""

    origin_s: float
    windows: int
    pulse_until_s: float
    window_until_s: float
    taken: float


def numbers(settings: TimeProportional) -> TimeProportionalNumbers:
    """The settings as plain numbers."""
    half_cycle_s = 0.5 / settings.mains_hz if settings.switch == "ssr_zero_cross" else 0.0
    shortest_s = settings.min_pulse_s if settings.switch == "relay" else 0.0
    return TimeProportionalNumbers(settings.window_s, half_cycle_s, shortest_s)


@compiled
def on_time_s(drive: TimeProportionalNumbers, demand: float) -> float:
    """How long the pulse of one window is."""
    on_s = demand * drive.window_s
    if drive.half_cycle_s > 0.0:
        on_s = math.floor(on_s / drive.half_cycle_s + 0.5) * drive.half_cycle_s
    if on_s < drive.min_pulse_s:
        return 0.0
    if drive.window_s - on_s < drive.min_pulse_s:
        return drive.window_s
    return on_s


@compiled
def start(now_s: float) -> TimeProportionalState:
    """Before the first window."""
    return TimeProportionalState(now_s, -1, now_s, now_s, 0.0)


@compiled
def step(
    drive: TimeProportionalNumbers, state: TimeProportionalState, demand: float, overridden: bool, now_s: float,
    end_s: float,
) -> tuple[TimeProportionalState, float, float]:  # fmt: skip
    """What is switched from `now_s` on: (state, level 0 or 1, until when, at most `end_s`)."""
    if overridden and demand != state.taken:
        state = TimeProportionalState(now_s, 0, now_s, now_s, demand)
    if state.windows < 0:
        on_s = on_time_s(drive, demand)
        origin_s = now_s - on_s if on_s < drive.window_s else now_s
        pulse_s = now_s if on_s < drive.window_s else now_s + drive.window_s
        state = TimeProportionalState(origin_s, 1, pulse_s, origin_s + drive.window_s, demand)
    elif now_s >= state.window_until_s:
        # windows that passed while nobody looked, as in a firmware that hung, are over
        windows = state.windows + int((now_s - state.window_until_s) / drive.window_s)
        begun_s = state.origin_s + windows * drive.window_s
        on_s = on_time_s(drive, demand)
        until_s = state.origin_s + (windows + 1) * drive.window_s
        pulse_s = until_s if on_s >= drive.window_s else begun_s + on_s
        state = TimeProportionalState(state.origin_s, windows + 1, pulse_s, until_s, demand)
    return state, 1.0 if now_s < state.pulse_until_s else 0.0, min(holds_until_s(state, now_s), end_s)


@compiled
def holds_until_s(state: TimeProportionalState, now_s: float) -> float:
    """Until when it keeps its level, whatever is asked: to the end of the pulse, then to that of the window."""
    return state.pulse_until_s if now_s < state.pulse_until_s else state.window_until_s


def summary(settings: TimeProportional, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    """The two lines on its card."""
    del unit, setpoint_celsius
    name = {"relay": "Relay", "mosfet": "MOSFET"}.get(settings.switch, "SSR")
    window = f"{name}, {settings.window_s:g} s window"
    if settings.switch == "ssr_zero_cross":
        steps = f"{settings.window_s * 2 * settings.mains_hz:,.0f}".replace(",", " ")
        return window, f"{steps} steps at {settings.mains_hz} Hz half-cycles"
    if settings.switch == "relay":
        shortest = format_duration(settings.min_pulse_s)
        return window, f"no pulse below {shortest}" if settings.min_pulse_s else "pulses of any length"
    return window, "switches at any instant"


def consequences(settings: TimeProportional, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    del unit, setpoint_celsius
    lines = {}
    per_hour = 3600.0 / settings.window_s
    if settings.switch == "relay":
        days = settings.contact_life_cycles / per_hour / 24.0
        lines["contact_life_cycles"] = f"Up to {per_hour:.0f} cycles an hour: worn out in {days:.0f} days."
    elif settings.switch == "ssr_zero_cross":
        share = 50.0 / (settings.window_s * settings.mains_hz)
        lines["window_s"] = f"One half-cycle is {share:.2g} % of the window."
    return lines
