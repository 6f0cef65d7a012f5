"""What Q16.16 has to hold in a design's range: bounds of every quantity the fixed-point C computes, and its constants.

The bounds are by interval arithmetic over the temperatures the design works with, in the order in which the C computes.
Where all of them are inside ±32 768, no operation in that range is ever held at an end; beyond that range it is held,
and never wraps. What only counts on (how long an output has been on) and the integral are held on purpose.
"""

from __future__ import annotations

import re
from typing import Any, NamedTuple

from calor.design.model import Design
from calor.design.ranges import working_range
from calor.errors import FirmwareError
from calor.firmware.sources.fixed_point import LARGEST, STEP
from calor.firmware.sources.generate import outputs_of
from calor.law import registry as laws
from calor.law.pid import PidNumbers
from calor.law.predictive import PredictiveNumbers

MOST_ROUNDING = 0.02
"""A constant that Q16.16 would round by a greater share is refused."""
_CONSTANT = re.compile(r"(?:\.(\w+) = )?Q16X?\((-?[\d.e+-]+)[,)]")


class Range(NamedTuple):
    """Least and greatest value of a quantity, in the unit its name says."""

    name: str
    low: float
    high: float


def _about(name: str, most: float) -> Range:
    return Range(name, -abs(most), abs(most))


def ranges(design: Design) -> list[Range]:
    """Bounds of what the fixed-point C of a design computes while it is in its range."""
    low, high = working_range(design)
    wide = high - low
    quantities = [Range("reading, °C", low, high), _about("setpoint less reading, °C", wide)]
    law = laws.numbers(design.law, design.guard)
    period_s = float(design.law.period_s)
    if design.law.kind == "pid":
        quantities += _of_pid(law.pid, wide, period_s)
    if design.law.kind == "predictive":
        quantities += _of_predictive(law.predictive, wide)
    if design.law.kind == "fan_curve":
        curve = law.fan_curve
        x = [curve.x[k] for k in range(curve.used)]
        quantities.append(Range("width of the fan's curve, °C", 0.0, max(x) - min(x)))
    for output in outputs_of(design):
        if output.kind == "time_proportional":
            window_s = output.drive.time_proportional.window_s
            quantities.append(Range(f"window of the {output.name}, s", 0.0, window_s + period_s))
            half_cycle_s = output.drive.time_proportional.half_cycle_s
            if half_cycle_s:
                quantities.append(
                    Range(f"half-cycles in a window of the {output.name}", 0.0, window_s / half_cycle_s + 0.5)
                )
    quantities += _of_settings(design, wide)
    return quantities


def _of_pid(pid: PidNumbers, wide: float, period_s: float) -> list[Range]:
    """Bounds of the parts of a PID law over readings and setpoints `wide` °C apart."""
    own, sets = pid.gains, range(pid.gains.sets)
    gain = max([own.set_gain[k] for k in sets] or [own.heat.gain_per_celsius])
    rate = max([own.set_rate[k] for k in sets] or [own.heat.integral_rate_per_s])
    lead = max([own.set_back_calculation_rate[k] for k in sets] or [own.heat.back_calculation_rate_per_s])
    time_s = max([own.set_derivative_s[k] for k in sets] or [own.heat.derivative_time_s])
    rate = 1024.0 * max(rate, own.cool.integral_rate_per_s)
    lead = 1024.0 * max(lead, own.cool.back_calculation_rate_per_s)
    time_s = max(time_s, own.cool.derivative_time_s)
    fall = gain * time_s * wide
    # the filtered derivative never exceeds what a steady fall over one step after the other would give
    derivative = fall / period_s
    lag_s = time_s / pid.derivative_filter
    proportional = gain * (1.0 + pid.setpoint_weight) * wide
    wanted = proportional + 32.0 + derivative + abs(pid.bias)
    growth = gain * wide * rate + (wanted + 1.0) * lead
    return [
        _about("proportional part", proportional),
        _about("gain · derivative time · change, °C·s", fall),
        _about("derivative part", derivative),
        _about("its lag · derivative part, s", lag_s * derivative + fall),
        _about("wanted demand", wanted),
        _about("growth of the integral, 1024/s", growth),
        _about("growth of the integral in a step, 1024", growth * period_s),
    ]


def _of_predictive(law: PredictiveNumbers, wide: float) -> list[Range]:
    """Bounds of the parts of a predictive law over readings and setpoints `wide` °C apart; a guard may give all."""
    most = max(abs(law.output_low), abs(law.output_high), 1.0)
    to_come = abs(law.rise_celsius) * 2.0 * most
    return [
        _about("change still to come, °C", to_come),
        _about("wanted demand", abs(law.gain_per_celsius) * (wide + to_come) + most),
        _about("model, 1/1024", 1024.0 * most),
        Range("time over which the model's past is kept, s", 0.0, 16.0 * law.cell_s),
    ]


def _of_settings(design: Design, wide: float) -> list[Range]:
    """Bounds that the setpoint and the filter bring."""
    setpoint: Any = design.setpoint
    filter_ = getattr(design.probe, "filter", None)
    problems = []
    if setpoint.kind == "program":
        longest_s = max(
            part.soak_s
            + (wide / (part.rate_celsius_per_min / 60.0) if part.rate_celsius_per_min else part.ramp_s or 0.0)
            for part in setpoint.segments
        )
        problems.append(Range("time in a segment of the program, s", 0.0, longest_s + float(design.law.period_s)))
    if setpoint.kind == "day_night":
        problems.append(Range("time of day, s", 0.0, 86_400.0))
    if filter_ is not None and filter_.kind == "mean":
        low, high = working_range(design)
        problems.append(_about("sum of the readings in the filter, °C", max(abs(low), abs(high)) * filter_.readings))
    if filter_ is not None and filter_.kind == "exponential":
        problems.append(Range("filter's lag and step, s", 0.0, filter_.time_constant_s + float(design.law.period_s)))
        problems.append(_about("change · step in the filter, °C·s", wide * float(design.law.period_s)))
    if design.knob is not None:
        problems.append(Range("counts of the knob", 0.0, float(2**design.knob.bits)))
    return problems


def proven(design: Design, files: dict[str, str]) -> list[Range]:
    """The bounds, all of them inside Q16.16, and every constant of the files with them.

    Raises FirmwareError that names what does not fit, or what a constant would be rounded to.
    """
    quantities = ranges(design)
    for item in quantities:
        worst = max(abs(item.low), abs(item.high))
        if worst > LARGEST:
            raise FirmwareError(
                "fixed point",
                f"{item.name} may reach {worst:.6g}, beyond the ±{LARGEST:.0f} of Q16.16",
                "",
                "make it smaller, or compute in float",
            )
    for text in files.values():
        for name, digits in _CONSTANT.findall(text):
            value = float(digits)
            where = name or "a constant"
            if abs(value) > LARGEST + 1.0:
                raise FirmwareError(
                    "fixed point",
                    f"{where} is {value:.6g}, beyond the ±{LARGEST:.0f} of Q16.16",
                    "",
                    "make it smaller, or compute in float",
                )
            kept = round(value / STEP) * STEP
            if value and abs(kept - value) > MOST_ROUNDING * abs(value) and name:
                raise FirmwareError(
                    "fixed point",
                    f"{where} is {value:.6g} and would be rounded to {kept:.6g} in Q16.16",
                    "",
                    "make it larger, or compute in float",
                )
    return quantities
