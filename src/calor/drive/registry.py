"""All drives in one place: the settings of a design's [drive], and the one step the kernel calls."""

from __future__ import annotations

from types import ModuleType
from typing import Annotated, NamedTuple

from pydantic import Field

from calor.compiled import Table, compiled
from calor.drive import linear, pwm, relay, time_proportional
from calor.drive.linear import Linear
from calor.drive.pwm import Pwm, PwmNumbers
from calor.drive.relay import Relay, RelayNumbers, RelayState
from calor.drive.time_proportional import TimeProportional, TimeProportionalNumbers, TimeProportionalState

AnyDrive = Relay | TimeProportional | Pwm | Linear
Drive = Annotated[AnyDrive, Field(discriminator="kind")]

KINDS: dict[str, tuple[type[AnyDrive], ModuleType]] = {
    "relay": (Relay, relay),
    "time_proportional": (TimeProportional, time_proportional),
    "pwm": (Pwm, pwm),
    "linear": (Linear, linear),
}
RELAY, TIME_PROPORTIONAL, PWM, LINEAR = range(len(KINDS))
SWITCHES = ("relay", "time_proportional")
"""Drives that switch on and off slowly enough to be counted."""


class DriveNumbers(NamedTuple):
    """Any drive as the kernel sees it."""

    kind: int
    relay: RelayNumbers
    time_proportional: TimeProportionalNumbers
    pwm: PwmNumbers


class DriveState(NamedTuple):
    """State of whichever drive is in use."""

    relay: RelayState
    time_proportional: TimeProportionalState


def numbers(settings: AnyDrive) -> DriveNumbers:
    """The settings of any drive as plain numbers."""
    return DriveNumbers(
        list(KINDS).index(settings.kind),
        relay.numbers(settings if isinstance(settings, Relay) else Relay()),
        time_proportional.numbers(settings if isinstance(settings, TimeProportional) else TimeProportional()),
        pwm.numbers(settings if isinstance(settings, Pwm) else Pwm()),
    )


STATE_SIZE = 5
"""Numbers that hold the state of a drive."""


@compiled
def start() -> DriveState:
    """Every drive starts off."""
    return DriveState(RelayState(False, -1e18), TimeProportionalState(0, 0.0, 0.0))


@compiled
def keep_state(state: DriveState, rows: Table, output: int) -> None:
    """Keep a drive's state in the row of its output."""
    rows[output, 0], rows[output, 1] = 1.0 if state.relay.closed else 0.0, state.relay.since_s
    rows[output, 2] = float(state.time_proportional.windows)
    rows[output, 3] = state.time_proportional.pulse_until_s
    rows[output, 4] = state.time_proportional.window_until_s


@compiled
def kept_state(rows: Table, output: int) -> DriveState:
    """The state of an output's drive as its row keeps it."""
    return DriveState(
        RelayState(rows[output, 0] != 0.0, rows[output, 1]),
        TimeProportionalState(int(rows[output, 2]), rows[output, 3], rows[output, 4]),
    )


@compiled
def step(
    drive: DriveNumbers, state: DriveState, demand: float, now_s: float, end_s: float
) -> tuple[DriveState, float, float]:
    """What any drive gives from `now_s` on: (state, level 0 to 1, until when, at most `end_s`)."""
    if drive.kind == RELAY:
        relay_state, level, until_s = relay.step(drive.relay, state.relay, demand, now_s, end_s)
        return DriveState(relay_state, state.time_proportional), level, until_s
    if drive.kind == TIME_PROPORTIONAL:
        window_state, level, until_s = time_proportional.step(
            drive.time_proportional, state.time_proportional, demand, now_s, end_s
        )
        return DriveState(state.relay, window_state), level, until_s
    if drive.kind == PWM:
        level, until_s = pwm.step(drive.pwm, demand, end_s)
        return state, level, until_s
    level, until_s = linear.step(demand, end_s)
    return state, level, until_s
