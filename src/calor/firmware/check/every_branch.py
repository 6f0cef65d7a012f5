"""Inputs made for a design so that its C goes through every branch: beside those of the trials, which are too tame.

Codes around every threshold, the whole scale up and down, faults, readings that stand still or jump, short, long and
impossible steps of time, signals and settings that are none, and every call that can be made meanwhile.
"""

from __future__ import annotations

import itertools
import math
from typing import Any

import numpy as np
import numpy.typing as npt

from calor.compiled import Column
from calor.design.model import Design
from calor.design.ranges import working_range
from calor.design.trial import Trial
from calor.firmware.check.recorded import Recorded
from calor.firmware.run.exchange import (
    CHANGES,
    CLOSED,
    ENDS,
    OFF,
    RELEASES,
    RESUMES,
    SKIPS,
    STARTS,
    TUNES,
    TURNED,
    inputs,
)
from calor.firmware.sources.form import PLAIN, Form
from calor.law import fan_curve
from calor.law import guard as guards
from calor.law.fan_curve import FanCurve
from calor.law.on_off import OnOff, thresholds_celsius
from calor.law.pid import Pid
from calor.law.program import Program
from calor.law.setpoint import DayNight
from calor.law.stages import Stages, ends
from calor.loop.trace import Trace
from calor.sense import registry as probes
from calor.sense import sweep

NAME = "every branch"
WALK_STEPS = 5_000
LONGEST_HOLD = 400
LONGEST_WAIT = 4_000
SHORT_HOLD, SHORT_STAY, LONGEST_SWEEP = 40, 4, 60
MOST_PATH = 200
SCALE_STEPS = 300


def setpoints_of(design: Design) -> list[float]:
    """The temperatures that a design may aim at, °C."""
    aim: Any = design.setpoint
    places = [float(aim.celsius)]
    places += [part.to_celsius for part in getattr(aim, "segments", ())]
    places += [getattr(aim, key) for key in ("night_celsius", "end_celsius") if hasattr(aim, key)]
    return places


def thresholds_of(design: Design) -> list[float]:
    """Readings at which something changes, °C: of law, guards, alarms and checks, at every setpoint."""
    law: Any = design.law
    low, high = guards.limits_celsius(design.guard, law.action)
    places = [*working_range(design), low, high]
    checks: Any = getattr(design.probe, "checks", None)
    if checks is not None:
        places += [getattr(checks, key) for key in ("low_celsius", "high_celsius") if getattr(checks, key) is not None]
    if isinstance(law, FanCurve):
        plain = fan_curve.numbers(law)
        places += [celsius for celsius, _ in fan_curve.curve(law)]
        places += [plain.direction * x for x in (plain.start_x, plain.stop_x)]
        places += fan_curve.second_ends(law)
    for aim in setpoints_of(design):
        places += [aim, aim - 0.3, aim + 0.3]
        if isinstance(law, OnOff):
            both = thresholds_celsius(law, aim)
            places += [*both, *(2.0 * aim - one for one in both)]
        if isinstance(law, Stages):
            places += [aim + edge for stage in law.stages for edge in ends(law, stage)]
        if isinstance(law, Pid):
            wide = law.integral_band_celsius
            places += [] if wide is None else [aim - wide, aim + wide]
        for alarm in design.guard.alarms:
            if alarm.kind in ("high", "low"):
                places += [alarm.celsius + side * alarm.hysteresis_celsius for side in (-1.0, 0.0, 1.0)]
            else:
                far = (
                    alarm.celsius,
                    alarm.celsius - alarm.hysteresis_celsius,
                    alarm.celsius + alarm.hysteresis_celsius,
                )
                places += [aim + side * one for side in (-1.0, 1.0) for one in far]
    return sorted({round(place, 9) for place in places if math.isfinite(place)})


def _scale(design: Design) -> tuple[Column, Column]:
    """(readings as a run has them, their °C) over the whole scale of a probe, in order of the readings."""
    low, high = working_range(design)
    if design.probe.kind == "ideal":
        celsius = np.linspace(low - 20.0, high + 20.0, 4001)
        return celsius, celsius
    plain = probes.numbers(design.probe)
    if probes.gives_code(design.probe):
        codes = np.unique(np.round(np.linspace(low - 20.0, high + 20.0, 20_001) / plain.code.celsius_per_code))
        codes = codes[(codes >= plain.code.lowest) & (codes <= plain.code.highest)]
        return codes, codes * plain.code.celsius_per_code
    top = int(plain.firmware.adc.codes - 1.0)
    codes = np.unique(np.round(np.linspace(0, top, min(top + 1, 65_536))))
    return codes, sweep.celsius_over(plain, codes)


def _around(readings: Column, celsius: Column, places: list[float]) -> list[Column]:
    """For each temperature the readings next to it, three to each side."""
    known = np.flatnonzero(np.isfinite(celsius))
    found = []
    for place in places:
        at = known[int(np.argmin(np.abs(celsius[known] - place)))]
        found.append(readings[max(at - 3, 0) : at + 4])
    return found


def _holds(design: Design) -> list[int]:
    """For how many steps a reading is held: as long as what a law, a guard or a check waits for."""
    law, period_s = design.law, float(design.law.period_s)
    waits = [
        getattr(law, key, 0.0)
        for key in ("min_on_s", "min_off_s", "stage_delay_s", "kick_s", "first_s", "on_s", "off_s")
    ]
    waits += [alarm.delay_s for alarm in design.guard.alarms]
    waits += [getattr(design.drive_of(k), key, 0.0) for k in range(2) for key in ("min_on_s", "min_off_s", "window_s")]
    checks: Any = getattr(design.probe, "checks", None)
    waits += [getattr(checks, "stuck_s", None) or 0.0]
    if isinstance(design.setpoint, Program):
        waits += [part.soak_s for part in design.setpoint.segments] + [
            part.ramp_s or 0.0 for part in design.setpoint.segments
        ]
    steps = [min(math.ceil(wait_s / period_s) + 2, LONGEST_HOLD) for wait_s in waits if wait_s]
    return [1, 1, 2, 5, 12, *steps]


def _fastest(design: Design) -> float:
    """How far a reading may move in a step before it is a fault, °C; 0 where it may jump."""
    fastest = getattr(getattr(design.probe, "checks", None), "fastest_celsius_per_s", None)
    return 0.0 if fastest is None else float(fastest) * float(design.law.period_s)


def _moved(readings: Column, celsius: Column, begin: float, end: float, most_celsius: float) -> list[float]:
    """Readings from one to another, no step of them further than so many °C."""
    first, last = (int(np.searchsorted(readings, one)) for one in (begin, end))
    first, last = (min(max(one, 0), len(readings) - 1) for one in (first, last))
    step = 1 if last >= first else -1
    path, at = [], first
    for k in range(first, last, step):
        if abs(celsius[k + step] - celsius[at]) > most_celsius:
            path.append(float(readings[k]))
            at = k
    return path[-MOST_PATH:]


class _Stretch:
    """Readings one after the other, each with its step of time (NaN: the design's); where it is begun anew, where it is
    switched off, and where the setpoint is put a little higher."""

    def __init__(self, design: Design, readings: Column, celsius: Column) -> None:
        known = np.isfinite(celsius)
        self._design, self._readings, self._celsius = design, readings[known], celsius[known]
        self.row: list[float] = []
        self.dt: list[float] = []
        self.restarts: list[int] = []
        self.off: list[int] = []
        self.put_in: list[int] = []

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
        where that is soon over, else in nine."""
        period_s = float(self._design.law.period_s)
        plain = seconds <= SHORT_HOLD * period_s
        steps, dt_s = (math.ceil(seconds / period_s) + SHORT_STAY, math.nan) if plain else (13, seconds / 9.0)
        beside = self._readings[min(int(np.searchsorted(self._readings, reading)) + 1, len(self._readings) - 1)]
        self.row += [reading if k % 2 == 0 else float(beside) for k in range(steps)]
        self.dt += [min(dt_s, 3600.0) if dt_s == dt_s else dt_s] * steps

    def go(self, reading: float) -> None:
        """Move to a reading, no faster than a check allows."""
        fastest = _fastest(self._design)
        if fastest and self.row:
            path = _moved(self._readings, self._celsius, self.row[-1], reading, 0.8 * fastest)
            self.row += path
            self.dt += [math.nan] * len(path)


def _faults(design: Design, stretch: _Stretch, ends: list[float]) -> None:
    """From the start on: every fault while an output is on, and back; off, and on again; little to do."""

    def stay(reading: float) -> None:
        stretch.row += [reading] * 3
        stretch.dt += [math.nan] * 3

    for begin in (stretch.end(0.02), stretch.end(0.98)):
        for reading in (*ends, begin):
            stretch.restart()
            stay(begin)
            if reading == begin:
                stretch.off += range(len(stretch.row), len(stretch.row) + 3)
            stay(reading)
            stay(begin)
    for away in (0.05, 0.15, 0.5, 1.5, 5.0):
        for side in (-1.0, 1.0):
            stretch.restart()
            stay(stretch.reading_at(design.setpoint.celsius + side * away))


def _slow(design: Design, stretch: _Stretch) -> None:
    """Readings that stay at either end for as long as each alarm waits, from the start and after the middle, and come
    back; under full demand they move by a little less and a little more than a loop break waits for."""
    middle = stretch.reading_at(design.setpoint.celsius)
    for delay_s in sorted({alarm.delay_s for alarm in design.guard.alarms} | {0.0}):
        for share in (0.02, 0.98):
            end, far = stretch.end(share), stretch.end(1.0 - share)
            stretch.restart()
            for reading, held_s in ((end, delay_s), (middle, 0.0), (far, 0.0), (end, delay_s), (end, 0.0), (middle, 0.0)):
                if stretch.restarts[-1] != len(stretch.row):
                    stretch.go(reading)
                stretch.hold(reading, held_s)
            stretch.put_in.append(len(stretch.row) - SHORT_STAY - 2)
    low, high = working_range(design)
    for alarm in [one for one in design.guard.alarms if one.kind == "loop_break"]:
        for begin, way in ((low, 1.0), (high, -1.0), (low, -1.0), (high, 1.0)):
            stretch.restart()
            for share in (0.0, 0.9, 0.9, 1.9, 3.1, 3.1):
                stretch.hold(stretch.reading_at(begin + way * share * alarm.celsius), 0.6 * alarm.delay_s)
    stretch.restart()
    stretch.hold(middle, 0.0)


def _sweep(design: Design, stretch: _Stretch) -> list[tuple[int, float]]:
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
        stretch.row += [stretch.reading_at(design.setpoint.celsius)] * steps
        stretch.dt += [math.nan] * steps
    return asked


def _waves(design: Design, readings: Column, celsius: Column) -> tuple[list[float], list[int]]:
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


def made_inputs(design: Design, form: Form = PLAIN) -> Recorded:
    """The inputs, and the readings in them, in the shape of a trial's; without the calls that a form does not have."""
    chance = np.random.default_rng(11)
    readings, celsius = _scale(design)
    places = thresholds_of(design)
    near = _around(readings, celsius, places)
    stretch = readings[np.linspace(0, len(readings) - 1, SCALE_STEPS).astype(int)]
    row: list[float] = [*stretch, *stretch[::-1]]
    for around in near:
        for reading in (*around, *around[::-1]):
            row += [float(reading)] * 2
    holds = _holds(design)
    plain = probes.numbers(design.probe)
    ends = [float(readings[0]), float(readings[-1])]
    if design.probe.kind == "ideal" or probes.gives_code(design.probe):
        ends.append(math.nan)
    for limit in (plain.fault_below_counts, plain.fault_above_counts):
        if math.isfinite(limit):
            ends += np.clip(math.floor(limit) + np.arange(-1.0, 3.0), readings[0], readings[-1]).tolist()
    stretch = _Stretch(design, readings, celsius)
    _faults(design, stretch, ends)
    _slow(design, stretch)
    slow_at = len(row)
    row += stretch.row
    waves, asked = _waves(design, readings, celsius)
    tests = [len(row) + at for at in asked]
    row += waves
    begun = len(row)
    fastest = _fastest(design)
    at = float(readings[len(readings) // 2])
    while len(row) - begun < WALK_STEPS:
        kind = chance.random()
        if kind < 0.1:
            reading = float(ends[int(chance.integers(len(ends)))])
        elif kind < 0.3:
            reading = float(readings[int(chance.integers(len(readings)))])
        else:
            group = near[int(chance.integers(len(near)))]
            reading = float(group[int(chance.integers(len(group)))])
        if fastest and chance.random() < 0.7 and math.isfinite(reading):
            row += _moved(readings, celsius, at, reading, 0.8 * fastest)
        held = np.full(int(chance.choice(holds)), reading)
        if chance.random() < 0.5 and math.isfinite(reading):
            # it trembles by a code, as a reading that is alive does
            beside = readings[min(int(np.searchsorted(readings, reading)) + 1, len(readings) - 1)]
            held[1::2] = beside
        row += held.tolist()
        at = reading if math.isfinite(reading) else at
    swept = _Stretch(design, readings, celsius)
    sweep_at, asked_of_pins = len(row), _sweep(design, swept)
    row += swept.row
    values = np.array(row)
    given = inputs(design, values)
    _call(design, given, chance, begun)
    given["dt"][slow_at : slow_at + len(stretch.dt)] = stretch.dt
    given["other"][slow_at : slow_at + len(stretch.dt)] = np.mean(working_range(design))
    given["restart"][[slow_at + at for at in stretch.restarts]] = 1
    given["calls"][[slow_at + at for at in stretch.off]] |= np.uint32(OFF)
    given["put_in"][[slow_at + at for at in stretch.put_in]] = design.setpoint.celsius + 0.4
    given["restart"][sweep_at:] = 0
    given["calls"][sweep_at:] &= ~np.uint32(CHANGES)
    for at, share in asked_of_pins:
        given["asked"][sweep_at + at] = share
    given["calls"][tests] |= np.uint32(TUNES)
    # other settings before the last one, which lets go of what was found
    given["calls"][[at - 3 for at in tests[-1:]]] |= np.uint32(CHANGES)
    if tests:
        given["calls"][tests[-1] + 2] |= np.uint32(ENDS)
    if form.constant:
        given["calls"] &= ~np.uint32(CHANGES)
    time_s = np.arange(len(values), dtype=np.float64) * float(design.law.period_s)
    nothing = np.full(len(values), np.nan)
    trace = Trace(
        time_s, nothing, nothing, nothing, nothing, nothing, nothing, nothing, np.zeros(len(values)),
        span_s=float(time_s[-1]), name=NAME,
    )  # fmt: skip
    return Recorded(Trial(name=NAME, span_s=max(float(time_s[-1]), 1.0)), trace, np.arange(len(values)), given, values)


def _some(chance: Any, count: int, often: float, values: Any, otherwise: Any) -> Any:
    """A column of `otherwise` in which some places have one of some values."""
    return np.where(chance.random(count) < often, chance.choice(np.array(values, np.float64), count), otherwise)


def _call(design: Design, given: npt.NDArray[Any], chance: Any, begun: int) -> None:
    """What else is given and called: first nothing, as in a trial, then anything."""
    count, period_s = len(given), float(design.law.period_s)
    wild = np.arange(count) >= begun
    low, high = working_range(design)
    bad = [np.nan, np.inf, -np.inf, 1e30, -1e30]
    given["other"] = np.linspace(low, high, count)
    given["other"][wild] = _some(chance, count, 0.06, bad, np.interp(chance.random(count), (0, 1), (low, high)))[wild]
    given["hand"][wild] = np.repeat(
        _some(chance, count // 20 + 1, 0.25, [0.0, 0.3, 1.0, -0.4, 60.0, -2.0], np.nan), 20
    )[:count][wild]
    # a program ends, and a cut-out latches: often enough it begins anew
    given["restart"][wild] = (chance.random(count) < (0.01 if isinstance(design.setpoint, Program) else 0.003))[wild]
    times = [0.0, -1.0, np.inf, 7200.0, 1e-6, 3.0 * period_s, 0.5 * period_s, 40.0 * period_s]
    given["dt"][wild] = _some(chance, count, 0.05, times, np.nan)[wild]
    aims = [*setpoints_of(design), low, high, *bad, -300.0]
    for limit in (design.setpoint.low_limit_celsius, design.setpoint.high_limit_celsius):
        aims += [] if limit is None else [limit, limit - 0.1, limit + 0.1]
    law: Any = design.law
    places = [one.at_celsius for one in getattr(law, "gain_sets", ())]
    aims += [place + side for place in places for side in (-0.5, 0.0, 0.5)]
    aims += [0.5 * (one + other) + side for one, other in itertools.pairwise(places) for side in (-0.1, 0.0, 0.1)]
    # each of them in turn, three times
    turns = np.linspace(np.argmax(wild), count - 1, 3 * len(aims), endpoint=False).astype(int)
    given["put_in"][turns] = np.array(aims * 3, np.float64)
    if isinstance(design.setpoint, DayNight):
        edges = [design.setpoint.day_begins_s, design.setpoint.night_begins_s, 0.0, 86_400.0]
        clocks = [edge + side for edge in edges for side in (-2.0 * period_s, -period_s, 0.0, period_s)]
        given["clock"][wild] = _some(chance, count, 0.05, [*clocks, *bad, 3e12], given["clock"])[wild]
    given["humidity"][wild] = _some(chance, count, 0.5, [0.6, 1e-5, 1.05, 0.2, np.nan, 7.0, -0.05], given["humidity"])[
        wild
    ]
    if design.knob is not None:
        top = 2**design.knob.bits - 1
        jumps = np.repeat(chance.integers(0, top + 40, count // 25 + 1), 25)[:count] + chance.integers(-3, 4, count)
        ends = chance.choice([design.knob.low_counts, design.knob.high_counts], count) + chance.integers(-2, 3, count)
        given["knob"] = np.clip(np.where(chance.random(count) < 0.5, jumps, ends), 0, None)
    closed = np.repeat(chance.random(count // 7 + 1) < 0.4, 7)[:count] ^ (chance.random(count) < 0.1)
    off = (
        np.ones(count, bool)
        if design.button is not None
        else np.repeat(chance.random(count // 9 + 1) < 0.05, 9)[:count]
    )
    calls = (
        CLOSED * closed + OFF * off + RELEASES * (chance.random(count) < 0.1) + TURNED * (chance.random(count) < 0.3)
    )
    calls += CHANGES * (chance.random(count) < 0.02)
    calls += TUNES * (chance.random(count) < 0.02) + ENDS * (chance.random(count) < 0.002)
    if isinstance(design.setpoint, Program):
        segments = len(design.setpoint.segments)
        for bit in (STARTS, SKIPS, RESUMES):
            calls += bit * (chance.random(count) < 0.01)
        given["knob"] = chance.integers(0, segments + 2, count)
        given["clock"][wild] = _some(chance, count, 0.9, [0.0, period_s, 15.0, 400.0, *bad], -1.0)[wild]
    # a trip latches: it is released again and again, or nothing but off would be seen
    given["calls"][~wild] = np.where(np.arange(count) % 4 == 0, RELEASES, 0)[~wild]
    given["calls"][wild] = calls[wild]
