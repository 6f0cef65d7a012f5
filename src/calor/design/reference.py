"""The design file's reference, made from the settings' own descriptions, so that it cannot drift."""

from __future__ import annotations

from typing import get_args

from pydantic import BaseModel
from pydantic.fields import FieldInfo
from pydantic_core import PydanticUndefined

from calor.design.events import EVENT_KINDS
from calor.design.model import BLOCK_KINDS, Design
from calor.design.proof import LoadSpread, Proof, Safe, Spread
from calor.design.trial import Limits, Trial
from calor.drive.driver import KINDS as DRIVER_KINDS
from calor.law.alarm import Alarm
from calor.law.autotune import Autotune
from calor.law.gains import GainSet
from calor.law.guard import Guard
from calor.law.program import Segment
from calor.law.stages import Stage
from calor.sense.adc import Adc
from calor.sense.calibration import CalibrationPoint
from calor.sense.checks import Checks
from calor.sense.filters import KINDS as FILTER_KINDS
from calor.sense.knob import Button, Knob
from calor.settings import QUANTITY_UNIT, bounds_of, ordered_fields, quantity_of

_INTRODUCTION = """\
# The design file

One TOML file holds everything Calor needs to simulate, judge and generate one thermostat. Units stand in the
names: `_celsius`, `_s`, `_ohm`, `_watt`. Fractions are 0 to 1 of full output. The five blocks of the loop,
`[setpoint]`, `[law]`, `[drive]`, `[load]` and `[probe]`, must be there; `[guard]`, `[limits]`, `[proof]` and
`[[trial]]` may be left out, and so may every key that has a default below. `calor new FILE` writes a design to start
from, `calor check FILE` names every problem of one.

This page is generated from the settings' own descriptions (`make docs`).
"""


def _default(field: FieldInfo) -> str:
    if field.default is PydanticUndefined:
        return "required"
    if field.default is None or isinstance(field.default, BaseModel | tuple):
        return "none"
    if isinstance(field.default, bool):
        return str(field.default).lower()
    return f"{field.default:g}" if isinstance(field.default, int | float) else f"`{field.default}`"


def _admissible(field: FieldInfo) -> str:
    if quantity_of(field):
        low, high, open_low = bounds_of(field)
        unit = QUANTITY_UNIT[quantity_of(field)]
        span = f"above {low:g}, to {high:g}" if open_low else f"{low:g} to {high:g}"
        return f"{span} {unit}".strip()
    choices = [choice for choice in get_args(field.annotation) if isinstance(choice, str)]
    if choices:
        return ", ".join(f"`{choice}`" for choice in choices)
    if field.annotation is bool:
        return "true or false"
    return "text" if field.annotation is str else "see below"


def _table(model: type[BaseModel], without: tuple[str, ...] = ()) -> list[str]:
    lines = ["", "| key | default | admissible | what it is |", "|---|---|---|---|"]
    for key, field in ordered_fields(model).items():
        if key not in without:
            lines.append(f"| `{key}` | {_default(field)} | {_admissible(field)} | {field.description or ''} |")
    return lines


_TABLES = ("guard", "limits", "proof", "trial", "knob", "button", "second_drive", "driver")
_LISTS: dict[str, dict[str, type[BaseModel]]] = {
    "setpoint": {"setpoint.segments": Segment},
    "law": {"law.stages": Stage, "law.gain_sets": GainSet},
}
"""Lists in a block, and what an entry of each is."""


def design_file_reference() -> str:
    """The whole reference as Markdown."""
    lines = [_INTRODUCTION, "## At the top"]
    lines += _table(Design, without=(*BLOCK_KINDS, *_TABLES))
    for block, kinds in BLOCK_KINDS.items():
        lines += ["", f"## [{block}]"]
        for kind, model in kinds.items():
            lines += ["", f'### kind = "{kind}"', "", (model.__doc__ or "").strip()]
            lines += _table(model)
        for name, entry in _LISTS.get(block, {}).items():
            lines += ["", f"### an entry of {name}", "", (entry.__doc__ or "").strip(), *_table(entry)]
        if block == "drive":
            lines += [
                "",
                "## [second_drive]",
                "",
                "Of a second output, with the keys of [drive]; as that where left out.",
            ]
            for kind, driver in DRIVER_KINDS.items():
                lines += ["", f'## [driver] of kind = "{kind}"', "", (driver.__doc__ or "").strip(), *_table(driver)]
        if block == "probe":
            lines += ["", "### [probe.adc]", "", (Adc.__doc__ or "").strip(), *_table(Adc)]
            for kind, filter_ in FILTER_KINDS.items():
                lines += [
                    "",
                    f'### probe.filter of kind = "{kind}"',
                    "",
                    (filter_.__doc__ or "").strip(),
                    *_table(filter_),
                ]
            lines += ["", "### [probe.checks]", "", (Checks.__doc__ or "").strip(), *_table(Checks)]
            lines += ["", "### an entry of [[probe.calibration]]", "", (CalibrationPoint.__doc__ or "").strip()]
            lines += _table(CalibrationPoint)
        if block == "law":
            lines += ["", "### [law.autotune] of a pid law", "", (Autotune.__doc__ or "").strip(), *_table(Autotune)]
            lines += ["", "## [guard]", "", (Guard.__doc__ or "").strip(), *_table(Guard)]
            lines += ["", "### an entry of guard.alarms", "", (Alarm.__doc__ or "").strip(), *_table(Alarm)]
    for key, model in (("knob", Knob), ("button", Button)):
        lines += ["", f"## [{key}]", "", (model.__doc__ or "").strip(), *_table(model)]
    lines += ["", "## [limits]", "", (Limits.__doc__ or "").strip(), *_table(Limits)]
    lines += ["", "## [proof]", "", (Proof.__doc__ or "").strip(), *_table(Proof)]
    for name, part in (
        ("[proof.safe]", Safe), ("a spread, as in proof.probe", Spread), ("an entry of proof.load", LoadSpread),
    ):  # fmt: skip
        lines += ["", f"### {name}", "", " ".join((part.__doc__ or "").split()), *_table(part)]
    lines += ["", "## [[trial]]", "", (Trial.__doc__ or "").strip(), *_table(Trial)]
    for kind, event in EVENT_KINDS.items():
        lines += ["", f'### an event of kind = "{kind}"', "", (event.__doc__ or "").strip(), *_table(event)]
    return "\n".join(lines) + "\n"
