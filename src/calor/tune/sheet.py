"""A design as the settings of a panel controller: what one types in, by which other names it goes, how to verify it.

Names and forms are those in common use on such controllers; none is of a particular one. Source: common practice.
"""

from __future__ import annotations

import textwrap
from html import escape
from typing import Any, NamedTuple

from calor.design.model import Design, block_summary
from calor.drive.pwm import Pwm
from calor.drive.relay import Relay
from calor.drive.time_proportional import TimeProportional
from calor.law import on_off
from calor.law.dialect import band_celsius
from calor.law.on_off import OnOff
from calor.law.pid import Pid
from calor.law.predictive import LEFT_AT_CLOSED_LOOP, Predictive
from calor.law.program import Program
from calor.units import TemperatureUnit, difference_to, format_difference, format_duration, format_temperature


class Line(NamedTuple):
    """One setting: what it is called, its value, its other names, and how to see that it was taken as meant."""

    setting: str
    value: str
    also: str
    verify: str


def sheet(design: Design, unit: TemperatureUnit = "°C", span_celsius: tuple[float, float] | None = None) -> list[Line]:
    """All settings of a design, in the order in which one types them in. `span_celsius` is the range of the
    controller's input, of which some take the proportional band as a share."""
    return [
        *_input(design, unit, span_celsius),
        *_setpoint(design, unit),
        *_control(design, unit, span_celsius),
        *_outputs(design),
        *_alarms(design, unit),
    ]


def _input(design: Design, unit: TemperatureUnit, span: tuple[float, float] | None) -> list[Line]:
    probe: Any = design.probe
    lines = [
        Line("Input", ", ".join(block_summary(design, "probe", unit)[:1]), "sensor type, input type, range",
             "In ice water it must read 0 °C, at room temperature what another thermometer says."),
    ]  # fmt: skip
    if span is not None:
        low, high = (format_temperature(unit, end, 0) for end in span)
        lines.append(
            Line("Input range", f"{low} to {high}", "span, scale low and high", "The display stops at these ends.")
        )
    shift = -float(probe.offset_celsius)
    if shift:
        lines.append(Line(
            "Input offset", format_difference(unit, shift), "bias, display correction, PV offset",
            "After it the reading agrees with the other thermometer at the setpoint.",
        ))  # fmt: skip
    filter_ = probe.filter
    if filter_.kind != "none":
        time_s = getattr(filter_, "time_constant_s", None)
        value = format_duration(time_s) if time_s else f"{filter_.kind} of {filter_.readings} readings"
        lines.append(
            Line("Input filter", value, "damping, digital filter", "A touch of the probe shows this much later.")
        )
    return lines


def _setpoint(design: Design, unit: TemperatureUnit) -> list[Line]:
    aim: Any = design.setpoint
    lines = []
    if isinstance(aim, Program):
        for number, part in enumerate(aim.segments, 1):
            ramp = (
                f"{part.rate_celsius_per_min * difference_to(unit, 1.0):.4g} {unit}/min"
                if part.rate_celsius_per_min else format_duration(part.ramp_s or 0.0)
            )  # fmt: skip
            lines.append(Line(
                f"Segment {number}", f"to {format_temperature(unit, part.to_celsius)}, ramp {ramp}, soak"
                f" {format_duration(part.soak_s)}", "step, ramp and dwell", "Watch the setpoint move in the display.",
            ))  # fmt: skip
        if aim.hold_back_celsius is not None:
            lines.append(Line(
                "Hold-back", format_difference(unit, aim.hold_back_celsius), "guaranteed soak, wait band",
                "With the heater unplugged the clock must wait.",
            ))  # fmt: skip
    else:
        lines.append(
            Line(
                "Setpoint", format_temperature(unit, aim.celsius), "SP, SV, set value", "The lower line of the display."
            )
        )
    for name, value in (("Lowest setpoint", aim.low_limit_celsius), ("Highest setpoint", aim.high_limit_celsius)):
        if value is not None:
            lines.append(
                Line(name, format_temperature(unit, value), "setpoint limit", "The keys must not go beyond it.")
            )
    return lines


def _control(design: Design, unit: TemperatureUnit, span: tuple[float, float] | None) -> list[Line]:
    law = design.law
    action = {
        "heat": ("heating", "reverse acting, reverse action"), "cool": ("cooling", "direct acting, direct action"),
        "heat_cool": ("heating and cooling", "two outputs, dual action"),
    }[law.action]  # fmt: skip
    lines = [Line("Action", *action, "Below the setpoint the output must be on where it heats, off where it cools.")]
    if isinstance(law, OnOff):
        on, off = on_off.thresholds_celsius(law, design.setpoint.celsius)
        lines += [
            Line("Control", "on/off", "two-point; a proportional band of 0", "The output is either on or off."),
            Line("Hysteresis", format_difference(unit, abs(on - off)), "differential, dead band, switching difference",
                 f"On at {format_temperature(unit, on)}, off at {format_temperature(unit, off)}."),
        ]  # fmt: skip
        return lines + _times(law.min_on_s, law.min_off_s)
    if isinstance(law, Pid):
        return lines + _pid(law, unit, span)
    if isinstance(law, Predictive):
        return lines + _predictive(law, unit, span)
    return [
        *lines,
        Line("Control", law.kind.replace("_", " "), "", "A panel controller may not offer this; compare its manual."),
    ]


def _predictive(law: Predictive, unit: TemperatureUnit, span: tuple[float, float] | None) -> list[Line]:
    """The PI law nearest to it: SIMC for its model, at a third of its closed-loop time (Skogestad 2003)."""
    slow_s = law.closed_loop_s / LEFT_AT_CLOSED_LOOP + law.dead_time_s
    nearest = Pid(
        action=law.action, period_s=law.period_s, gain_per_celsius=law.time_constant_s / (law.rise_celsius * slow_s),
        integral_time_s=min(law.time_constant_s, 4.0 * slow_s), output_low=law.output_low, output_high=law.output_high,
    )  # fmt: skip
    return [
        Line("Control", "predictive; a panel controller has none: what follows is the PI law nearest to it", "",
             "Run it on the trials first: it is another law."),
        *_pid(nearest, unit, span)[1:],
    ]  # fmt: skip


def _times(on_s: float, off_s: float) -> list[Line]:
    lines = []
    for name, value in (("Minimum on time", on_s), ("Minimum off time", off_s)):
        if value:
            lines.append(Line(name, format_duration(value), "compressor delay, restart delay", "Count it by a clock."))
    return lines


def _pid(law: Pid, unit: TemperatureUnit, span: tuple[float, float] | None) -> list[Line]:
    degrees = difference_to(unit, 1.0)
    lines = [Line("Control", "PID, standard form", "three-term, auto", "Not on/off: a band of 0 would be.")]
    if law.gain_sets:
        lines += [_gain_set(one, unit) for one in law.gain_sets]
    else:
        lines += _gains(law, unit, span)
    if law.bias:
        lines.append(Line(
            "Manual reset", f"{100.0 * law.bias:.3g} %", "bias, output at the setpoint",
            "At the setpoint, without integral, the output is this.",
        ))  # fmt: skip
    lines.append(Line(
        "Output limits", f"{100.0 * max(law.output_low, 0.0):.3g} to {100.0 * law.output_high:.3g} %",
        "power limit, output low and high", "Far off the setpoint the output shows the upper one.",
    ))  # fmt: skip
    if law.action == "heat_cool":
        ratio = law.gain_per_celsius * law.cool_gain_ratio
        gain = ratio if law.cool_gain_per_celsius is None else law.cool_gain_per_celsius
        zone = abs(law.dead_zone) * band_celsius(law.gain_per_celsius)
        lines += [
            Line("Cooling band", format_difference(unit, band_celsius(gain)), "cool gain, relative cool gain",
                 "As the heating band, above the setpoint."),
            Line("Dead band" if law.dead_zone >= 0.0 else "Overlap", format_difference(unit, zone),
                 "heat-cool spread, neutral zone", "Between heating and cooling."),
        ]  # fmt: skip
    if law.autotune is not None:
        lines.append(Line(
            "Self-tuning", f"relay of ±{100.0 * law.autotune.amplitude:.3g} %", "autotune, auto-tuning, AT",
            "Started at the working temperature: the reading swings a few times, then the gains change.",
        ))  # fmt: skip
    if law.ramp_celsius_per_s:
        lines.append(Line(
            "Setpoint ramp", f"{law.ramp_celsius_per_s * 60.0 * degrees:.4g} {unit}/min", "rate limit",
            "The working setpoint moves at this pace.",
        ))  # fmt: skip
    return lines


def _gain_set(one: Any, unit: TemperatureUnit) -> Line:
    value = f"band {format_difference(unit, band_celsius(one.gain_per_celsius))}, integral {one.integral_time_s:.4g} s"
    return Line(
        f"Gains near {format_temperature(unit, one.at_celsius)}", f"{value}, derivative {one.derivative_time_s:.4g} s",
        "gain schedule, PID sets", "Chosen by the setpoint.",
    )  # fmt: skip


def _gains(law: Pid, unit: TemperatureUnit, span: tuple[float, float] | None) -> list[Line]:
    band, ti_s, td_s = band_celsius(law.gain_per_celsius), law.integral_time_s, law.derivative_time_s
    value = format_difference(unit, band)
    if span is not None:
        value += f", {100.0 * band / (span[1] - span[0]):.3g} % of the input range"
    value += f"; as a gain {100.0 * law.gain_per_celsius / difference_to(unit, 1.0):.4g} %/{unit}"
    integral, derivative = "off", "off"
    if ti_s:
        integral = f"{ti_s:.4g} s, {ti_s / 60.0:.4g} min, {60.0 / ti_s:.4g} repeats per minute"
    if td_s:
        derivative = f"{td_s:.4g} s, {td_s / 60.0:.4g} min"
    side = "above" if law.action == "cool" else "below"
    return [
        Line("Proportional band", value, "P, Pb, throttling range; a wide band is a low gain",
             f"With integral and derivative off, half a band {side} the setpoint gives 50 % more output than at it."),
        Line("Integral", integral, "I, reset; as a time more is slower, as repeats more is faster",
             "Held off the setpoint, the output moves once more by its first change in this time." if ti_s
             else "At rest it stays off the setpoint, by as much as the manual reset is wrong."),
        Line("Derivative", derivative, "D, rate, preact",
             "While the reading moves towards the setpoint, the output is less than at rest." if td_s
             else "The output does not heed how fast the reading moves."),
    ]  # fmt: skip


def _outputs(design: Design) -> list[Line]:
    lines = []
    for number, name in enumerate(design.outputs):
        drive = design.drive_of(number)
        which = "" if len(design.outputs) == 1 else f", {name}"
        if isinstance(drive, TimeProportional):
            kind = "relay" if drive.switch == "relay" else "solid-state relay"
            lines.append(
                Line(
                    f"Cycle time{which}",
                    f"{drive.window_s:g} s for a {kind}",
                    "cycle period, proportional cycle",
                    "Time from one switching on to the next at half output.",
                )
            )
        elif isinstance(drive, Relay):
            lines += [line._replace(setting=line.setting + which) for line in _times(drive.min_on_s, drive.min_off_s)]
        elif isinstance(drive, Pwm):
            lines.append(
                Line(
                    f"Output{which}", "PWM", "pulse output", "A panel controller gives 0 to 10 V or 4 to 20 mA instead."
                )
            )
        else:
            lines.append(
                Line(f"Output{which}", "linear, 0 to 100 %", "analogue output, 4 to 20 mA", "Half output is 12 mA.")
            )
    lines.append(Line(
        "Output at sensor fault", f"{100.0 * design.guard.probe_fault_output:.3g} %", "burn-out output, safe output",
        "Pull the sensor off: the output must go there.",
    ))  # fmt: skip
    return lines


def _alarms(design: Design, unit: TemperatureUnit) -> list[Line]:
    lines = []
    for number, alarm in enumerate(design.guard.alarms, 1):
        kind = alarm.kind.replace("_", " ")
        distance = alarm.kind.startswith("deviation") or alarm.kind in (
            "in_band",
            "out_of_band",
            "loop_break",
            "rate_of_rise",
        )
        at = format_difference(unit, alarm.celsius) if distance else format_temperature(unit, alarm.celsius)
        value = kind if alarm.kind == "probe_fault" else f"{kind}, {at}"
        more = [f"delay {format_duration(alarm.delay_s)}"] if alarm.delay_s else []
        more += [f"hysteresis {format_difference(unit, alarm.hysteresis_celsius)}"] if alarm.hysteresis_celsius else []
        more += [
            word for word, on in (("latched", alarm.latch), ("standby", alarm.standby), ("trips", alarm.trips)) if on
        ]
        lines.append(
            Line(
                f"Alarm {number}",
                ", ".join([value, *more]),
                ALARMS_ALSO.get(alarm.kind, "process alarm"),
                "Move the setpoint or the probe until it comes.",
            )
        )
    if design.guard.cut_out_celsius is not None:
        lines.append(Line(
            "Cut-out", format_temperature(unit, design.guard.cut_out_celsius), "limit controller, over-temperature",
            "In a device of its own, which shares neither sensor nor switch with this one.",
        ))  # fmt: skip
    return lines


ALARMS_ALSO = {
    "high": "full-scale high, process high", "low": "full-scale low, process low",
    "deviation_high": "relative high, deviation", "deviation_low": "relative low, deviation",
    "in_band": "band alarm, inside", "out_of_band": "band alarm, outside", "loop_break": "loop alarm, heater break",
    "rate_of_rise": "rate of change", "probe_fault": "sensor break",
}  # fmt: skip
CAUTION = (
    "Mains wiring is for licensed persons and local codes. A cut-out shares neither sensor nor switch with the"
    " controller. Nobody leaves a first run alone."
)


def as_text(design: Design, lines: list[Line], width: int) -> str:
    """The sheet as plain text, in so many columns."""
    wide = max(len(line.setting) for line in lines) + 2
    parts = [f"{design.name}: settings of a panel controller", ""]
    for line in lines:
        told = [line.value, *([f"also called: {line.also}"] if line.also else []), f"verify: {line.verify}"]
        text = [part for one in told for part in textwrap.wrap(one, max(width - wide, 20))]
        parts += [f"{line.setting if at == 0 else '':<{wide}}{one}" for at, one in enumerate(text)]
    return "\n".join([*parts, "", *textwrap.wrap(CAUTION, max(width, 20)), ""])


def as_html(design: Design, lines: list[Line]) -> str:
    """The sheet as a page that prints on paper."""
    rows = "\n".join(
        f"<tr><th>{escape(line.setting)}</th><td>{escape(line.value)}</td><td>{escape(line.also)}</td>"
        f"<td>{escape(line.verify)}</td></tr>"
        for line in lines
    )
    name = escape(design.name)
    return f"""<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><meta name="generator" content="Calor"><title>{name}: settings</title>
<style>
body {{ font: 14px/1.4 Inter, sans-serif; color: #23262B; background: #F4F1EA; margin: 2em; }}
table {{ border-collapse: collapse; }} th, td {{ text-align: left; vertical-align: top; padding: .35em .8em .35em 0; }}
tr {{ border-bottom: 1px solid #E4DFD2; }} td {{ font-feature-settings: "tnum"; }}
</style></head><body>
<h1>{name}</h1>
<p>Settings of a panel controller.</p>
<table><thead><tr><th>Setting</th><th>Value</th><th>Also called</th><th>How to verify it</th></tr></thead>
<tbody>
{rows}
</tbody></table>
<p>{escape(CAUTION)}</p>
</body></html>
"""
