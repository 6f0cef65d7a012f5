"""What is set by hand while the thermostat runs, as the calls of its C do, in its own numbers; what it is given."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from calor import moist_air
from calor.drive.registry import DriveNumbers
from calor.elapsed import microseconds
from calor.firmware.check.arithmetic import Arithmetic
from calor.firmware.check.by_counts import ByCounts
from calor.firmware.check.in_single import Single, natural_log
from calor.firmware.run.exchange import CLOSED, ENDS, NONE, OFF, TUNES, TURNED
from calor.law.alarm import AlarmNumbers
from calor.law.autotune import NOTHING, STARTS, STOPS
from calor.law.registry import LawNumbers
from calor.law.setpoint import DAY_NIGHT, SetpointNumbers
from calor.sense import knob as knobs
from calor.sense.knob import Button, KnobNumbers
from calor.sense.registry import ProbeNumbers


class Given(NamedTuple):
    """What the reference is given: the design's numbers and, for each control step, what the firmware sees."""

    probe: ProbeNumbers
    setpoint: SetpointNumbers
    law: LawNumbers
    alarms: tuple[AlarmNumbers, ...]
    period_s: float
    outputs: int
    readings: npt.NDArray[np.float32]
    other: npt.NDArray[np.float32]
    by_hand: bool
    inputs: npt.NDArray[Any]
    may_be_set: bool
    follows_dew_point: bool
    knob: KnobNumbers | None
    button: Button | None
    drives: tuple[tuple[str, DriveNumbers], ...]
    tick_s: float
    ticks: int
    counts_ticks: bool
    changes_gains: bool
    tunes: bool
    fixed: bool
    by_counts: ByCounts | None
    hand_low: float
    hand_overrides: bool


class Controls:
    """What is set by hand while it runs, as the firmware's calls do: setpoint, knob, button, clock, and what is off."""

    def __init__(self, asked: Given, kind: Arithmetic) -> None:
        self._asked, self._kind = asked, kind
        self._aim: SetpointNumbers = kind.every(asked.setpoint)
        self._knob_numbers = None if asked.knob is None else kind.every(asked.knob)
        self.begin()

    def begin(self) -> None:
        """As after switching on."""
        number, aim = self._kind.number, self._aim
        self.setpoint: Any = aim.celsius
        self.clock_us = microseconds(aim.clock_at_start_s)
        self.knob, self.knob_celsius = knobs.KnobState(0, False), number(0.0)
        self.button = None if self._asked.button is None else knobs.button_start(self._asked.button)
        self.dew_point = number(0.0)
        self.off = False
        self.hand = np.nan
        self.tune = NOTHING

    def _put(self, celsius: Any) -> None:
        held = min(max(celsius, self._aim.low_celsius), self._aim.high_celsius)
        if self._asked.may_be_set and held == celsius and celsius > -273.15 and celsius <= 3000.0:
            self.setpoint = celsius

    def take(self, row: Any, signal: Any, begins: bool) -> Any:
        """Take the calls of an input; what the signal is after them. Where it `begins` it is left as it was begun: on,
        and automatic."""
        if row["put_in"] != NONE:
            self._put(self._kind.given(row["put_in"]))
        if self._asked.setpoint.kind == DAY_NIGHT and 0.0 <= row["clock"] <= 86_400.0:
            self.clock_us = microseconds(row["clock"])
        calls = int(row["calls"])
        if self._knob_numbers is not None and calls & TURNED:
            self.knob, celsius = knobs.knob_step(self._knob_numbers, self.knob, int(row["knob"]))
            self.knob_celsius = self._kind.number(celsius)
            self._put(self._kind.given(self._kind.seen(self.knob_celsius)))
        if self.button is not None:
            debounce_s = self._kind.number(self._asked.button.debounce_s)  # type: ignore[union-attr]
            tick_s = self._kind.number(self._asked.tick_s)
            self.button = knobs.button_step(debounce_s, self.button, bool(calls & CLOSED), tick_s)
        is_given = self._asked.by_hand and not np.isnan(row["hand"])
        hand = self._kind.given(row["hand"]) if is_given else np.nan
        if not begins and (np.isnan(hand) or self._asked.hand_low <= hand <= 1.0):
            self.hand = hand
        self.tune = NOTHING
        if self._asked.tunes:
            self.tune = STOPS if calls & ENDS else STARTS if calls & TUNES else NOTHING
        self.off = bool(calls & OFF) and not (self.button is not None and self.button.on) and not begins
        if self._asked.follows_dew_point and row["humidity"] != NONE:
            self.dew_point = Single(firmware_dew_point(row["other"], row["humidity"]))
            return self.dew_point
        return signal


def firmware_dew_point(celsius: Any, humidity: Any) -> Any:
    """The dew point as the firmware works it out, in single precision; −1000 where no air is like that."""
    if not (-100.0 < celsius < 200.0 and -0.1 <= humidity <= 1.1):
        return Single(-1000.0)
    b, c = Single(moist_air.MAGNUS_B), Single(moist_air.MAGNUS_C_CELSIUS)
    share = min(max(Single(humidity), Single(0.0001)), Single(1.0))
    ratio = natural_log(share) + b * celsius / (c + celsius)
    return c * ratio / (b - ratio)
