"""What the generated switches make of a demand, call by call, in the firmware's numbers: a reference of the pins.

The simulation switches at exact instants; a chip asks its switch at a steady pace. Here that is said a second time, as
the C says it, so that a slip in either shows.
"""

from __future__ import annotations

from typing import Any

from calor.drive.registry import DriveNumbers
from calor.firmware.check.arithmetic import Arithmetic


class TimeProportionalPin:
    """A switch that is on for the demanded share of each window."""

    def __init__(self, drive: DriveNumbers, kind: Arithmetic) -> None:
        own = drive.time_proportional
        self._kind, number = kind, kind.number
        self._window_s, self._half_cycle_s = number(own.window_s), number(own.half_cycle_s)
        self._shortest_s = number(own.min_pulse_s)
        self._window = kind.clock_counts(self._window_s)
        self._begun, self._at, self._pulse, self._given, self._taken = False, 0, 0, 0, number(0.0)

    def _pulse_of(self, demand: Any) -> int:
        number = self._kind.number
        on_s = number(demand) * self._window_s
        if self._half_cycle_s > 0.0:
            on_s = number(float(int(on_s / self._half_cycle_s + number(0.5)))) * self._half_cycle_s
        if self._shortest_s > 0.0 and on_s < self._shortest_s:
            on_s = number(0.0)
        elif self._shortest_s > 0.0 and self._window_s - on_s < self._shortest_s:
            on_s = self._window_s
        return self._kind.clock_counts(on_s)

    def ticks(self, demand: Any, guarded: bool, tick_s: Any, count: int) -> int:
        """Ticks that it is on of so many."""
        return sum([self._tick(demand, guarded, tick_s) for _ in range(count)])

    def _tick(self, demand: Any, guarded: bool, tick_s: Any) -> bool:
        """Whether it is on for the next `tick_s`; where a guard puts the demand elsewhere a window begins at once."""
        tick, rest = self._kind.clock_counts(tick_s), 0
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

    def __init__(self, drive: DriveNumbers, kind: Arithmetic) -> None:
        self._number = number = kind.number
        self._passed = kind.ticked
        self._on_s, self._off_s = number(drive.relay.min_on_s), number(drive.relay.min_off_s)
        self._closed, self._held_s, self._rest_s = False, number(0.0), number(0.0)

    def ticks(self, demand: Any, guarded: bool, tick_s: Any, count: int) -> int:
        """Ticks that it is closed of so many; a guard opens it before its minimum on time is over."""
        wanted, closed = bool(demand > 0.5), 0
        for tick in range(count):
            shortest_s = self._off_s
            if self._closed:
                shortest_s = self._number(0.0) if guarded else self._on_s
            if wanted == self._closed or self._held_s + self._number(0.5) * tick_s >= shortest_s:
                if wanted != self._closed:
                    self._closed, self._held_s, self._rest_s = wanted, self._number(0.0), self._number(0.0)
                # nothing changes any more in this step
                self._held_s, self._rest_s = self._passed(self._held_s, self._rest_s, tick_s, count - tick)
                return closed + self._closed * (count - tick)
            self._held_s, self._rest_s = self._passed(self._held_s, self._rest_s, tick_s, 1)
            closed += self._closed
        return closed


PINS = {"time_proportional": TimeProportionalPin, "relay": RelayPin}
