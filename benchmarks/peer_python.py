"""The hatching cabinet's loop written with the package simple-pid and plain Python, as one would by hand."""

from __future__ import annotations

import math

from simple_pid import PID

from calor.design.model import Design


def run(design: Design, steps: int, noise: list[float], door: tuple[float, float]) -> list[float]:
    """Measured temperatures of `steps` control steps."""
    law, load, probe = design.law, design.load, design.probe
    pid = PID(
        law.gain_per_celsius, law.gain_per_celsius / law.integral_time_s, law.gain_per_celsius * law.derivative_time_s,
        setpoint=design.setpoint.celsius, sample_time=None, output_limits=(0.0, 1.0), differential_on_measurement=True,
    )  # fmt: skip
    dt, window, half = law.period_s, design.drive.window_s, 0.5 / design.drive.mains_hz
    heater = air = contents = sensed = 19.0
    measured, edges = [], []
    arriving, level_now, arrived, windows = 0.0, 0.0, 0, 0
    pulse_until = window_until = 0.0

    def slopes(h: float, a: float, c: float, level: float, extra: float) -> tuple[float, float, float]:
        to_air, to_contents = load.heater_to_air_w_per_k * (h - a), load.air_to_contents_w_per_k * (a - c)
        lost = (load.loss_w_per_k + extra) * (a - load.ambient_celsius)
        return (
            (load.heater_watt * level - to_air) / load.heater_j_per_k,
            (to_air - to_contents - lost) / load.air_j_per_k,
            to_contents / load.contents_j_per_k,
        )

    for k in range(steps):
        begin, end = k * dt, (k + 1) * dt
        ohm = probe.r25_ohm * math.exp(probe.beta_kelvin * (1 / (sensed + noise[k] + 273.15) - 1 / 298.15))
        code = min(max(math.floor(ohm / (ohm + probe.series_ohm) * 4096), 0), 4095)
        share = code / 4096
        back = probe.series_ohm * share / (1 - share)
        celsius = 1 / (math.log(back / probe.r25_ohm) / probe.beta_kelvin + 1 / 298.15) - 273.15
        measured.append(celsius)
        demand = pid(celsius, dt=dt)
        at = begin
        while at < end:
            if at >= window_until:
                on = math.floor(demand * window / half + 0.5) * half
                pulse_until = windows * window + on
                windows += 1
                window_until = windows * window
            level, stop = (1.0, pulse_until) if at < pulse_until else (0.0, window_until)
            if level != level_now:
                edges.append((at, level))
                level_now = level
            at = min(stop, end)
        at = begin
        while at < end:
            while arrived < len(edges) and edges[arrived][0] + load.dead_time_s <= at:
                arriving = edges[arrived][1]
                arrived += 1
            until = end
            if arrived < len(edges):
                until = min(until, edges[arrived][0] + load.dead_time_s)
            extra = 9.0 if door[0] <= at < door[1] else 0.0
            h = until - at
            k1 = slopes(heater, air, contents, arriving, extra)
            k2 = slopes(heater + h / 2 * k1[0], air + h / 2 * k1[1], contents + h / 2 * k1[2], arriving, extra)
            k3 = slopes(heater + h / 2 * k2[0], air + h / 2 * k2[1], contents + h / 2 * k2[2], arriving, extra)
            k4 = slopes(heater + h * k3[0], air + h * k3[1], contents + h * k3[2], arriving, extra)
            before = air
            heater += h / 6 * (k1[0] + 2 * k2[0] + 2 * k3[0] + k4[0])
            air += h / 6 * (k1[1] + 2 * k2[1] + 2 * k3[1] + k4[1])
            contents += h / 6 * (k1[2] + 2 * k2[2] + 2 * k3[2] + k4[2])
            middle = (before + air) / 2
            sensed = middle + (sensed - middle) * math.exp(-h / probe.time_constant_s)
            at = until
    return measured
