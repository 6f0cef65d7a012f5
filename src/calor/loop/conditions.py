"""A trial's events as a timeline: from each instant on, which conditions hold."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from calor.compiled import Column, Table
from calor.design.model import Design
from calor.design.trial import (
    AmbientStep,
    AnyEvent,
    ByHand,
    ContentsAdded,
    Door,
    KnobTurned,
    MainsVoltage,
    PowerStep,
    SetpointStep,
    Stalled,
    Trial,
    describe,
)  # fmt: skip
from calor.law.setpoint import Follow
from calor.loop import ambient
from calor.loop.trace import Disturbance, RunEvent
from calor.sense import knob
from calor.sense.mounting import OPEN, REVERSED, SHORT, STUCK

WIRING = {"probe_open": OPEN, "probe_short": SHORT, "probe_reversed": REVERSED, "probe_stuck": STUCK}
SWITCH_FAULTS = {"output_inverted": 1, "output_stuck_on": 2, "output_stuck_off": 3}
INVERTED, STUCK_ON, STUCK_OFF = (float(fault) for fault in SWITCH_FAULTS.values())
(
    AMBIENT, EXTRA, POWER, SETPOINT, WIRED, SIGNAL, HAND, STALLED, SWITCH_FAULT, ADDED, ADDED_CELSIUS, HUMIDITY
) = range(12)  # fmt: skip
"""Columns of the conditions: ambient (°C), extra loss (W/K), power as a fraction (below 0: mains lost), setpoint put
there (°C; NaN: none), the probe's wiring, the signal a setpoint follows (°C; NaN: none), the output set by hand (NaN:
automatic), whether the firmware hangs, the switch's fault, heat capacity put in at this instant (J/K) and its
temperature (°C), and the air's relative humidity (0 to 1)."""
COLUMNS = 12


class Conditions(NamedTuple):
    """Row i of `values` (rows × COLUMNS) holds from at_s[i] to at_s[i + 1]. The last row's instant is past the
    trial."""

    at_s: Column
    values: Table


def _end_s(event: AnyEvent, span_s: float, watchdog_s: float | None = None) -> float:
    if isinstance(event, Stalled) and watchdog_s is not None:
        return event.at_s + min(event.for_s or watchdog_s, watchdog_s)
    return event.at_s + event.for_s if event.for_s else max(span_s, event.at_s) + 1.0


def timeline(design: Design, trial: Trial) -> Conditions:
    """The conditions of `trial`. Where events of one kind overlap, the later one in the file holds.

    Raises CalorError where a recorded ambient cannot be read.
    """
    watchdog_s = design.guard.watchdog_s
    found = {0.0} | ambient.instants(trial)
    for event in trial.events:
        found |= {event.at_s, _end_s(event, trial.span_s, watchdog_s)}
    at_s = np.array([*sorted(instant for instant in found if instant < trial.span_s), np.inf])
    values = np.zeros((len(at_s), COLUMNS))
    air = ambient.weather(trial, design.ambient_celsius(trial), at_s)
    values[:, AMBIENT], values[:, HUMIDITY] = air.celsius, air.humidity
    values[:, POWER], values[:, SETPOINT], values[:, HAND] = 1.0, np.nan, np.nan
    for event in trial.events:
        during = (at_s >= event.at_s) & (at_s < _end_s(event, trial.span_s, watchdog_s))
        _apply(event, design, values, at_s, during)
    values[:, SIGNAL] = np.nan
    if isinstance(design.setpoint, Follow):
        signal = air.dew_point_celsius if design.setpoint.signal == "dew_point" else air.celsius
        # a colder or warmer ambient by an event keeps the water in the air
        if design.setpoint.signal == "ambient":
            signal = values[:, AMBIENT]
        values[:, SIGNAL] = np.minimum(signal, values[:, AMBIENT])
    return Conditions(at_s, values)


def _apply(
    event: AnyEvent, design: Design, values: npt.NDArray[np.float64], at_s: Column, during: npt.NDArray[np.bool_]
) -> None:
    """Write one event into the rows in which it holds."""
    power = values[:, POWER]
    if isinstance(event, Door):
        values[during, EXTRA] += event.extra_loss_w_per_k
    elif isinstance(event, AmbientStep):
        values[during, AMBIENT] = event.celsius
    elif isinstance(event, PowerStep):
        values[during, POWER] = np.where(power[during] < 0.0, power[during], event.power_fraction)
    elif isinstance(event, MainsVoltage):
        values[during, POWER] = np.where(power[during] < 0.0, power[during], event.voltage_fraction**2)
    elif isinstance(event, SetpointStep | KnobTurned) and design.setpoint.locked:
        pass
    elif isinstance(event, SetpointStep):
        values[during, SETPOINT] = event.celsius
    elif isinstance(event, KnobTurned) and design.knob is not None:
        values[during, SETPOINT] = knob.celsius_at(design.knob, event.to_fraction)
    elif isinstance(event, ByHand):
        values[during, HAND] = event.output
    elif isinstance(event, ContentsAdded):
        rows = at_s == event.at_s
        values[rows, ADDED] += event.heat_capacity_j_per_k
        values[rows, ADDED_CELSIUS] = event.celsius
    elif isinstance(event, Stalled):
        values[during, STALLED] = 1.0
    elif event.kind in SWITCH_FAULTS:
        values[during, SWITCH_FAULT] = SWITCH_FAULTS[event.kind]
    elif event.kind == "mains_lost":
        values[during, POWER] = -1.0
    elif event.kind in WIRING:
        values[during, WIRED] = WIRING[event.kind]


def happenings(design: Design, trial: Trial) -> tuple[tuple[RunEvent, ...], tuple[Disturbance, ...]]:
    """The trial's events as they are shown, and as disturbances to recover from, both in order of time.

    Recovery is counted from the end of an event that ends, from the start of one that stays.
    """
    events, disturbances = [], []
    for event in sorted(trial.events, key=lambda event: event.at_s):
        if event.at_s >= trial.span_s:
            continue
        text = describe(event)
        if design.setpoint.locked and isinstance(event, SetpointStep | KnobTurned):
            events.append(RunEvent(event.at_s, event.kind, f"{text} refused: locked"))
            continue
        until_s = min(_end_s(event, trial.span_s, design.guard.watchdog_s), trial.span_s)
        ends = bool(event.for_s) and event.at_s + event.for_s < trial.span_s
        if isinstance(event, ContentsAdded):
            until_s, ends = event.at_s, False
        celsius = getattr(event, "celsius", float("nan"))
        events.append(
            RunEvent(event.at_s, event.kind, text, until_s if until_s > event.at_s else float("nan"), celsius)
        )
        disturbances.append(Disturbance(event.at_s, until_s if ends else event.at_s, text))
    return tuple(events), tuple(disturbances)
