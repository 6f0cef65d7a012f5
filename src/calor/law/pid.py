"""PID in the standard (ISA) form: u = Kc·(e + (1/Ti)∫e dt + Td·de/dt).

The derivative acts on the measurement and is filtered; the setpoint's weight acts on the proportional part,
counted from the first reading so that it does not depend on where the temperature scale has its zero. Without
integral action there is nothing to make up for a weight, and the whole error counts. Where gains change, what the
weight held back moves to the integral, so that the output does not jump. The integral is clamped, or corrected by
back-calculation, where the output is at a limit.
Source: Åström & Hägglund, Advanced PID Control (2006), chapter 3 (form, filter, weight, both anti-windups).
"""

from __future__ import annotations

import math
from typing import Annotated, Any, Literal, Self

import numpy as np
from pydantic import Field, Strict, model_validator

from calor.law import autotune, split
from calor.law.autotune import Autotune
from calor.law.dialect import band_celsius, form_line
from calor.law.gains import MOST_GAIN_SETS, GainSet, gains_at, gains_of
from calor.law.gains import numbers as gain_numbers
from calor.law.outputs import Outline
from calor.law.pid_step import MEMORY_SIZE, PidNumbers, PidState, decide, override, start, step, with_other_gains
from calor.settings import Settings, choice, difference, duration, fraction, number
from calor.units import TemperatureUnit, difference_to, format_difference, format_gain

__all__ = [
    "MEMORY_SIZE", "GainForm", "Pid", "PidNumbers", "PidState", "along_with", "consequences", "cool_ratio", "decide",
    "numbers", "outline", "override", "start", "step", "summary", "with_other_gains",
]  # fmt: skip
GainForm = Literal["standard", "parallel", "series", "band"]


class Pid(Settings):
    """Proportional, integral and derivative action."""

    kind: Literal["pid"] = choice("pid", "Law", "Proportional, integral and derivative action.", words={"pid": "PID"})
    action: Literal["heat", "cool", "heat_cool"] = choice(
        "heat",
        "Action",
        "Whether more output makes it warmer or colder; heat_cool: one output for each.",
        words={"heat": "Heats", "cool": "Cools", "heat_cool": "Heats, cools"},
    )
    period_s: float = duration(1.0, "Control step", "How often the law reads and decides.", 0.001, 3600.0)
    gain_per_celsius: float = number(
        0.1, "Gain", "Share of full output for each °C of error, standard (ISA) form.", "gain_per_celsius", 0.0, 1000.0
    )
    integral_time_s: float = duration(0.0, "Integral time", "0 means no integral action.", 0.0, 1e6)
    derivative_time_s: float = duration(0.0, "Derivative time", "0 means no derivative action.", 0.0, 1e5)
    derivative_filter: float = number(
        8.0,
        "Derivative filter",
        "Smooths the derivative over derivative time / N; 5 to 20 is usual.",
        "number",
        1.0,
        1000.0,
    )
    setpoint_weight: float = number(
        1.0, "Setpoint weight", "Share of a setpoint step that the proportional part sees; 1 without integral action.",
        "number", 0.0, 1.0,
    )  # fmt: skip
    output_low: float = fraction(0.0, "Output minimum", "The demand never goes below this, but by hand.")
    output_high: float = fraction(1.0, "Output maximum", "The demand never goes above this.")
    anti_windup: Literal["clamp", "back_calculate", "none"] = choice(
        "clamp",
        "Anti-windup",
        "What the integral does at an output limit: clamping, back-calculation, or none.",
        words={"clamp": "Clamping", "back_calculate": "Back-calculation", "none": "none"},
    )
    bias: float = fraction(
        0.0, "Manual reset", "Added to the output; takes the offset of a P law away, for one load only.", -1.0, 1.0
    )
    integral_band_celsius: float | None = difference(
        None, "Integration band", "The integral only grows this near the setpoint.", 0.001, 1000.0
    )
    slew_per_s: float = number(
        0.0, "Slew limit", "Share of full output the demand changes by in a second; 0: at once.", "number", 0.0, 100.0
    )
    ramp_celsius_per_s: float = number(
        0.0, "Setpoint ramp", "How fast the setpoint is approached from where it starts; 0: at once.", "celsius_per_s",
        0.0, 100.0,
    )  # fmt: skip
    dead_zone: float = fraction(
        0.0, "Dead zone", "With heat_cool: demand in which neither output gives; below 0 they overlap.", -0.5, 0.9
    )
    cool_gain_ratio: float = number(
        1.0, "Cooling gain ratio", "With heat_cool: in proportion to heating's; below 1 where cooling is the stronger.",
        "number", 0.01, 100.0,
    )  # fmt: skip
    cool_gain_per_celsius: float | None = number(
        None, "Cooling gain", "With heat_cool: share of full cooling for each °C; in place of the ratio.",
        "gain_per_celsius", 1e-6, 1000.0,
    )  # fmt: skip
    cool_integral_time_s: float | None = duration(
        None, "Cooling integral", "With heat_cool: integral time while it cools; heating's where left out.", 0.0, 1e6
    )
    cool_derivative_time_s: float | None = duration(
        None,
        "Cooling derivative",
        "With heat_cool: derivative time as it cools; heating's where left out.",
        0.0,
        1e5,
    )
    cool_output_high: float = fraction(
        1.0, "Cooling maximum", "With heat_cool: cooling never gives more than this.", 0.01
    )
    gain_sets: Annotated[tuple[GainSet, ...], Strict(False)] = Field(
        default=(), title="Gain sets", description="Gains tuned at other setpoints, used in place of those above.",
        max_length=MOST_GAIN_SETS,
    )  # fmt: skip
    gains_by: Literal["nearest", "interpolated"] = choice(
        "nearest",
        "Gain set chosen",
        "The set tuned nearest to the setpoint, or in between the two around it.",
        words={"nearest": "nearest", "interpolated": "in between"},
    )
    manual_mode: bool = choice(
        False, "Manual mode", "The output can be set by hand, and goes back to the law without a bump."
    )
    autotune: Autotune | None = Field(
        default=None, title="Self-tuning", description="The law can find its gains itself, by a relay test."
    )
    shown_as: GainForm = choice(
        "standard",
        "Gains shown as",
        "The form the gains are shown in; the file keeps the standard form.",
        words={"standard": "Gain Ti Td", "parallel": "Kp Ki Kd", "series": "series", "band": "band"},
    )

    @model_validator(mode="after")
    def _limits_in_order(self) -> Self:
        wrong = split.limits_problem(self.action, self.output_low, self.output_high)
        if wrong:
            raise ValueError(wrong)
        self._check_cooling()
        if self.autotune is not None and self.gain_sets:
            raise ValueError("autotune finds one set of gains, and gain_sets are several; leave one of them out")
        lowest = -self.cool_output_high if self.action == "heat_cool" else self.output_low
        if self.autotune is not None and 2.0 * self.autotune.amplitude > self.output_high - lowest + 1e-9:
            raise ValueError(
                f"autotune.amplitude ({self.autotune.amplitude:g}) goes further than the output, {lowest:g} to"
                f" {self.output_high:g}; give {0.5 * (self.output_high - lowest):g} at most"
            )
        places = [item.at_celsius for item in self.gain_sets]
        if sorted(set(places)) != places:
            raise ValueError(
                f"gain_sets must rise in at_celsius (received {', '.join(f'{place:g}' for place in places)}); sort them"
            )
        return self

    def _check_cooling(self) -> None:
        own = [
            key for key in ("cool_gain_per_celsius", "cool_integral_time_s", "cool_derivative_time_s")
            if getattr(self, key) is not None
        ]  # fmt: skip
        if own and self.action != "heat_cool":
            raise ValueError(f'{own[0]} ({getattr(self, own[0]):g}) goes with action = "heat_cool" only; leave it out')
        if self.cool_gain_per_celsius is None:
            return
        if self.cool_gain_ratio != 1.0:
            raise ValueError("give either cool_gain_per_celsius or cool_gain_ratio, not both")
        if self.gain_sets:
            raise ValueError("gain_sets give heating's gain; say cooling's by cool_gain_ratio")
        if self.gain_per_celsius == 0.0:
            raise ValueError("cool_gain_per_celsius needs a gain_per_celsius above 0 for heating; give one")


def along_with(settings: Pid, key: str, value: Any) -> dict[str, Any]:
    """All that changes with one setting: cooling's gain is given as such or in proportion, and only where it cools."""
    if key == "cool_gain_per_celsius" and value is not None:
        return {key: value, "cool_gain_ratio": 1.0}
    if key == "cool_gain_ratio" and value != 1.0:
        return {key: value, "cool_gain_per_celsius": None}
    if key == "action" and value != "heat_cool":
        own = ("cool_gain_per_celsius", "cool_integral_time_s", "cool_derivative_time_s")
        return {key: value, **dict.fromkeys(own)}
    return {key: value}


def cool_ratio(settings: Pid) -> float:
    """Cooling's gain in proportion to heating's."""
    if settings.cool_gain_per_celsius is None:
        return settings.cool_gain_ratio
    return settings.cool_gain_per_celsius / settings.gain_per_celsius


def numbers(settings: Pid) -> PidNumbers:
    """The settings as plain numbers."""
    apart = split.NO_SPLIT
    low, high = settings.output_low, settings.output_high
    if settings.action == "heat_cool":
        apart = split.Split(
            True, 0.5 * settings.dead_zone, cool_ratio(settings), settings.output_high, settings.cool_output_high
        )
        low, high = split.lowest(apart), split.highest(apart)
    ti_s, td_s, back = settings.integral_time_s, settings.derivative_time_s, settings.anti_windup == "back_calculate"
    cool_ti_s, cool_td_s = settings.cool_integral_time_s, settings.cool_derivative_time_s
    cool = None
    if cool_ti_s is not None or cool_td_s is not None:
        cool = gains_of(0.0, ti_s if cool_ti_s is None else cool_ti_s, td_s if cool_td_s is None else cool_td_s, back)
    own = gains_of(settings.gain_per_celsius, ti_s, td_s, back)
    return PidNumbers(
        -1.0 if settings.action == "cool" else 1.0,
        gain_numbers(own, cool, settings.gain_sets, settings.gains_by == "interpolated", back),
        settings.derivative_filter,
        settings.setpoint_weight,
        low,
        high,
        settings.anti_windup == "clamp",
        settings.bias,
        math.inf if settings.integral_band_celsius is None else settings.integral_band_celsius,
        settings.slew_per_s,
        settings.ramp_celsius_per_s,
        apart,
        autotune.numbers(settings.autotune, settings.action, back, apart.cool_ratio),
    )


def outline(settings: Pid, setpoint_celsius: float) -> list[Outline]:
    """What the proportional part asks at each temperature around the setpoint; cooling of two outputs below 0."""
    plain = numbers(settings)
    gain = plain.direction * gains_at(plain.gains, setpoint_celsius, False).gain_per_celsius
    reach = 0.75 / abs(gain) if gain else 5.0
    reach = max(reach * (plain.output_high - min(plain.output_low, 0.0) + abs(settings.bias)), 0.2)
    x = np.linspace(setpoint_celsius - reach, setpoint_celsius + reach, 241)
    demand = np.clip(gain * (setpoint_celsius - x) + settings.bias, plain.output_low, plain.output_high)
    if not plain.split.used:
        return [Outline("going", x.tolist(), demand.tolist())]
    both = [split.heat_and_cool(plain.split, float(one)) for one in demand]
    return [
        Outline("second", x.tolist(), [-cool for _, cool in both]),
        Outline("going", x.tolist(), [heat for heat, _ in both]),
    ]


def summary(settings: Pid, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    """The two lines on its card."""
    del setpoint_celsius
    actions = "P" + ("I" if settings.integral_time_s else "")
    name = f"{actions} + D, on measurement" if settings.derivative_time_s else f"{actions} law"
    if settings.action == "heat_cool":
        name = name.replace(" law", "").replace(", on measurement", "") + ", heats and cools"
    parts = [format_gain(settings.gain_per_celsius, unit)]
    if settings.gain_sets:
        return name, f"{len(settings.gain_sets)} gain sets, {settings.gains_by}"
    parts += [f"{time:g} s" for time in (settings.integral_time_s, settings.derivative_time_s) if time]
    return name, " · ".join(parts)


def consequences(settings: Pid, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    del setpoint_celsius
    lines = {}
    if settings.gain_per_celsius > 0.0:
        band = format_difference(unit, band_celsius(settings.gain_per_celsius))
        lines["gain_per_celsius"] = f"Same as a {band} proportional band."
    else:
        lines["gain_per_celsius"] = "No gain: the output stays at its low limit."
    if not settings.integral_time_s:
        lines["integral_time_s"] = "No integral action: it settles off the setpoint."
    else:
        lines["integral_time_s"] = f"{60.0 / settings.integral_time_s:.3g} repeats a minute."
    if settings.derivative_time_s:
        lag_s = settings.derivative_time_s / settings.derivative_filter
        lines["derivative_filter"] = f"Smooths the slope over {lag_s:.3g} s."
    if settings.bias and settings.integral_time_s:
        lines["bias"] = "With integral action it only matters at the start."
    if settings.ramp_celsius_per_s:
        lines["ramp_celsius_per_s"] = f"{difference_to(unit, settings.ramp_celsius_per_s * 60.0):.3g} {unit} a minute."
    if settings.action == "heat_cool":
        zone = abs(settings.dead_zone)
        word = "Neither gives" if settings.dead_zone >= 0.0 else "Both give"
        if settings.gain_per_celsius and zone:
            wide = format_difference(unit, zone / settings.gain_per_celsius)
            lines["dead_zone"] = f"{word} over {wide} of the band."
        cool = settings.gain_per_celsius * cool_ratio(settings)
        if cool:
            key = "cool_gain_ratio" if settings.cool_gain_per_celsius is None else "cool_gain_per_celsius"
            lines[key] = f"Cooling's band is {format_difference(unit, band_celsius(cool))}."
    if settings.gain_sets:
        lines["gain_per_celsius"] = "Not used: the gain sets are."
    if settings.autotune is not None:
        lines["autotune.used"] = "An event of a trial starts it; its C has a call for it."
    gains = (settings.gain_per_celsius, settings.integral_time_s, settings.derivative_time_s)
    lines["shown_as"] = form_line(settings.shown_as, *gains, unit)
    return lines
