"""Relay: on while the law asks for more than half, with minimum on and off times of its own.

When the controller is switched on nobody knows when the contact opened: the minimum off time begins then. A probe
fault, the cut-out or an alarm that trips opens it before its minimum on time is over; the minimum off time is kept
always.
Source: common practice.
"""

from __future__ import annotations

from typing import Literal, NamedTuple

from calor.compiled import compiled
from calor.settings import Settings, choice, duration, number
from calor.units import TemperatureUnit, format_duration


class Relay(Settings):
    """One contact, switched as the law says."""

    kind: Literal["relay"] = choice("relay", "Drive", "A contact that follows the law.", words={"relay": "Relay"})
    min_on_s: float = duration(
        0.0, "Minimum on time", "Once on, it stays on at least this long, unless a guard puts it off.", 0.0, 86_400.0
    )
    min_off_s: float = duration(
        0.0, "Minimum off time", "Once off, it stays off at least this long; so too after switching on.", 0.0, 86_400.0
    )
    contact_life_cycles: int = number(
        100_000, "Contact life", "Rated electrical life: each cycle is once on and once off.", "cycles", 1, 10**9
    )
    active_low: bool = choice(
        False, "Active low", "The module switches on when its pin is low; the generated C turns the pin's sense round."
    )


SWITCHES = True
"""It switches on and off slowly enough to be counted."""


class RelayNumbers(NamedTuple):
    """The relay as the kernel sees it."""

    min_on_s: float
    min_off_s: float


class RelayState(NamedTuple):
    """Whether it is closed, and since when (s)."""

    closed: bool
    since_s: float


def numbers(settings: Relay) -> RelayNumbers:
    """The settings as plain numbers."""
    return RelayNumbers(settings.min_on_s, settings.min_off_s)


@compiled
def start(now_s: float) -> RelayState:
    """Open, from now on."""
    return RelayState(False, now_s)


@compiled
def step(
    relay: RelayNumbers, state: RelayState, demand: float, overridden: bool, now_s: float, end_s: float
) -> tuple[RelayState, float, float]:
    """What is switched from `now_s` on: (state, level 0 or 1, until when, at most `end_s`)."""
    wanted = demand > 0.5
    if wanted != state.closed:
        shortest_s = relay.min_off_s
        if state.closed:
            shortest_s = 0.0 if overridden else relay.min_on_s
        free_s = state.since_s + shortest_s
        if free_s <= now_s:
            state = RelayState(wanted, now_s)
        elif free_s < end_s:
            return state, 1.0 if state.closed else 0.0, free_s
    return state, 1.0 if state.closed else 0.0, end_s


def summary(settings: Relay, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    """The two lines on its card."""
    del unit, setpoint_celsius
    times = f"at least {format_duration(settings.min_on_s)} on, {format_duration(settings.min_off_s)} off"
    return "Relay", times if settings.min_on_s or settings.min_off_s else "follows the law at once"


def consequences(settings: Relay, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    del unit, setpoint_celsius
    fastest_s = settings.min_on_s + settings.min_off_s
    if not fastest_s:
        return {"min_off_s": "Nothing but the law holds it back from chattering."}
    days = settings.contact_life_cycles * fastest_s / 86_400.0
    return {"contact_life_cycles": f"At its fastest it wears out in {days:,.0f} days.".replace(",", " ")}
