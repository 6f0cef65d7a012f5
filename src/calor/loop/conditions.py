"""A trial's events as a timeline: from each instant on, which conditions hold."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from calor.compiled import Column
from calor.design.model import Design
from calor.design.trial import AmbientStep, AnyEvent, Door, MainsVoltage, PowerStep, SetpointStep, Trial, describe
from calor.loop.trace import Disturbance, RunEvent
from calor.sense.mounting import OPEN, REVERSED, SHORT, STUCK

SWING_STEPS, MOST_SWING_ROWS = 288, 20_000
"""A day is followed in steps of 5 minutes; a very long trial in coarser ones."""
WIRING = {"probe_open": OPEN, "probe_short": SHORT, "probe_reversed": REVERSED, "probe_stuck": STUCK}


class Conditions(NamedTuple):
    """Row i holds from at_s[i] to at_s[i + 1]. The last row's instant is past the end of the trial."""

    at_s: Column
    ambient_celsius: Column
    extra_w_per_k: Column
    power: Column
    setpoint_celsius: Column
    wiring: Column


def _end_s(event: AnyEvent, span_s: float) -> float:
    return event.at_s + event.for_s if event.for_s else max(span_s, event.at_s) + 1.0


def swing_celsius(trial: Trial, at_s: Column) -> Column:
    """What the daily swing adds to the ambient from each instant to the next: the cosine at its middle."""
    if trial.swing_celsius == 0.0:
        return np.zeros(len(at_s))
    ends = np.append(at_s[1:], trial.span_s)
    middle = 0.5 * (np.minimum(at_s, trial.span_s) + np.minimum(ends, trial.span_s))
    turn = 2.0 * np.pi * (middle - trial.warmest_at_s) / trial.swing_period_s
    return np.asarray(trial.swing_celsius * np.cos(turn), dtype=np.float64)


def timeline(design: Design, trial: Trial) -> Conditions:
    """The conditions of `trial`. Where events of one kind overlap, the later one in the file holds."""
    instants = {0.0}
    for event in trial.events:
        instants |= {event.at_s, _end_s(event, trial.span_s)}
    if trial.swing_celsius > 0.0:
        pace_s = max(trial.swing_period_s / SWING_STEPS, trial.span_s / MOST_SWING_ROWS)
        instants |= set(np.arange(0.0, trial.span_s, pace_s).tolist())
    at_s = np.array([*sorted(instant for instant in instants if instant < trial.span_s), np.inf])
    rows = len(at_s)
    ambient = np.full(rows, design.ambient_celsius(trial)) + swing_celsius(trial, at_s)
    extra, power, wiring = np.zeros(rows), np.ones(rows), np.zeros(rows)
    setpoint = np.full(rows, design.setpoint.celsius)
    for event in trial.events:
        during = (at_s >= event.at_s) & (at_s < _end_s(event, trial.span_s))
        if isinstance(event, Door):
            extra[during] += event.extra_loss_w_per_k
        elif isinstance(event, AmbientStep):
            ambient[during] = event.celsius
        elif isinstance(event, PowerStep):
            power[during] = np.where(power[during] < 0.0, power[during], event.power_fraction)
        elif isinstance(event, MainsVoltage):
            power[during] = np.where(power[during] < 0.0, power[during], event.voltage_fraction**2)
        elif isinstance(event, SetpointStep):
            setpoint[during] = event.celsius
        elif event.kind == "mains_lost":
            power[during] = -1.0
        else:
            wiring[during] = WIRING[event.kind]
    return Conditions(at_s, ambient, extra, power, setpoint, wiring)


def happenings(trial: Trial) -> tuple[tuple[RunEvent, ...], tuple[Disturbance, ...]]:
    """The trial's events as they are shown, and as disturbances to recover from, both in order of time.

    Recovery is counted from the end of an event that ends, from the start of one that stays.
    """
    events, disturbances = [], []
    for event in sorted(trial.events, key=lambda event: event.at_s):
        if event.at_s >= trial.span_s:
            continue
        until_s = min(_end_s(event, trial.span_s), trial.span_s)
        ends = bool(event.for_s) and event.at_s + event.for_s < trial.span_s
        celsius = getattr(event, "celsius", float("nan"))
        events.append(RunEvent(event.at_s, event.kind, describe(event), until_s, celsius))
        disturbances.append(Disturbance(event.at_s, until_s if ends else event.at_s, describe(event)))
    return tuple(events), tuple(disturbances)
