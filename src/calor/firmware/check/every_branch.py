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
from calor.firmware.check.readings import (
    around_of,
    ends_of,
    fastest_celsius,
    holds_of,
    moved,
    scale,
    setpoints_of,
    thresholds_of,
)
from calor.firmware.check.recorded import Recorded
from calor.firmware.check.stretches import Pace, Stretch, faults, slow, sweep_of, waves
from calor.firmware.run.exchange import (
    CHANGES,
    CLOSED,
    ENDS,
    NONE,
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
from calor.law.program import Program
from calor.law.setpoint import DayNight, Follow
from calor.loop.trace import Trace

NAME = "every branch"
WALK_STEPS, SCALE_STEPS, PROGRAM_DT_S = 5_000, 300, 400.0


def made_inputs(design: Design, form: Form = PLAIN) -> Recorded:
    """The inputs, and the readings in them, in the shape of a trial's; without the calls that a form does not have."""
    chance = np.random.default_rng(11)
    readings, celsius = scale(design)
    near = around_of(readings, celsius, thresholds_of(design))
    over_all = readings[np.linspace(0, len(readings) - 1, SCALE_STEPS).astype(int)]
    row: list[float] = [*over_all, *over_all[::-1]]
    for around in near:
        for reading in (*around, *around[::-1]):
            row += [float(reading)] * 2
    ends = ends_of(design, readings)
    stretch = Stretch(design, readings, celsius)
    faults(design, stretch, ends)
    slow(design, stretch)
    slow_at = len(row)
    row += stretch.row
    waving, asked = waves(design, readings, celsius)
    tests = [len(row) + at for at in asked]
    row += waving
    begun = len(row)
    row += _walk(design, readings, celsius, near, ends, chance)
    swept = Stretch(design, readings, celsius)
    sweep_at, asked_of_pins = len(row), sweep_of(design, swept)
    values = np.array(row + swept.row)
    given = inputs(design, values)
    _call(design, given, chance, begun)
    _put(design, given[slow_at : slow_at + len(stretch.row)], stretch)
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
    return _as_recorded(design, given, values)


def short_inputs(design: Design, steps: int) -> Recorded:
    """As many of their kind as an exported test holds, and only what its few lines of C give: readings, the second
    temperature, steps of time, setpoints, off, by hand, release, and beginning anew."""
    chance = np.random.default_rng(11)
    readings, celsius = scale(design)
    near = around_of(readings, celsius, thresholds_of(design))
    ends = ends_of(design, readings)
    stretch = Stretch(design, readings, celsius, Pace(2, 6, 3, short=True))
    faults(design, stretch, ends)
    slow(design, stretch)
    row = [float(one) for around in near[:: max(1, len(near) // 12)] for one in around[[0, 3, -1, 3]]]
    stretch.row += row
    stretch.dt += [math.nan] * len(row)
    begun = min(len(stretch.row), steps * 3 // 4)
    walk = _walk(design, readings, celsius, near, ends, chance)
    held = [one for one, before in zip(walk[1:], walk, strict=False) if one != before or chance.random() < 0.2]
    values = np.array((stretch.row[:begun] + held)[:steps])
    given = inputs(design, values)
    _call(design, given, chance, begun)
    _put(design, given[:begun], stretch)
    if isinstance(design.setpoint, Program):  # it is to come to its end
        given["dt"][begun:], given["restart"][begun:] = PROGRAM_DT_S, 0
        given["restart"][begun] = 1
    given["calls"] &= np.uint32(OFF | RELEASES)
    # what a line of C can have as a number
    period_s = float(design.law.period_s)
    given["dt"][~np.isfinite(given["dt"])] = period_s
    given["put_in"][~(np.abs(given["put_in"]) < 30_000.0)] = NONE
    given["other"][~(np.abs(given["other"]) < 30_000.0)] = -1_000.0
    given["calls"][given["restart"] > 0] &= ~np.uint32(OFF)
    given["hand"][given["restart"] > 0] = np.nan
    given["clock"] = given["humidity"] = NONE
    return _as_recorded(design, given, values)


def _as_recorded(design: Design, given: npt.NDArray[Any], values: Column) -> Recorded:
    time_s = np.arange(len(values), dtype=np.float64) * float(design.law.period_s)
    nothing = np.full(len(values), np.nan)
    trace = Trace(
        time_s, nothing, nothing, nothing, nothing, nothing, nothing, nothing, np.zeros(len(values)),
        span_s=float(time_s[-1]), name=NAME,
    )  # fmt: skip
    return Recorded(Trial(name=NAME, span_s=max(float(time_s[-1]), 1.0)), trace, np.arange(len(values)), given, values)


def _put(design: Design, given: npt.NDArray[Any], stretch: Stretch) -> None:
    """What goes with the readings of a stretch, as far as `given` reaches."""
    count = len(given)
    given["dt"] = stretch.dt[:count]
    # a setpoint that follows it is then where the readings are about
    aim: Any = design.setpoint
    given["other"] = aim.celsius - aim.offset_celsius if isinstance(aim, Follow) else np.mean(working_range(design))
    given["restart"][[at for at in stretch.restarts if at < count]] = 1
    given["calls"][[at for at in stretch.off if at < count]] |= np.uint32(OFF)
    given["calls"][[at for at in stretch.changes if at < count]] |= np.uint32(CHANGES)
    given["put_in"][[at for at in stretch.put_in if at < count]] = design.setpoint.celsius + 0.4


def _walk(
    design: Design, readings: Column, celsius: Column, near: list[Column], ends: list[float], chance: Any
) -> list[float]:
    """Readings at random: anywhere, at thresholds, at faults, held for as long as something waits."""
    holds, fastest = holds_of(design), fastest_celsius(design)
    row: list[float] = []
    at = float(readings[len(readings) // 2])
    while len(row) < WALK_STEPS:
        kind = chance.random()
        if kind < 0.1:
            reading = float(ends[int(chance.integers(len(ends)))])
        elif kind < 0.3:
            reading = float(readings[int(chance.integers(len(readings)))])
        else:
            group = near[int(chance.integers(len(near)))]
            reading = float(group[int(chance.integers(len(group)))])
        if fastest and chance.random() < 0.7 and math.isfinite(reading):
            row += moved(readings, celsius, at, reading, 0.8 * fastest)
        held = np.full(int(chance.choice(holds)), reading)
        if chance.random() < 0.5 and math.isfinite(reading):
            # it trembles by a code, as a reading that is alive does
            beside = readings[min(int(np.searchsorted(readings, reading)) + 1, len(readings) - 1)]
            held[1::2] = beside
        row += held.tolist()
        at = reading if math.isfinite(reading) else at
    return row


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
