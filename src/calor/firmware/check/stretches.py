"""Readings one after the other, made so that laws, guards and switches have to do what they are there for."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from calor.compiled import Column
from calor.design.model import Design
from calor.design.ranges import working_range
from calor.firmware.check.readings import fastest_celsius, moved
from calor.law.pid import Pid

LONGEST_WAIT, LONGEST_SWEEP = 4_000, 60


class Pace(NamedTuple):
    """How many steps a reading stays beyond what is waited for, up to how many steps of the design's are taken for
    that, and how many longer ones in place of more; whether all is as short as can be: it moves in one long
    step then, which no check is against."""

    stay: int = 4
    most: int = 40
    long: int = 9
    short: bool = False


class Stretch:
    """Readings one after the other, each with its step of time (NaN: the design's); where it is begun anew, where it is
    switched off, where the setpoint is put a little higher, and where other settings are put in, or the old ones."""

    def __init__(self, design: Design, readings: Column, celsius: Column, pace: Pace = Pace()) -> None:
        known = np.isfinite(celsius)
        self.pace = pace
        self._design, self._readings, self._celsius = design, readings[known], celsius[known]
        self.row: list[float] = []
        self.dt: list[float] = []
        self.restarts: list[int] = []
        self.off: list[int] = []
        self.put_in: list[int] = []
        self.changes: list[int] = []

    def reading_at(self, celsius: float) -> float:
        """The reading nearest to a temperature."""
        return float(self._readings[int(np.argmin(np.abs(self._celsius - celsius)))])

    def end(self, share: float) -> float:
        """A reading at a share of the scale."""
        return float(self._readings[round(share * (len(self._readings) - 1))])

    def restart(self) -> None:
        """Begin anew at the next step."""
        self.restarts.append(len(self.row))

    def hold(self, reading: float, seconds: float) -> None:
        """Hold a reading, which trembles by a code as one that is alive does: in steps of time as long as the design's
        where that is soon over, else in longer ones."""
        period_s, pace = float(self._design.law.period_s), self.pace
        plain = seconds <= pace.most * period_s
        steps, dt_s = (math.ceil(seconds / period_s), math.nan) if plain else (pace.long, seconds / pace.long)
        steps += pace.stay
        beside = self._readings[min(int(np.searchsorted(self._readings, reading)) + 1, len(self._readings) - 1)]
        self.row += [reading if k % 2 == 0 else float(beside) for k in range(steps)]
        self.dt += [dt_s if plain else min(dt_s, 3600.0)] * steps

    def stay(self, reading: float, steps: int = 0) -> None:
        """Hold a reading as it is for some steps."""
        steps = steps or (2 if self.pace.short else 3)
        self.row += [reading] * steps
        self.dt += [math.nan] * steps

    def go(self, reading: float) -> None:
        """Move to a reading, no faster than a check allows."""
        fastest = fastest_celsius(self._design)
        if fastest and self.pace.short:
            self.row.append(reading)
            self.dt.append(3600.0)
        elif fastest and self.row:
            path = moved(self._readings, self._celsius, self.row[-1], reading, 0.8 * fastest)
            self.row += path
            self.dt += [math.nan] * len(path)


def faults(design: Design, stretch: Stretch, ends: list[float]) -> None:
    """From the start on: every fault while an output is on, and back; off, and on again; little to do."""

    for begin in (stretch.end(0.02), stretch.end(0.98)):
        for reading in (*ends, begin):
            stretch.restart()
            stretch.stay(begin)
            if reading == begin:
                stretch.off += range(len(stretch.row), len(stretch.row) + (2 if stretch.pace.short else 3))
            stretch.stay(reading)
            stretch.stay(begin)
    for away in (0.05, 0.15, 0.5, 1.5, 5.0):
        for side in (-1.0, 1.0):
            stretch.restart()
            stretch.stay(stretch.reading_at(design.setpoint.celsius + side * away))
            stretch.changes += [len(stretch.row) - 2, len(stretch.row) - 1]


def slow(design: Design, stretch: Stretch) -> None:
    """Readings that stay at either end for as long as each alarm waits, from the start and after the middle, and come
    back; under full demand they move by a little less and a little more than a loop break waits for."""
    middle = stretch.reading_at(design.setpoint.celsius)
    for delay_s in sorted({alarm.delay_s for alarm in design.guard.alarms} | {0.0}):
        for share in (0.02, 0.98):
            end, far = stretch.end(share), stretch.end(1.0 - share)
            stretch.restart()
            for reading, held_s in (
                (end, delay_s),
                (middle, 0.0),
                (far, 0.5 * delay_s),
                (end, delay_s),
                (end, 0.0),
                (middle, 0.0),
            ):
                if stretch.restarts[-1] != len(stretch.row):
                    stretch.go(reading)
                stretch.hold(reading, held_s)
            stretch.put_in.append(len(stretch.row) - 2 * stretch.pace.stay + 1)
    low, high = working_range(design)
    for alarm in [one for one in design.guard.alarms if one.kind == "loop_break"]:
        for begin, way in ((low, 1.0), (high, -1.0), (low, -1.0), (high, 1.0))[: 2 if stretch.pace.short else 4]:
            stretch.restart()
            for share in (0.0, 0.9, 0.9, 1.9, 3.1, 3.1):
                stretch.hold(stretch.reading_at(begin + way * share * alarm.celsius), 0.6 * alarm.delay_s)
    stretch.restart()
    stretch.hold(middle, 0.0)


def sweep_of(design: Design, stretch: Stretch) -> list[tuple[int, float]]:
    """Where a demand of its own is asked of the switches that are handed one: over all of them, each for a window."""
    drives = [design.drive_of(k) for k in range(len(design.outputs))]
    shares = [0.0, 0.004, 0.25, 0.4996, 0.5, 0.5004, 0.75, 0.996, 1.0, 0.17]
    for drive in drives:
        window_s, shortest_s = getattr(drive, "window_s", 0.0), getattr(drive, "min_pulse_s", 0.0)
        for side in (0.98, 1.02) if window_s and shortest_s else ():
            shares += [min(side * shortest_s / window_s, 1.0), max(1.0 - side * shortest_s / window_s, 0.0)]
    longest_s = max(max(getattr(d, key, 0.0) for key in ("window_s", "min_on_s", "min_off_s")) for d in drives)
    steps = min(math.ceil(longest_s / float(design.law.period_s)) + 1, LONGEST_SWEEP)
    asked = []
    for share in shares:
        asked += [(len(stretch.row) + k, share) for k in range(steps)]
        stretch.stay(stretch.reading_at(design.setpoint.celsius), steps)
    return asked


def waves(design: Design, readings: Column, celsius: Column) -> tuple[list[float], list[int]]:
    """Readings that swing about the setpoint as under the relay of self-tuning, and where each test is asked for: even
    and uneven ones, hardly beyond the hysteresis, too quick, too far, and one that stands still for too long."""
    law = design.law
    if not (isinstance(law, Pid) and law.autotune is not None):
        return [], []
    known = np.flatnonzero(np.isfinite(celsius))
    test, period_s = law.autotune, float(law.period_s)
    side = -1.0 if law.action == "cool" else 1.0
    row: list[float] = []
    asked = []
    wide = max(3.0 * test.hysteresis_celsius, 1.0)
    # size, steps a cycle, and by how much the second measured cycle is longer and wider
    kinds = (
        (1.0, 24, 1.0, 1.0), (1.0, 24, 1.8, 1.0), (1.0, 24, 0.5, 1.0), (0.5, 24, 1.0, 2.0), (1.0, 24, 1.0, 0.5),
        (2.5, 15, 1.0, 1.0), (0.01 + test.hysteresis_celsius / wide, 30, 1.0, 1.0), (1.0, 3, 1.0, 1.0),
    )  # fmt: skip
    for size, steps, longer, wider in kinds:
        asked.append(len(row))
        for cycle in range(test.cycles + 4):
            is_second = cycle == test.cycles + 1
            turn = np.linspace(0.0, 1.0, round(steps * (longer if is_second else 1.0)), endpoint=False)
            # it rises for longer than it falls, so that the middle has to move
            phase = np.where(turn < 0.6, turn / 0.6, 1.0 + (turn - 0.6) / 0.4) * math.pi
            swing = size * wide * (wider if is_second else 1.0)
            places = design.setpoint.celsius - side * swing * np.sin(phase)
            row += [float(readings[known[int(np.argmin(np.abs(celsius[known] - place)))]]) for place in places]
    still = row[-1]
    asked.append(len(row))
    row += [still] * min(math.ceil(test.timeout_s / period_s) + 4, LONGEST_WAIT)
    if test.limit_celsius is not None:
        asked.append(len(row))
        far = int(np.argmin(np.abs(celsius[known] - (test.limit_celsius + side))))
        row += [still, still, *[float(readings[known[far]])] * 3]
    return row, asked
