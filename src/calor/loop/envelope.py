"""Long columns reduced to what a screen can show: the lowest and highest value under each pixel."""

from __future__ import annotations

import numpy as np

from calor.compiled import Column
from calor.loop.trace import Output, Trace, given_over


def envelope(time_s: Column, values: Column, begin_s: float, end_s: float, pixels: int) -> tuple[Column, Column]:
    """Points of `values` between `begin_s` and `end_s` to draw on `pixels`: times and values, same length.

    Where there are fewer than four rows a pixel they are returned as they are, with one row more at each
    side; otherwise two points a pixel, its lowest and its highest value. NaN stays only where a whole pixel
    has nothing else.
    """
    first = max(int(np.searchsorted(time_s, begin_s)) - 1, 0)
    last = min(int(np.searchsorted(time_s, end_s, side="right")) + 1, len(time_s))
    if last - first < 4 * pixels:
        return time_s[first:last], values[first:last]
    edges = np.linspace(begin_s, end_s, pixels + 1)
    starts = np.clip(np.searchsorted(time_s, edges[:-1]), first, last - 1)
    starts = starts[np.concatenate(([True], starts[1:] != starts[:-1]))]
    part = values[:last]
    low = np.fmin.reduceat(part, starts)
    high = np.fmax.reduceat(part, starts)
    times = np.repeat(time_s[starts], 2)
    # the order within a pixel alternates, so that the line joins low to low and high to high
    points = np.empty(2 * len(starts))
    points[0::4], points[1::4] = low[0::2], high[0::2]
    points[2::4], points[3::4] = high[1::2], low[1::2]
    return times, points


def share_on(trace: Trace, begin_s: float, end_s: float, pixels: int) -> Column:
    """Mean output under each pixel between two times, from the exact instants of switching where they are known."""
    edges = np.linspace(begin_s, end_s, pixels + 1)
    return np.diff(np.interp(edges, *trace.given)) / ((end_s - begin_s) / pixels)


def output_on(output: Output, trace: Trace, begin_s: float, end_s: float, pixels: int) -> Column:
    """Mean of one of several outputs under each pixel between two times."""
    edges = np.linspace(begin_s, end_s, pixels + 1)
    given = given_over(output.switch_s, output.switch_level, trace.time_s, output.delivered, trace.span_s)
    return np.diff(np.interp(edges, *given)) / ((end_s - begin_s) / pixels)
