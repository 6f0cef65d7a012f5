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


def _slow(design: Design, readings: Column, celsius: Column) -> list[float]:
    """Readings that stay at either end for as long as each alarm waits, and come back: nothing is called meanwhile."""
    period_s, fastest = float(design.law.period_s), _fastest(design)
    known = readings[np.isfinite(celsius)]
    middle = float(known[int(np.nanargmin(np.abs(celsius[np.isfinite(celsius)] - design.setpoint.celsius)))])
    row: list[float] = []
    at = middle
    for delay_s in sorted({alarm.delay_s for alarm in design.guard.alarms} | {0.0}):
        held = min(math.ceil(delay_s / period_s) + 4, LONGEST_WAIT)
        for end in (float(known[len(known) // 50]), middle, float(known[-1 - len(known) // 50]), middle):
            if fastest:
                row += _moved(readings, celsius, at, end, 0.8 * fastest)
            there = np.full(held if end != middle else 8, end)
            there[1::2] = readings[min(int(np.searchsorted(readings, end)) + 1, len(readings) - 1)]
            row += there.tolist()
            at = end
    return row


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
    row += _slow(design, readings, celsius)
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
    values = np.array(row)
    given = inputs(design, values)
    _call(design, given, chance, begun)
    given["calls"][tests] |= np.uint32(TUNES)
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
    given["put_in"][wild] = _some(chance, count, 0.02, aims, given["put_in"])[wild]
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
        CLOSED * closed + OFF * off + RELEASES * (chance.random(count) < 0.03) + TURNED * (chance.random(count) < 0.3)
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
