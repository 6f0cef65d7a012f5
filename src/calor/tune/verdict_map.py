"""A map of the verdict over gain and integral time: how far each setting is inside or beyond the limits, and its Ms.

It is filled from coarse to fine, so that there is a picture soon: each pass halves the distance of the places.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from calor import loop
from calor.design.model import Design
from calor.design.trial import Trial
from calor.judge.verdict import AT_LEAST, LIMIT_NAMES, Verdict, judge
from calor.tune.margins import Gains, law_response, margins_from
from calor.tune.process import Process
from calor.tune.table import THREADS, Setting, with_setting, within_reach

PLACES, FIRST_STRIDE = 40, 4
SPAN = 8.0
"""How many times more and less than in the middle gain and integral time go."""
WORST = -1.0
"""A figure beyond its limit by the limit itself is as bad as the map shows."""


@dataclass(frozen=True)
class VerdictMap:
    """Rows are integral times, columns gains. `margin` is the share of its limit by which the nearest one is kept, or
    missed, below 0; NaN where nothing was run yet. `first` is the limit that is nearest, in `limits`.
    """

    gains_per_celsius: npt.NDArray[np.float64]
    integral_times_s: npt.NDArray[np.float64]
    margin: npt.NDArray[np.float64]
    first: npt.NDArray[np.int64]
    ms: npt.NDArray[np.float64]
    limits: tuple[str, ...]

    def near(self, gain_per_celsius: float, integral_time_s: float) -> tuple[int, int]:
        """(row, column) of the place nearest to a setting."""
        row = int(np.abs(np.log(self.integral_times_s / max(integral_time_s, 1e-9))).argmin())
        return row, int(np.abs(np.log(self.gains_per_celsius / max(gain_per_celsius, 1e-12))).argmin())


def margin_of(verdict: Verdict) -> tuple[float, str]:
    """(share of its limit by which the nearest one is kept, below 0 missed; which it is)."""
    worst, name = math.inf, ""
    for item in verdict.limits:
        scale = max(abs(item.limit), 1e-9)
        if item.value is None:
            margin = WORST
        elif item.name in AT_LEAST:
            margin = (item.value - item.limit) / scale
        else:
            margin = (item.limit - item.value) / scale
        if margin < worst:
            worst, name = margin, item.name
    return (max(worst, WORST), name) if name else (0.0, "")


def verdict_map(
    design: Design, trial: Trial, process: Process, middle: Setting, places: int = PLACES,
    watch: Callable[[float, VerdictMap], None] = lambda share, so_far: None,
) -> VerdictMap:  # fmt: skip
    """The map about a setting, whose other numbers stay as they are. `watch` is told the share done and the map so far,
    and may raise to end it.
    """
    gains, ti_s = middle.gains, middle.gains.integral_time_s
    ti_s = ti_s if ti_s > 0.0 else 10.0 * max(process.dead_time_s, process.period_s)
    across = np.geomspace(gains.gain_per_celsius / SPAN, gains.gain_per_celsius * SPAN, places)
    up = np.geomspace(ti_s / SPAN, ti_s * SPAN, places)
    names = tuple(name for name in LIMIT_NAMES if getattr(design.limits, name) is not None)
    shape = (places, places)
    made = VerdictMap(across, up, np.full(shape, np.nan), np.full(shape, -1), np.full(shape, np.nan), names)
    omega = process.frequencies
    response = process.frequency_response * (-1.0 if (process.early + process.late)[0] < 0.0 else 1.0)

    def fill(place: tuple[int, int]) -> None:
        row, column = place
        own = within_reach(
            Gains(float(across[column]), float(up[row]), gains.derivative_time_s, gains.derivative_filter)
        )
        verdict = judge(loop.run(with_setting(design, Setting(own, middle.setpoint_weight)), trial), design.limits)
        margin, name = margin_of(verdict)
        loop_gain = response * law_response(own, omega, process.period_s)
        margins = margins_from(omega, loop_gain, True, process.integrates)
        made.ms[row, column] = margins.ms
        made.first[row, column] = names.index(name) if name in names else -1
        made.margin[row, column] = margin if margins.is_stable else min(margin, WORST)

    done = 0
    with ThreadPoolExecutor(THREADS) as pool:
        stride = FIRST_STRIDE
        while stride >= 1:
            todo = [
                (row, column)
                for row in range(0, places, stride) for column in range(0, places, stride)
                if math.isnan(made.margin[row, column])
            ]  # fmt: skip
            # a few at a time, so that it is seen to grow and ends soon where it is to end
            for begin in range(0, len(todo), 4 * places):
                list(pool.map(fill, todo[begin : begin + 4 * places]))
                done += len(todo[begin : begin + 4 * places])
                watch(done / (places * places), made)
            stride //= 2
    return made
