"""Events that are found in a run when it has ended: what guards, alarms and programs did in it."""

from __future__ import annotations

import itertools

import numpy as np
import numpy.typing as npt

from calor.design.model import Design
from calor.law import alarm as alarms
from calor.law import guard as guards
from calor.law import program as programs
from calor.law.alarm import Alarm
from calor.law.autotune import APPLIED, REASONS
from calor.law.fan_curve import FanCurve
from calor.load import liquid
from calor.load.liquid import Liquid
from calor.loop.trace import Flag, RunEvent, Trace, Tuning
from calor.sense.checks import FAULT_WORDS


def with_found_events(trace: Trace, design: Design) -> Trace:
    """The trace with what the guards did added to its events, in order of time."""
    events = list(trace.events)
    flags = trace.whole_flags
    if flags.any():
        events += _of_guards(trace, design)
    for alarm in design.guard.alarms:
        is_difference = alarm.kind not in ("high", "low")
        celsius = float("nan") if alarm.kind == "probe_fault" else alarm.celsius
        events += [
            RunEvent(at_s, "alarm", alarms.line(alarm), celsius=celsius, is_difference=is_difference)
            for at_s in alarm_instants(alarm, design, trace)
        ]
    if isinstance(design.law, FanCurve) and design.law.full_alarm_s is not None:
        full = trace.demand >= 1.0 - 1e-9
        text = f"alarm: at full output for {design.law.full_alarm_s:g} s"
        events += [RunEvent(at_s, "alarm", text) for at_s in _lasting(full, design.law.full_alarm_s, trace)]
    if isinstance(design.setpoint, programs.Program) and not (flags & (Flag.MAINS_LOST | Flag.STALLED)).any():
        row = programs.over_at(programs.numbers(design.setpoint), trace.measured_celsius, float(design.law.period_s))
        if row >= 0:
            events.append(RunEvent(float(trace.time_s[row]), "program_over", "program over"))
    for tuning in trace.tunings:
        for at, event in enumerate(events):
            if event.kind == "tune" and tuning.began_s - design.law.period_s < event.at_s <= tuning.began_s:
                events[at] = event._replace(until_s=max(tuning.ended_s, tuning.began_s + design.law.period_s))
        events.append(RunEvent(tuning.ended_s, "tuned", _said(tuning)))
    if isinstance(design.load, Liquid):
        events += _boiling(trace, liquid.boiling_celsius(design.load))
    events.sort(key=lambda event: event.at_s)
    return trace.with_events(tuple(events))


def _of_guards(trace: Trace, design: Design) -> list[RunEvent]:
    """The cut-out, and faults of the probe, by a run's flags."""
    events, flags = [], trace.whole_flags
    low, high = guards.limits_celsius(design.guard, design.law.action)
    for row in _trips(flags)[:20]:
        at_s = float(trace.time_s[row])
        if flags[row] & Flag.TRIPPED:
            events.append(RunEvent(at_s, "cut_out", "tripped by an alarm, output off and latched"))
            continue
        below = bool(trace.measured_celsius[row] < low)
        text = f"cut-out tripped {'below' if below else 'above'} {low if below else high:g} °C, output off and latched"
        events.append(RunEvent(at_s, "cut_out", text, celsius=low if below else high))
    faulty = (flags & Flag.PROBE_FAULT) > 0
    begins = np.flatnonzero(faulty & ~np.concatenate(([False], faulty[:-1])))
    asked = f"{design.guard.probe_fault_output * 100:g} %"
    # a probe at the edge of its scale may flicker in and out of fault: the first ones say it
    for k in begins[:20]:
        word = _fault_word(int(flags[k]))
        events.append(RunEvent(float(trace.time_s[k]), "probe_fault", f"probe fault{word}, output {asked}"))
    return events


def _trips(flags: npt.NDArray[np.int64]) -> list[int]:
    """The rows in which the outputs are put off and latched: again after the controller was started again, and not
    where a firmware that hung goes on as it was."""
    looked = np.flatnonzero((flags & Flag.STALLED) == 0)
    cut = (flags[looked] & Flag.CUT_OUT) > 0
    return [int(row) for row in looked[cut & ~np.concatenate(([False], cut[:-1]))]]


def _said(tuning: Tuning) -> str:
    """What came of a self-tuning, in a few words."""
    if tuning.result != APPLIED:
        return f"self-tuning: {REASONS[tuning.result]}; the old gains stay"
    derivative = f", Td {tuning.derivative_time_s:.3g} s" if tuning.derivative_time_s else ""
    return f"self-tuned: gain {tuning.gain_per_celsius:.3g} /°C, Ti {tuning.integral_time_s:.4g} s{derivative}"


def _boiling(trace: Trace, boils_celsius: float) -> list[RunEvent]:
    """When a liquid begins to boil, and when it has boiled dry: then it grows hotter than that. Again after it was
    refilled."""
    events = []
    refilled_s = [event.at_s for event in trace.events if event.kind == "contents_added"]
    begins = np.searchsorted(trace.time_s, [0.0, *sorted(refilled_s)], side="left").tolist()
    hotter = trace.true_celsius > boils_celsius + 0.01
    boils = (trace.true_celsius > boils_celsius - 1e-6) & ~hotter
    # what is put there hotter than that boils within a step, and only what is dry stays so
    dry = hotter & np.concatenate((hotter[1:], [False]))
    for rows, kind, text in ((boils, "boils", "it boils"), (dry, "dry", "boiled dry")):
        onsets = np.flatnonzero(rows & ~np.concatenate(([False], rows[:-1])))
        for begin, end in itertools.pairwise([*begins, trace.steps]):
            own = onsets[(onsets >= begin) & (onsets < end)]
            if len(own):
                events.append(RunEvent(float(trace.time_s[own[0]]), kind, text))
    return events


def _fault_word(flags: int) -> str:
    """Which fault of the probe a row's flags name."""
    for fault in range(1, len(FAULT_WORDS)):
        if flags & (int(Flag.PROBE_OPEN) << (fault - 1)):
            return f": {FAULT_WORDS[fault]}"
    return ""


def alarm_rows(alarm: Alarm, design: Design, trace: Trace) -> npt.NDArray[np.bool_]:
    """Whether an alarm of the design is raised at each row of a run."""
    rows: npt.NDArray[np.bool_] = (trace.alarms.astype(np.int64) & (1 << design.guard.alarms.index(alarm))) != 0
    return rows


def alarm_instants(alarm: Alarm, design: Design, trace: Trace) -> list[float]:
    """When an alarm is raised in a run, s; the first 200 times."""
    rows, raised = trace.alarm_changes
    own = (raised & (1 << design.guard.alarms.index(alarm))) != 0
    begins = rows[own & ~np.concatenate(([False], own[:-1]))]
    return [float(at_s) for at_s in trace.time_s[begins[:200]]]


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
