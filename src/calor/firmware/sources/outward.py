"""What the C has to the outside, where asked: its serial line, its front with two lines and three keys, and the
parameters that both set. Written for float or fixed point at once, beside the thermostat and not through it."""

from __future__ import annotations

import math
import re
from typing import Any

from calor import __version__
from calor.design.model import Design
from calor.firmware.sources.fixed_point import LARGEST
from calor.firmware.sources.form import Form
from calor.firmware.sources.parameters import Parameter, layout_of, orders_of, parameters_of
from calor.firmware.sources.templating import render
from calor.law.fan_curve import FanCurve
from calor.law.pid import Pid
from calor.loop import answer_row
from calor.sense.digital import NO_ANSWER, Digital
from calor.sense.registry import gives_code, numbers
from calor.sense.thermocouple import Thermocouple

IN_LOOP_S = 3.0
"""So long after a step that was asked for, the board is taken to be in the loop still."""
RELEASE_S = 10.0
"""So long after a release was asked for, a second one lets go of the cut-out."""
LONGEST_NUMBER, LONGEST_NAME = 28, 40
ALARM_WORDS = {
    "high": "high", "low": "low", "deviation_high": "dev high", "deviation_low": "dev low", "in_band": "in band",
    "out_of_band": "out band", "probe_fault": "probe", "loop_break": "loop", "rate_of_rise": "rising",
}  # fmt: skip


def by_hand(design: Design, form: Form) -> Design:
    """A design as it is with something to the outside: a PID law has its manual mode."""
    if form.is_outward and isinstance(design.law, Pid) and not design.law.manual_mode:
        return design.model_copy(update={"law": design.law.model_copy(update={"manual_mode": True})})
    return design


def concerns(form: Form) -> list[str]:
    """What has a file of its own beside the thermostat."""
    if not form.is_outward:
        return []
    return ["text", "parameters", *(["link"] if form.link else []), *(["panel"] if form.panel else [])]


def files(design: Design, prefix: str, form: Form, context: dict[str, Any]) -> dict[str, str]:
    """The files of these concerns, by name; `context` is that of the thermostat."""
    own = context | _context(design, form, context)
    return {
        f"{prefix}_{concern}{end}": render(f"{concern}{end}.j2", own)
        for concern in concerns(form)
        for end in (".c", ".h")
    }


def stated(design: Design, form: Form) -> dict[str, Any]:
    """What the files around them say of them: the parameters, the bytes of a kept copy and of the longest line."""
    parameters = parameters_of(design, form)
    return {
        "parameters": parameters, "release_s": RELEASE_S, "copy_bytes": _copy_bytes(parameters, form),
        "link_longest": _longest(parameters, _name_on_line(design), len(design.outputs)),
    }  # fmt: skip


def _copy_bytes(parameters: tuple[Parameter, ...], form: Form) -> int:
    """Version, number, which were set, the values, what the front keeps, and the checksum: four bytes each."""
    return 4 * (4 + len(parameters) + (1 if form.panel else 0))


def _context(design: Design, form: Form, context: dict[str, Any]) -> dict[str, Any]:
    real = "q16" if form.fixed else "float"
    parameters = parameters_of(design, form)
    keys = {one.key for one in parameters}
    period_s = float(design.law.period_s)
    return _counts(design) | {
        "form": form,
        "real": real,
        "fixed": form.fixed,
        "reading": real if context["reading"] == "float" else context["reading"],
        "parameters": parameters,
        "inverses": [one for one in parameters if one.is_inverse],
        "orders": orders_of(parameters, design),
        "has_setpoint": "setpoint_celsius" in keys,
        "back_rates": context["leads_back"] and "integral_time_s" in keys,
        "copy_words": _copy_bytes(parameters, form) // 4 - 1,
        "copy_bytes": _copy_bytes(parameters, form),
        "layout": layout_of(parameters, form),
        "row": answer_row,
        "period_s": min(period_s, LARGEST) if form.fixed else period_s,
        "period_us": round(period_s * 1e6),
        "in_loop_steps": max(2, math.ceil(IN_LOOP_S / period_s)),
        "release_s": RELEASE_S,
        "release_steps": max(2, math.ceil(RELEASE_S / period_s)),
        "other_is": _other_is(design),
        "link_name": _name_on_line(design),
        "version": __version__,
        "link_longest": _longest(parameters, _name_on_line(design), len(design.outputs)),
        "panel_width": form.panel,
        "alarm_words": [ALARM_WORDS[alarm.kind] for alarm in design.guard.alarms],
    }


def _name_on_line(design: Design) -> str:
    """A design's name as a word of the line: no space, and no quote, backslash or trigraph in a string of C."""
    return re.sub(r"[^A-Za-z0-9.()+-]+", "_", design.name).strip("_")[:LONGEST_NAME] or "board"


def _other_is(design: Design) -> str:
    if isinstance(design.law, FanCurve) and design.law.follows == "difference":
        return "difference"
    return "signal" if design.setpoint.kind == "follow" else ""


def _counts(design: Design) -> dict[str, Any]:
    """What the numbers are that a step is given: degrees, a sensor's word, or conversions that are added up."""
    probe: Any = design.probe
    if probe.kind == "ideal":
        return {"counts_are": "celsius"}
    if isinstance(probe, Digital | Thermocouple) and gives_code(probe):
        bits = probe.bits if isinstance(probe, Digital) else probe.converter_bits
        return {
            "counts_are": "word", "conversions": 1, "word_shift": probe.word_shift, "word_mask": (1 << bits) - 1,
            "word_sign": 1 << (bits - 1), "no_answer": probe.fault_mask or NO_ANSWER,
        }  # fmt: skip
    return {"counts_are": "counts", "conversions": numbers(probe).firmware.adc.oversampling, "no_answer": 0}


def _longest(parameters: tuple[Parameter, ...], name: str, outputs: int) -> int:
    """The longest line that the board can send, its checksum, its end and a zero with it."""
    keys = [len(one.key) for one in parameters]
    greeting = len(f"hello link=1 name={name} version={__version__} step_s=1234567 can= check=crc16 keeps=1 panel=16")
    greeting += sum(key + 3 + 2 * 12 for key in keys)
    row = len("ok step n=4294967295 time_s=4294967295.123456 counts=") + LONGEST_NUMBER
    row += len("measured_celsius= setpoint_celsius= flags= alarms= tuning= status= off= mode=stopped") + 5 * 10
    row += (2 + outputs) * LONGEST_NUMBER + 10 * outputs
    refusal = len("err set takes KEY VALUE; KEY one of") + sum(key + 1 for key in keys)
    commands = 140
    return max(greeting, row, refusal, commands, 2 * LONGEST_NUMBER + 60) + len(" *ABCD\n") + 1
