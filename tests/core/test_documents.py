"""Written again from docs/laws.md alone, without the code, and held to the runs: if one of them changes, the page must."""

from __future__ import annotations

import math
from itertools import pairwise
from typing import Any

import numpy as np
import pytest

from calor import loop
from calor.design.trial import Trial
from tests.conftest import made

LOAD = 'kind = "second_order"\nrise_celsius = 60\nsecond_rise_celsius = -40\ntime_constant_s = 90\nsecond_time_constant_s = 9\nambient_celsius = 40'
SETS = [(45.0, 0.08, 90.0, 0.0), (52.0, 0.03, 150.0, 6.0), (60.0, 0.2, 60.0, 3.0)]


def gains(r: float, interpolates: bool) -> tuple[float, float, float]:
    """(gain, Ti, Td) as the page says."""
    lower, upper = SETS[0], SETS[0]
    if r >= SETS[-1][0]:
        lower = upper = SETS[-1]
    for one, other in pairwise(SETS):
        if one[0] <= r < other[0]:
            lower, upper = one, other
    s = (r - lower[0]) / (upper[0] - lower[0]) if upper[0] > lower[0] else 0.0
    if not interpolates:
        s = 1.0 if s > 0.5 else 0.0
    rate = (1 - s) / lower[2] + s / upper[2]
    return (1 - s) * lower[1] + s * upper[1], 1 / rate, (1 - s) * lower[3] + s * upper[3]


@pytest.mark.parametrize("interpolates", [False, True])
@pytest.mark.parametrize(
    "options",
    [
        {},
        {"slew_per_s": 0.01, "output_low": 0.1, "output_high": 0.9},
        {"ramp_celsius_per_s": 0.05, "integral_band_celsius": 3.0, "bias": 0.1},
    ],
)
def test_pid_from_the_page(interpolates: bool, options: dict[str, float]) -> None:
    sets = ", ".join(
        f"{{ at_celsius = {t}, gain_per_celsius = {g}, integral_time_s = {ti}, derivative_time_s = {td} }}"
        for t, g, ti, td in SETS
    )
    own = "\n".join(f"{key} = {value}" for key, value in options.items())
    law = f'kind = "pid"\nsetpoint_weight = 0.3\nperiod_s = 0.5\ngains_by = "{"interpolated" if interpolates else "nearest"}"\ngain_sets = [ {sets} ]\n{own}'
    steps = ({"kind": "setpoint_step", "at_s": 300, "for_s": 300, "celsius": 54.5}, {"kind": "setpoint_step", "at_s": 600, "celsius": 61},
             {"kind": "probe_open", "at_s": 800, "for_s": 10})  # fmt: skip
    trace = loop.run(
        made(law=law, drive='kind = "linear"', load=LOAD),
        Trial.model_validate({"span_s": 1200, "start_celsius": 40, "events": steps}),
    )
    i = d = u = 0.0
    first = before = aim = held = math.nan
    for k, (y, r) in enumerate(zip(trace.measured_celsius, trace.setpoint_celsius, strict=True)):
        if math.isnan(y):
            u, d, before = 0.0, 0.0, math.nan
            assert trace.demand[k] == 0.0
            continue
        g, ti, td = gains(r, interpolates)
        y0, y_before = (y if math.isnan(first) else first), (y if math.isnan(before) else before)
        a = r
        if "ramp_celsius_per_s" in options:
            begun, most = (y if math.isnan(aim) else aim), options["ramp_celsius_per_s"] * 0.5
            a = min(max(r, begun - most), begun + most)
        c = g * (1 - 0.3)
        if not math.isnan(held):
            i += (c - held) * (aim - y0)
        d = (td / 8 * d - g * td * (y - y_before)) / (td / 8 + 0.5) if td else 0.0
        w = g * (0.3 * (a - y0) - (y - y0)) + i + d + options.get("bias", 0.0)
        low, high = options.get("output_low", 0.0), options.get("output_high", 1.0)
        now = min(max(w, low), high)
        if "slew_per_s" in options:
            now = min(max(now, u - 0.005), u + 0.005)
            now = min(max(now, low), high)
        q = g * (a - y) / ti
        if abs(a - y) > options.get("integral_band_celsius", math.inf) or (w > now and q > 0) or (w < now and q < 0):
            q = 0.0
        i, u, first, before, aim, held = i + q * 0.5, now, y0, y, a, c
        assert trace.demand[k] == pytest.approx(u, abs=1e-9), k
    assert np.ptp(trace.demand) > 0.3


def test_alarms_from_the_page() -> None:
    """rate_of_rise and a deviation with standby and delay, over a noisy run with a fault, steps and a ramp."""
    guard = """alarms = [ { kind = "rate_of_rise", celsius = 2.5, delay_s = 33, hysteresis_celsius = 0.8 },
      { kind = "deviation_low", celsius = 2, delay_s = 4, hysteresis_celsius = 0.5, standby = true } ]"""
    steps = ({"kind": "setpoint_step", "at_s": 300, "for_s": 500, "celsius": 58}, {"kind": "probe_open", "at_s": 500, "for_s": 9},
             {"kind": "power_step", "at_s": 600, "for_s": 60, "power_fraction": 0.2})  # fmt: skip
    design = made(law='kind = "pid"\ngain_per_celsius = 0.2\nintegral_time_s = 80', drive='kind = "linear"', load=LOAD, guard=guard,
                  probe='kind = "ideal"\nnoise_celsius = 0.2')  # fmt: skip
    trace = loop.run(design, Trial.model_validate({"span_s": 1200, "start_celsius": 40, "seed": 2, "events": steps}))
    size = math.ceil(33 / 16)
    parts: list[list[float]] = []
    rise = low = armed = False
    lasted, r_before, moved_before, held = 0, math.nan, 0.0, False
    for k, (y, r) in enumerate(zip(trace.measured_celsius, trace.setpoint_celsius, strict=True)):
        moved = 0.0 if math.isnan(r_before) else abs(r - r_before)
        if moved > 2 * moved_before + 0.01:
            armed = False
        r_before, moved_before = r, moved
        if math.isnan(y):
            parts, held = [], False
        else:
            if not parts or len(parts[0]) == size:
                parts = [[], *parts][: math.ceil(33 / size) + 1]
            parts[0].append(y)
            rise = y - min(min(part) for part in parts) >= 2.5 - (0.8 if rise else 0.0)
            holds = r - y > 2 - (0.5 if low else 0.0)
            armed = armed or not holds
            holds = holds and armed
            lasted = lasted + 1 if holds and held else 0
            low, held = holds and (low or lasted >= 4), holds
        assert trace.alarms[k] == rise + 2 * low, k
    assert {0, 1, 2} <= set(trace.alarms.astype(int))


def pulses(trace: loop.Trace, window_s: float, shortest_s: float, half_cycle_s: float) -> list[float]:
    """The instants at which a time-proportional switch changes, as the page says, with fault and cut-out at once."""
    guarded = (trace.whole_flags & (loop.Flag.PROBE_FAULT | loop.Flag.CUT_OUT)) > 0
    changes: list[tuple[float, float]] = []
    origin_s, windows, taken = 0.0, 0, -1.0
    for at_s, u, put in zip(trace.time_s, trace.demand, guarded, strict=True):
        if put and u != taken:
            origin_s, windows = at_s, 0
            changes = [change for change in changes if change[0] < at_s]
        while origin_s + windows * window_s < at_s + 1.0 - 1e-9:
            begin_s, on_s, taken = origin_s + windows * window_s, u * window_s, u
            if half_cycle_s:
                on_s = math.floor(on_s / half_cycle_s + 0.5) * half_cycle_s
            on_s = 0.0 if on_s < shortest_s else window_s if window_s - on_s < shortest_s else on_s
            changes += [(begin_s, 1.0 if on_s else 0.0), (begin_s + on_s, 0.0 if on_s < window_s else 1.0)]
            windows += 1
    instants, level = [], 0.0
    for at_s, now in changes:
        if now != level and at_s < trace.span_s:
            instants.append(at_s)
            level = now
    return instants


@pytest.mark.parametrize(
    ("switch", "window_s", "shortest_s", "half_cycle_s"),
    [("ssr_random", 7.3, 0.0, 0.0), ("ssr_zero_cross", 3.0, 0.0, 0.01), ("relay", 20.0, 3.0, 0.0)],
)
def test_a_time_proportional_switch_from_the_page(
    switch: str, window_s: float, shortest_s: float, half_cycle_s: float
) -> None:
    drive = f'kind = "time_proportional"\nwindow_s = {window_s}\nswitch = "{switch}"\nmin_pulse_s = {shortest_s}'
    steps: tuple[dict[str, Any], ...] = (
        {"kind": "probe_open", "at_s": 500, "for_s": 40},
        {"kind": "ambient_step", "at_s": 900, "celsius": 65},
    )
    design = made(
        law='kind = "pid"\ngain_per_celsius = 0.1\nintegral_time_s = 80',
        drive=drive,
        load=LOAD,
        guard=f"probe_fault_output = 0.4\ncut_out_celsius = {58 if switch == 'relay' else 54}",
    )
    trace = loop.run(design, Trial.model_validate({"span_s": 1200, "start_celsius": 40, "events": steps}))
    assert trace.switch_s.tolist() == pytest.approx(pulses(trace, window_s, shortest_s, half_cycle_s), abs=1e-6)
    assert len(trace.switch_s) > 30 and (trace.whole_flags & loop.Flag.CUT_OUT).any()
