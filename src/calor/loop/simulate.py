"""Run a design under a trial, or replay its law on a recorded run."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import numpy.typing as npt

from calor.design.model import Design
from calor.design.trial import Trial
from calor.drive import registry as drives
from calor.drive.time_proportional import TimeProportional
from calor.law import alarm as alarms
from calor.law import registry as laws
from calor.law.alarm import Alarm
from calor.law.fan_curve import FanCurve
from calor.load import registry as loads
from calor.loop import kernel
from calor.loop.conditions import happenings, timeline
from calor.loop.trace import Flag, RunEvent, Trace
from calor.sense import filters, reading
from calor.sense import registry as probes
from calor.sense.checks import FAULT_WORDS


class Stopped(Exception):  # noqa: N818 - a run that was asked to stop did not fail
    """The run was ended early, as asked."""


def new_control() -> npt.NDArray[np.int64]:
    """A pair of numbers shared with a run: set [0] to 1 to stop it; [1] counts the rows done."""
    return np.zeros(2, np.int64)


def steps_of(design: Design, trial: Trial) -> int:
    """Number of control steps in the trial's span; a step that the span cuts short counts."""
    return max(1, int(np.ceil(trial.span_s / design.law.period_s - 1e-9)))


def most_changes(design: Design, steps: int, conditions: int) -> int:
    """Upper bound of how often the output can change: once a step, twice a window, once a change of conditions."""
    windows = 0
    if isinstance(design.drive, TimeProportional):
        windows = int(steps * design.law.period_s / design.drive.window_s) + 2
    return steps + 2 * windows + 2 * conditions + 8


def run(design: Design, trial: Trial, control: npt.NDArray[np.int64] | None = None) -> Trace:
    """Simulate `design` under `trial`: row k is the state at k·period_s, with the demand decided then.

    `control` is a pair from new_control, for progress and for stopping from another thread.
    Raises Stopped where it was asked to stop.
    """
    control = new_control() if control is None else control
    steps = steps_of(design, trial)
    conditions = timeline(design, trial)
    blocks = kernel.LoopNumbers(
        float(design.law.period_s),
        probes.numbers(design.probe),
        laws.numbers(design.law, design.guard),
        drives.numbers(design.drive),
        loads.numbers(design.load, float(conditions.extra_w_per_k.max())),
    )
    start = kernel.LoopStart(laws.start(), drives.start(), loads.start(design.start_celsius(trial)))
    noise = np.zeros(steps)
    if design.probe.noise_celsius > 0.0:
        noise = np.random.default_rng(trial.seed).standard_normal(steps) * design.probe.noise_celsius
    probe = blocks.probe
    columns = np.empty((8, steps))
    switch_s, switch_level = (np.empty(most_changes(design, steps, len(conditions.at_s))) for _ in range(2))
    changes = kernel.run(
        blocks, start, laws.start(), conditions, noise, trial.seed, reading.new_memory(probe), float(trial.span_s),
        control, columns, switch_s, switch_level,
    )  # fmt: skip
    if control[kernel.DONE] < steps:
        raise Stopped
    events, disturbances = happenings(trial)
    trace = Trace(
        np.arange(steps, dtype=np.float64) * float(design.law.period_s),
        true_celsius=columns[0],
        probe_celsius=columns[1],
        counts=columns[2],
        measured_celsius=columns[3],
        setpoint_celsius=columns[4],
        demand=columns[5],
        delivered=columns[6],
        flags=columns[7],
        span_s=trial.span_s,
        switch_s=switch_s[:changes].copy(),
        switch_level=switch_level[:changes].copy(),
        switches=design.drive.kind in drives.SWITCHES,
        cools=design.law.action == "cool",
        electric_watt=loads.electric_watt(design.load),
        disturbances=disturbances,
        events=events,
        name=trial.name,
    )
    return _with_found_events(trace, design)


def replay(design: Design, recorded: Trace) -> Trace:
    """What the design's law and drive decide when given the recorded readings, held between samples and filtered.

    The trace keeps the recorded temperature as measured, and the recorded output, held alike, beside the
    law's own demand. A row inside a gap of the record carries Flag.GAP; the last reading is held through it.
    """
    period_s = float(design.law.period_s)
    span_s = float(recorded.time_s[-1] - recorded.time_s[0])
    steps = max(1, int(np.floor(span_s / period_s + 1e-9)) + 1)
    time_s = np.arange(steps, dtype=np.float64) * period_s
    smoothing = filters.numbers(design.probe.filter)
    row = np.searchsorted(recorded.time_s - recorded.time_s[0], time_s + 1e-9, side="right") - 1
    readings = recorded.measured_celsius[row]
    setpoint = np.full(steps, float(design.setpoint.celsius))
    following = np.minimum(row + 1, recorded.steps - 1)
    in_gap = ((recorded.flags[following].astype(np.int64) & Flag.GAP) > 0) & (following > row)
    flags = np.where(in_gap, float(Flag.GAP), 0.0)
    demand, delivered = np.empty(steps), np.empty(steps)
    switch_s, switch_level = (np.empty(most_changes(design, steps, 0)) for _ in range(2))
    changes = kernel.replay(
        period_s,
        laws.numbers(design.law, design.guard),
        drives.numbers(design.drive),
        laws.start(),
        drives.start(),
        smoothing,
        np.zeros(filters.memory_size(smoothing)),
        readings,
        setpoint,
        span_s + period_s,
        demand,
        delivered,
        flags,
        switch_s,
        switch_level,
    )
    output = recorded.delivered[row] if np.isfinite(recorded.delivered).any() else None
    empty = np.full(steps, np.nan)
    return Trace(
        time_s, empty, empty, empty, readings, setpoint, demand, delivered, flags,
        span_s=span_s, switch_s=switch_s[:changes].copy(), switch_level=switch_level[:changes].copy(),
        switches=design.drive.kind in drives.SWITCHES,
        cools=design.law.action == "cool", electric_watt=loads.electric_watt(design.load),
        name=f"replay of {recorded.name}", recorded_output=output,
    )  # fmt: skip


def _with_found_events(trace: Trace, design: Design) -> Trace:
    """The trace with what the guards did added to its events, in order of time."""
    found = list(trace.events)
    flags = trace.flags.astype(np.int64) if trace.flags.any() else np.zeros(1, np.int64)
    tripped = np.flatnonzero(flags & Flag.CUT_OUT)
    if len(tripped):
        word = "below" if trace.cools else "above"
        limit = float(design.guard.cut_out_celsius or 0.0)
        text = f"cut-out tripped {word} {limit:g} °C, output off and latched"
        found.append(RunEvent(float(trace.time_s[tripped[0]]), "cut_out", text, celsius=limit))
    faulty = (flags & Flag.PROBE_FAULT) > 0
    begins = np.flatnonzero(faulty & ~np.concatenate(([False], faulty[:-1])))
    asked = f"{design.guard.probe_fault_output * 100:g} %"
    # a probe at the edge of its scale may flicker in and out of fault: the first ones say it
    for k in begins[:20]:
        word = _fault_word(int(flags[k]))
        found.append(RunEvent(float(trace.time_s[k]), "probe_fault", f"probe fault{word}, output {asked}"))
    for alarm in design.guard.alarms:
        is_difference = alarm.kind not in ("high", "low")
        celsius = float("nan") if alarm.kind == "probe_fault" else alarm.celsius
        found += [
            RunEvent(at_s, "alarm", alarms.line(alarm), celsius=celsius, is_difference=is_difference)
            for at_s in alarm_instants(alarm, design, trace)
        ]
    if isinstance(design.law, FanCurve) and design.law.full_alarm_s is not None:
        full = trace.demand >= 1.0 - 1e-9
        text = f"alarm: at full output for {design.law.full_alarm_s:g} s"
        found += [RunEvent(at_s, "alarm", text) for at_s in _lasting(full, design.law.full_alarm_s, trace)]
    found.sort(key=lambda event: event.at_s)
    return replace(trace, events=tuple(found))


def _fault_word(flags: int) -> str:
    """Which fault of the probe a row's flags name."""
    for fault in range(1, len(FAULT_WORDS)):
        if flags & (int(Flag.PROBE_OPEN) << (fault - 1)):
            return f": {FAULT_WORDS[fault]}"
    return ""


def alarm_rows(alarm: Alarm, design: Design, trace: Trace) -> npt.NDArray[np.bool_]:
    """Whether an alarm is raised at each row of a run. With the mains the controller starts afresh."""
    plain = alarms.numbers(alarm, design.law.action)
    period_s = float(design.law.period_s)
    lost = (trace.flags.astype(np.int64) & Flag.MAINS_LOST) > 0
    raised = np.zeros(trace.steps, np.bool_)
    edges = np.flatnonzero(np.diff(lost.astype(np.int8), prepend=1, append=1))
    for begin, end in zip(edges[::2], edges[1::2], strict=True):
        rows = slice(int(begin), int(end))
        raised[rows] = alarms.steps(
            plain,
            alarms.start(),
            trace.setpoint_celsius[rows],
            trace.measured_celsius[rows],
            trace.demand[rows],
            period_s,
        )
    return raised


def alarm_instants(alarm: Alarm, design: Design, trace: Trace) -> list[float]:
    """When an alarm is raised in a run, s."""
    raised = alarm_rows(alarm, design, trace)
    return [float(at_s) for at_s in trace.time_s[np.flatnonzero(np.diff(raised.astype(np.int8), prepend=0) > 0)][:200]]


def _lasting(outside: npt.NDArray[np.bool_], delay_s: float, trace: Trace) -> list[float]:
    """When a condition of the rows has lasted `delay_s`, s: once for each time it does."""
    if not outside.any():
        return []
    edges = np.diff(outside.astype(np.int8), prepend=0, append=0)
    begins, ends = np.flatnonzero(edges > 0), np.flatnonzero(edges < 0)
    instants = []
    for begin, end in zip(begins, ends, strict=True):
        raised_s = float(trace.time_s[begin]) + delay_s
        over_s = float(trace.time_s[end]) if end < trace.steps else trace.span_s
        if raised_s <= over_s and raised_s < trace.span_s:
            instants.append(raised_s)
    return instants[:200]
