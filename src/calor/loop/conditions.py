"""A trial's events as a timeline: from each instant on, which conditions hold."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from calor.compiled import Column, Table
from calor.design import recorded_output
from calor.design.event import AMBIENT, COLUMNS, HAND, HUMIDITY, POWER, RECORDED, SETPOINT, SIGNAL, Span
from calor.design.events import describe
from calor.design.model import Design
from calor.design.trial import Trial
from calor.law.dew_point import vapour_pascal
from calor.law.setpoint import Follow
from calor.loop import ambient
from calor.loop.trace import Disturbance, RunEvent


class Conditions(NamedTuple):
    """Row i of `values` (rows × COLUMNS) holds from at_s[i] to at_s[i + 1]. The last row's instant is past the
    trial."""

    at_s: Column
    values: Table


def timeline(
    design: Design, trial: Trial, warmer_celsius: float = 0.0, voltage_share: float = 1.0
) -> Conditions:  # fmt: skip
    """The conditions of `trial`. Where events of one kind overlap, the later one in the file holds; of those that set
    the setpoint, as a knob and a line do, the one that came last.

    The ambient is warmer throughout than the trial says, and the supply has a share of its nominal voltage.

    Raises CalorError where a recorded ambient cannot be read.
    """
    watchdog_s = design.guard.watchdog_s
    instants = {0.0} | ambient.instants(trial)
    put_on = None if trial.output_csv is None else recorded_output.read_output(trial.output_csv, trial.output_column)
    if put_on is not None:
        instants |= set(put_on.time_s.tolist())
    for event in trial.events:
        instants.update(*event.spans_s(trial.span_s, watchdog_s))
    at_s = np.array([*sorted(instant for instant in instants if instant < trial.span_s), np.inf])
    values = np.zeros((len(at_s), COLUMNS))
    air = ambient.weather(trial, design.ambient_celsius(trial), at_s, warmer_celsius)
    values[:, AMBIENT], values[:, HUMIDITY] = air.celsius, air.humidity
    values[:, POWER], values[:, SETPOINT], values[:, HAND] = 1.0, np.nan, np.nan
    values[:, RECORDED] = np.nan
    if put_on is not None:
        values[:, RECORDED] = put_on.share[np.maximum(np.searchsorted(put_on.time_s, at_s, side="right") - 1, 0)]
    for event in sorted(trial.events, key=lambda one: one.at_s if one.sets_setpoint else -1.0):
        during = np.zeros(len(at_s), np.bool_)
        for begin_s, end_s in event.spans_s(trial.span_s, watchdog_s):
            during |= (at_s >= begin_s) & (at_s < end_s)
        if not (event.sets_setpoint and design.setpoint.locked):
            event.change(design, Span(at_s, values, during))
    # what an event does to the ambient leaves the water in the air, for evaporation as for the dew point
    moved = values[:, AMBIENT] != air.celsius
    if moved.any():
        values[moved, AMBIENT] += warmer_celsius
        held = vapour_pascal(air.dew_point_celsius[moved]) / vapour_pascal(values[moved, AMBIENT])
        values[moved, HUMIDITY] = np.clip(held, 0.0, 1.0)
    if voltage_share != 1.0:
        # as an event does: a current follows the voltage, and its heat the square of it
        on = values[:, POWER] > 0.0
        values[on, POWER] *= voltage_share if design.load.kind == "thermoelectric" else voltage_share**2
    values[:, SIGNAL] = np.nan
    if isinstance(design.setpoint, Follow):
        signal = air.dew_point_celsius if design.setpoint.signal == "dew_point" else air.celsius
        # a colder or warmer ambient by an event keeps the water in the air
        if design.setpoint.signal == "ambient":
            signal = values[:, AMBIENT]
        values[:, SIGNAL] = np.minimum(signal, values[:, AMBIENT])
    return Conditions(at_s, values)


def happenings(design: Design, trial: Trial) -> tuple[tuple[RunEvent, ...], tuple[Disturbance, ...]]:
    """The trial's events as they are shown, and as disturbances to recover from, both in order of time.

    Recovery is counted from the end of an event that ends, from the start of one that stays.
    """
    events, disturbances = [], []
    for event in sorted(trial.events, key=lambda event: event.at_s):
        text = describe(event)
        celsius = getattr(event, "celsius", float("nan"))
        for begin_s, end_s in event.spans_s(trial.span_s, design.guard.watchdog_s):
            if begin_s >= trial.span_s:
                continue
            if design.setpoint.locked and event.sets_setpoint:
                events.append(RunEvent(begin_s, event.kind, f"{text} refused: locked"))
                continue
            until_s = begin_s if event.is_instant else min(end_s, trial.span_s)
            ends = bool(event.for_s) and begin_s + event.for_s < trial.span_s and not event.is_instant
            events.append(RunEvent(begin_s, event.kind, text, until_s if until_s > begin_s else float("nan"), celsius))
            if event.disturbs:
                disturbances.append(Disturbance(begin_s, until_s if ends else begin_s, text))
    events.sort(key=lambda event: event.at_s)
    disturbances.sort(key=lambda one: one.begins_s)
    return tuple(events), tuple(disturbances)
