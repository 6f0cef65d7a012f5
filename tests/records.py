"""Recorded runs with known truth, made by equations written here and by nothing of Calor's."""

from __future__ import annotations

import math

import numpy as np

from calor.compiled import Column
from calor.loop.trace import Trace


def trace_of(time_s: Column, celsius: Column, output: Column | None, name: str = "log") -> Trace:
    """Columns as a recorded run."""
    empty = np.full(len(time_s), np.nan)
    given = empty if output is None else np.asarray(output, float)
    return Trace(
        np.asarray(time_s, float), empty, empty, empty, np.asarray(celsius, float), empty, empty, given,
        np.zeros(len(time_s)), span_s=float(time_s[-1]), name=name, recorded_output=None if output is None else given,
    )  # fmt: skip


def recorded(
    kind: str,
    span_s: float,
    seed: int,
    rise: float = 100.0,
    tau_s: float = 600.0,
    late_s: float = 0.0,
    dead_s: float = 30.0,
    ambient: float = 20.0,
    pace_s: float = 2.0,
    before_s: float = 0.0,
    noise: float = 0.05,
    probe_s: float = 0.0,
) -> Trace:
    """A load of first order, or of second where `late_s` is given, under a step, an on/off or a PI law that acts at each row.

    The law runs `before_s` before the record begins. Readings have noise and are rounded to 0.01 °C.
    """
    chance = np.random.default_rng(seed)
    parts = 8
    step_s = pace_s / parts
    waiting = [0.0] * round(dead_s / step_s)
    celsius = inner = probe = ambient
    output, summed = 0.0, 0.0
    rows: list[tuple[float, float, float]] = []
    for k in range(round((span_s + before_s) / pace_s)):
        read = round(probe + chance.normal(0.0, noise), 2)
        if kind == "step":
            output = 0.5
        elif kind == "on_off":
            output = 1.0 if probe < 49.0 else 0.0 if probe > 51.0 else output
        else:
            goal = 50.0 if kind == "pi" or k * pace_s < before_s + 0.4 * span_s else 55.0
            summed = min(max(summed + 0.1 * (goal - read) * pace_s / 240.0, 0.0), 1.0)
            output = min(max(0.1 * (goal - read) + summed, 0.0), 1.0)
        rows.append((k * pace_s - before_s, read, output))
        for _ in range(parts):
            waiting.append(output)
            final = ambient + rise * waiting.pop(0)
            was = inner
            inner = final + (inner - final) * math.exp(-step_s / tau_s)
            was_celsius = celsius
            celsius = (
                inner if not late_s else celsius + (0.5 * (was + inner) - celsius) * (1.0 - math.exp(-step_s / late_s))
            )
            probe = (
                celsius
                if not probe_s
                else probe + (0.5 * (was_celsius + celsius) - probe) * (1.0 - math.exp(-step_s / probe_s))
            )
    time_s, readings, outputs = np.array([row for row in rows if row[0] >= -1e-9]).T
    return trace_of(time_s, readings, outputs, kind)


def as_csv(trace: Trace) -> str:
    """A recorded run as a plain CSV."""
    rows = zip(trace.time_s, trace.measured_celsius, trace.delivered, strict=True)
    return "time_s,temp_c,output\n" + "\n".join(f"{t:.10g},{c:.6g},{u:.6g}" for t, c, u in rows) + "\n"
