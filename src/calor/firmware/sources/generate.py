"""C99 sources of a design: float only, no heap, no globals that change, settings in one const struct.

Each block has a template beside the others; it says in C what the block's Python step says, line by line.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from calor import moist_air
from calor.design.model import Design
from calor.drive import pwm
from calor.drive import registry as drives
from calor.drive.pwm import Pwm
from calor.errors import FirmwareError
from calor.firmware.sources import constants, fixed_point, outward
from calor.firmware.sources.code_table import code_table
from calor.firmware.sources.form import PLAIN, Form
from calor.firmware.sources.scaling import probe_context
from calor.firmware.sources.templating import Sources, c_float, c_name, plain_text, render
from calor.firmware.sources.written import write_files
from calor.law import alarm as alarms
from calor.law import autotune, fan_curve, pid
from calor.law import guard as guards
from calor.law import registry as laws
from calor.law import setpoint as setpoints
from calor.law.code import Code
from calor.law.fan_curve import FanCurve
from calor.law.pid import Pid
from calor.law.program import Program
from calor.law.setpoint import Follow
from calor.sense import knob as knobs

OUTPUT_PREFIXES = ("", "second_", "third_", "fourth_")


@dataclass(frozen=True)
class OutputCode:
    """One output in the generated code: the prefix of its names, what it is called, and its drive."""

    prefix: str
    name: str
    kind: str
    drive: drives.DriveNumbers
    timing: pwm.Timing | None
    switches: bool
    active_low: bool


def outputs_of(design: Design) -> tuple[OutputCode, ...]:
    """The outputs of a design as its C has them."""
    parts = []
    for number, name in enumerate(design.outputs):
        own = design.drive_of(number)
        timing = pwm.timing(own) if isinstance(own, Pwm) else None
        active_low = bool(getattr(own, "active_low", False))
        switches = own.kind in drives.SWITCHES
        prefix = OUTPUT_PREFIXES[number]
        parts.append(OutputCode(prefix, name, own.kind, drives.numbers(own), timing, switches, active_low))
    return tuple(parts)


def tick_s(design: Design) -> float:
    """The pace at which the generated switch is meant to be called: half-cycles, or a fine share of the step."""
    period_s = float(design.law.period_s)
    for output in outputs_of(design):
        half_cycle_s = output.drive.time_proportional.half_cycle_s if output.kind == "time_proportional" else 0.0
        if half_cycle_s > 0.0 and abs(period_s / half_cycle_s - round(period_s / half_cycle_s)) < 1e-6:
            return half_cycle_s
    return period_s / max(1, round(period_s / 0.01))


def generate(design: Design, prefix: str = "", form: Form = PLAIN) -> Sources:
    """The C99 sources of `design`, a header and a C file for each concern; names begin with `prefix`, else with the
    design's.

    Raises FirmwareError where `prefix` cannot begin a name in C.
    """
    if prefix and not re.fullmatch(r"[A-Za-z][A-Za-z0-9_]{0,39}", prefix):
        raise FirmwareError("prefix", "must begin with a letter and be up to 40 letters, digits and _", f"{prefix!r}")
    if isinstance(design.law, Code):
        raise FirmwareError(
            "law.kind code",
            "the law is your own file, and nothing is made of it",
            "",
            "choose a law of Calor's for its C",
        )
    prefix = prefix or c_name(design.name)
    design = outward.by_hand(design, form)
    context = context_of(design, prefix, form)
    files = {
        f"{prefix}_{concern}{end}": render(f"{concern}{end}.j2", context)
        for concern in concerns(context)
        for end in (".c", ".h")
        if (concern, end) != ("state", ".c")
    }
    if form.fixed:
        files = fixed_point.exact(fixed_point.in_fixed_point(files)) | {f"{prefix}_q16.h": render("q16.h.j2", {})}
    if form.constant:
        files = constants.compiled_in(files, prefix)
    if form.is_outward:
        files |= outward.files(design, prefix, form, context)
    return Sources(prefix, files, f"{prefix}_thermostat.h", form)


def concerns(context: dict[str, Any]) -> list[str]:
    """What has a file of its own: the thermostat that joins them first, then in the order of the loop."""
    return [
        "thermostat", "probe", "setpoint", "law",
        *(["guard"] if context["has_guard"] else []),
        *(["drive"] if context["has_drive"] else []),
        *(["knob"] if context["knob"] or context["button"] else []),
        *(["logarithm"] if context["needs_log"] else []),
        "state",
    ]  # fmt: skip


def context_of(design: Design, prefix: str, form: Form = PLAIN) -> dict[str, Any]:
    """What the templates say of a design."""
    outputs = outputs_of(design)
    trips = sum(1 << k for k, alarm in enumerate(design.guard.alarms) if alarm.trips)
    latched = sum(1 << k for k, alarm in enumerate(design.guard.alarms) if alarm.latch)
    follows_dew_point = isinstance(design.setpoint, Follow) and design.setpoint.signal == "dew_point"
    probe = probe_context(design.probe, prefix, form, code_table(design) if form.table else None)
    low_celsius, high_celsius = guards.limits_celsius(design.guard, design.law.action)
    cools = design.law.action == "cool"
    cut_out_celsius = low_celsius if cools else high_celsius
    has_cut_out, has_low_cut_out = math.isfinite(cut_out_celsius), math.isfinite(low_celsius) and not cools
    return probe | {
        "alone": False,
        "constant": form.constant,
        "uses_flash": form.constant or probe["uses_flash"],
        "design_name": plain_text(design.name),
        "design": design,
        "law": laws.numbers(design.law, design.guard),
        "leads_back": isinstance(design.law, Pid) and design.law.anti_windup == "back_calculate",
        "moves_integral": isinstance(design.law, Pid) and _moves_integral(design.law),
        "keeps_output": isinstance(design.law, Pid) and _keeps_output(design.law),
        "tunes": isinstance(design.law, Pid) and design.law.autotune is not None,
        "tuning_codes": _tuning_codes(),
        "root_steps": autotune.ROOT_STEPS,
        "has_cut_out": has_cut_out,
        "cut_out_celsius": cut_out_celsius,
        "has_low_cut_out": has_low_cut_out,
        "has_guard": has_cut_out or has_low_cut_out or bool(design.guard.alarms),
        "ends_off": isinstance(design.setpoint, Program) and design.setpoint.end == "off",
        "outward": form.is_outward,
        "latches": has_cut_out or has_low_cut_out or bool(trips or latched),
        "manual_mode": form.is_outward or (isinstance(design.law, Pid) and design.law.manual_mode),
        "hand_overrides": form.is_outward and not isinstance(design.law, Pid),
        "hand_low": -1.0 if design.law.action == "heat_cool" else 0.0,
        "curve": _curve(design),
        "setpoint": setpoints.numbers(design.setpoint),
        "outputs": outputs,
        "magnus_b": moist_air.MAGNUS_B,
        "magnus_c_celsius": moist_air.MAGNUS_C_CELSIUS,
        "needs_log": (probe["uses_bits"] or follows_dew_point) and not form.fixed,
        "fine": 1024.0 if form.fixed else 1.0,
        "counts_microseconds": not form.fixed
        and (design.law.kind == "timer" or design.setpoint.kind in ("program", "day_night")),
        "clock_unit": "1/65536 s" if form.fixed else "microseconds",
        "long_s": fixed_point.LARGEST if form.fixed else 1e9,
        "alarms": laws.alarm_numbers(design.law, design.guard, isinstance(design.setpoint, Follow)),
        "alarm_kinds": alarms.KINDS,
        "rate_of_rise": alarms.RATE_OF_RISE,
        "has_loop_break": any(alarm.kind == "loop_break" for alarm in design.guard.alarms),
        "alarm_names": _alarm_names(design),
        "latch_mask": f"0x{latched:X}u" if latched else "",
        "trip_mask": f"0x{trips:X}u" if trips else "",
        "knob": None if design.knob is None else knobs.knob_numbers(design.knob),
        "button": design.button,
        "tick_s": tick_s(design),
        "tick_counts": _tick_counts(tick_s(design), form),
        "switches": any(output.switches for output in outputs),
        "has_drive": any(output.switches or output.timing for output in outputs),
    }


def _tick_counts(tick_s: float, form: Form) -> int:
    """A tick in what the C's switches count: 1/65536 s in fixed point, else microseconds, as a float is turned into
    them."""
    if form.fixed:
        return int(float(c_float(tick_s)[:-1]) * 65_536.0 + 0.5)
    return int(np.float32(tick_s) * np.float32(1e6) + np.float32(0.5))


def _alarm_names(design: Design) -> list[tuple[str, str, str]]:
    """(name, what it says, bit) of each alarm: its kind, numbered where there are several of it."""
    kinds = [alarm.kind for alarm in design.guard.alarms]
    names = []
    for k, alarm in enumerate(design.guard.alarms):
        number = f"_{kinds[: k + 1].count(alarm.kind)}" if kinds.count(alarm.kind) > 1 else ""
        said = alarms.line(alarm).removeprefix("alarm ").replace("°C", "degrees Celsius")
        names.append((f"{alarm.kind.upper()}{number}", said, f"0x{1 << k:X}u"))
    return names


def _moves_integral(law: Pid) -> bool:
    """Whether its gains change while it runs, so that what the setpoint's weight held back has to move."""
    gains = pid.numbers(law).gains
    return law.setpoint_weight < 1.0 and (gains.sets > 0 or gains.has_cool or law.autotune is not None)


def _keeps_output(law: Pid) -> bool:
    """Whether it has to know what it asked for before."""
    return law.slew_per_s > 0.0 or pid.numbers(law).gains.has_cool or law.autotune is not None


def _tuning_codes() -> list[tuple[str, int, str]]:
    """(name, number, what it says) of all that may come of self-tuning."""
    names = {number: name for name, number in vars(autotune).items() if name in autotune.RESULTS}
    said = autotune.REASONS | {autotune.NONE: "not tuned yet", autotune.RUNNING: "it is on"}
    return [(names[number], number, said[number]) for number in sorted(names)]


def _curve(design: Design) -> tuple[tuple[float, float], ...]:
    """The points of a fan curve in the order in which its output rises; none where the law is another."""
    if not isinstance(design.law, FanCurve):
        return ()
    points = fan_curve.curve(design.law)
    return points if design.law.action == "cool" else points[::-1]


def write(design: Design, folder: Path, prefix: str = "") -> list[Path]:
    """Write the sources of `design` into `folder`, made where it is missing. Raises FirmwareError."""
    return write_files(generate(design, prefix), folder)
