"""What the generated switches and timers make of a demand, call by call, in single precision: a reference of the pins.

The simulation switches at exact instants; a chip asks its switch at a steady pace. Here that is said a second time, as
the C says it, so that a slip in either shows.
"""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import numpy as np

from calor.drive.registry import DriveNumbers

Single: Any = np.float32
MOST_COUNTS = 4_000_000_000


@lru_cache(maxsize=256)
def clock_counts(seconds: Any) -> int:
    """Whole microseconds of a time; 0 for what is none."""
    if not seconds > 0.0:
        return 0
    return int(Single(seconds) * Single(1e6) + Single(0.5)) if seconds < 4000.0 else MOST_COUNTS


class TimeProportionalPin:
    """A switch that is on for the demanded share of each window."""

    def __init__(self, drive: DriveNumbers) -> None:
        own = drive.time_proportional
        self._window_s, self._half_cycle_s = Single(own.window_s), Single(own.half_cycle_s)
        self._shortest_s = Single(own.min_pulse_s)
        self._window = clock_counts(self._window_s)
        self._begun, self._at, self._pulse, self._given, self._taken = False, 0, 0, 0, Single(0.0)

    def _pulse_of(self, demand: Any) -> int:
        on_s = Single(demand) * self._window_s
        if self._half_cycle_s > 0.0:
            on_s = Single(int(on_s / self._half_cycle_s + Single(0.5))) * self._half_cycle_s
        if self._shortest_s > 0.0 and on_s < self._shortest_s:
            on_s = Single(0.0)
        elif self._shortest_s > 0.0 and self._window_s - on_s < self._shortest_s:
            on_s = self._window_s
        return clock_counts(on_s)

    def tick(self, demand: Any, guarded: bool, tick_s: Any) -> bool:
        """Whether it is on for the next `tick_s`; where a guard puts the demand elsewhere a window begins at once."""
        tick, rest = clock_counts(tick_s), 0
        begins = not self._begun or (guarded and demand != self._taken)
        if begins:
            self._at = tick // 2
        else:
            self._at += tick
            if self._at >= self._window:
                self._at %= self._window
                begins, rest = True, self._pulse - self._given
        if begins:
            pulse = self._pulse_of(demand)
            given = 0
            if not self._begun and pulse < self._window:
                self._at, given = pulse + tick // 2, pulse  # after a start: where a pulse has just ended
            if 0 < pulse < self._window and abs(rest) <= tick:
                pulse = max(pulse + rest, 0)
            self._pulse, self._given, self._begun, self._taken = pulse, given, True, demand
        on = self._at < self._pulse
        self._given += tick if on else 0
        return on


class RelayPin:
    """A contact with shortest times."""

    def __init__(self, drive: DriveNumbers) -> None:
        self._on_s, self._off_s = Single(drive.relay.min_on_s), Single(drive.relay.min_off_s)
        self._closed, self._held_s, self._rest_s = False, Single(0.0), Single(0.0)

    def tick(self, demand: Any, guarded: bool, tick_s: Any) -> bool:
        """Whether it is closed for the next `tick_s`; a guard opens it before its minimum on time is over."""
        shortest_s = self._off_s
        if self._closed:
            shortest_s = Single(0.0) if guarded else self._on_s
        wanted = bool(demand > 0.5)
        if wanted != self._closed and self._held_s + Single(0.5) * Single(tick_s) >= shortest_s:
            self._closed, self._held_s, self._rest_s = wanted, Single(0.0), Single(0.0)
        added = Single(tick_s) - self._rest_s
        grown = self._held_s + added
        self._rest_s = (grown - self._held_s) - added
        self._held_s = grown
        return self._closed


PINS = {"time_proportional": TimeProportionalPin, "relay": RelayPin}


def pwm_counts(drive: DriveNumbers, demand: Any) -> int:
    """What is written into the timer's compare register."""
    return int(Single(demand) * Single(drive.pwm.steps) + Single(0.5))
