"""A load and its probe under an output that was recorded, compiled: what a model answers to a record's conditions."""

from __future__ import annotations

from typing import NamedTuple

from calor.compiled import Column, entry_in_one_piece
from calor.load.registry import LoadNumbers
from calor.load.state import LoadState, Surroundings
from calor.loop.advance import advance
from calor.sense import lag


class Reading(NamedTuple):
    """How the probe reads: its own time constant, that of the filter behind it, s."""

    lag_s: float
    filter_s: float


@entry_in_one_piece
def respond(
    load: LoadNumbers,
    start: LoadState,
    reading: Reading,
    humidity: float,
    time_s: Column,
    ambient_celsius: Column,
    edge_s: Column,
    first: Column,
    second: Column,
    out: Column,
) -> None:
    """Fill `out` with the reading at each of `time_s`, in °C, from `start` at the first of them.

    From edge_s[i] on the output gives first[i] and second[i] to the load's two inputs, its dead time later; the first
    edge is before all times. Between rows the ambient is the mean of those at both.
    """
    state, probe, smooth = start, start.celsius, start.celsius
    at_edge = 0
    count = len(edge_s)
    while at_edge + 1 < count and edge_s[at_edge + 1] + load.dead_time_s <= time_s[0]:
        at_edge += 1
    out[0] = smooth
    for k in range(1, len(time_s)):
        at_s, end_s = time_s[k - 1], time_s[k]
        around = Surroundings(0.5 * (ambient_celsius[k - 1] + ambient_celsius[k]), 0.0, humidity, 0.0)
        while at_s < end_s:
            until_s = end_s
            if at_edge + 1 < count and edge_s[at_edge + 1] + load.dead_time_s < end_s:
                until_s = max(edge_s[at_edge + 1] + load.dead_time_s, at_s)
            dt_s = until_s - at_s
            if dt_s > 0.0:
                before = probe
                slope_before = 0.0
                if reading.lag_s > 0.0:
                    slope_before = (state.celsius - probe) / reading.lag_s
                state, probe = advance(load, state, reading.lag_s, probe, first[at_edge], second[at_edge], around, dt_s)
                if reading.filter_s > 0.0:
                    slope_after = (probe - before) / dt_s
                    if reading.lag_s > 0.0:
                        slope_after = (state.celsius - probe) / reading.lag_s
                    else:
                        slope_before = slope_after
                    smooth = lag.step(reading.filter_s, smooth, before, slope_before, probe, slope_after, dt_s)
                else:
                    smooth = probe
            at_s = until_s
            if until_s < end_s:
                at_edge += 1
        out[k] = smooth
