"""The folder a developer is given: the thermostat, an example of the loop around it, a test that runs alone, a
README."""

from __future__ import annotations

import math
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from calor.design.model import Design, block_summary
from calor.errors import FirmwareError
from calor.firmware.check import every_branch, reference
from calor.firmware.check.form_difference import Difference, difference
from calor.firmware.check.ranges import Range, proven
from calor.firmware.run import chip, kept, sizes
from calor.firmware.run.c_numbers import needs_other, setpoint_is_put_in, takes_hand
from calor.firmware.run.exchange import OFF, RELEASES
from calor.firmware.sources import fixed_point, outward, ports
from calor.firmware.sources.code_table import CodeTable
from calor.firmware.sources.form import PLAIN, Form
from calor.firmware.sources.generate import context_of, generate, outputs_of, tick_s
from calor.firmware.sources.templating import Sources, c_float, plain_text, render
from calor.firmware.sources.written import write_files
from calor.loop import answer_row
from calor.sense.registry import has_converter
from calor.sense.thermistor import Thermistor
from calor.sense.thermocouple import Thermocouple

TEST_STEPS = 400
LOOK_S = 0.010
"""Keys and line are looked at so often at least, and twice as often at most."""
OTHER = {"dew_point": "the dew point of the air", "ambient": "the ambient temperature"}


@dataclass(frozen=True)
class Made:
    """The folder's files, and what is stated of a form that is not the plain one: its table, bounds that are proven,
    differences that were measured."""

    sources: Sources
    table: CodeTable | None = None
    bounds: tuple[Range, ...] = ()
    apart: Difference | None = None

    def write(self, folder: Path, force: bool = False) -> list[Path]:
        """Write it into `folder`, made where it is missing. Raises FirmwareError and, without `force`,
        StrangersError."""
        return write_files(self.sources, folder, force)

    def stated(self) -> dict[str, Any]:
        """What is stated, as plain data; nothing for the plain form."""
        data: dict[str, Any] = {}
        if self.table is not None:
            data["table"] = {
                **self.table._asdict(), "entries": len(self.table.entries), "flash_bytes": self.table.flash_bytes,
            }  # fmt: skip
        if self.bounds:
            data["bounds"] = [item._asdict() for item in self.bounds]
        if self.apart is not None:
            data["difference_from_float"] = self.apart.data()
        return data


def made(
    design: Design, prefix: str = "", form: Form = PLAIN, with_sizes: bool = False, port: ports.Port | None = None
) -> Made:
    """The folder of a design, not yet written; with a `port` the whole program for a bare chip in a folder of its own.

    Its README has the sizes on chips that are known from builds before; `with_sizes` builds them, which takes a while.
    Raises FirmwareError where `prefix` cannot begin a name in C, the design does not fit into fixed point, or the chip
    of the port cannot do it.
    """
    sources = generate(design, prefix, form)
    # settings that are compiled in have lost their places in the struct, by which a problem names them
    named = generate(design, prefix, form._replace(constant=False)).files if form.constant else sources.files
    bounds = tuple(proven(design, named)) if form.fixed else ()
    apart = difference(design, form) if not form.is_plain else None
    own = sources.prefix
    by_hand = outward.by_hand(design, form)
    context = context_of(by_hand, own, form) | _around(by_hand, form)
    if form.is_outward:
        context |= outward.stated(design, form)
    context |= {"built": sources.built, "bounds": bounds, "apart": apart, "sizes": _sizes(design, form, with_sizes)}
    # in folders of their own: each has a main, and the thermostat drops into a project as it is
    around = {f"{name}/{own}_{name}.c": render(f"{name}.c.j2", context) for name in ("example", "test")}
    if port is not None:
        context |= ports.context(by_hand, context, port)
        around[f"{port.name}/{own}_main.c"] = render("example.c.j2", context)
    files = dict(sources.files) | (
        fixed_point.exact(fixed_point.in_fixed_point(around, sources.files)) if form.fixed else around
    )
    files = {name: sources.as_called(text) for name, text in files.items()}
    files["example/Makefile"] = render("makefile.j2", context)
    if port is not None:
        files |= ports.files(own, port, context)
    files["README.md"] = render("readme.md.j2", context)
    return Made(Sources(own, files, sources.header, form), context["table"], bounds, apart)


def folder_files(design: Design, prefix: str = "", form: Form = PLAIN) -> Sources:
    """All files of the folder. Raises FirmwareError as `made` does."""
    return made(design, prefix, form).sources


def write(design: Design, folder: Path, prefix: str = "", form: Form = PLAIN, force: bool = False) -> list[Path]:
    """Write the folder of `design`, made where it is missing. Raises FirmwareError as `made` and `Made.write` do."""
    return made(design, prefix, form).write(folder, force)


def _around(design: Design, form: Form) -> dict[str, Any]:
    """What the files around the thermostat say of the design, and the recorded steps of the test."""
    follows = getattr(design.setpoint, "signal", "")
    period_s = float(design.law.period_s)
    return {
        "needs_other": needs_other(design),
        "wiring": _wiring(design),
        "cold_junction": isinstance(design.probe, Thermocouple) and has_converter(design.probe),
        "follows_signal": bool(follows),
        "other_is": OTHER.get(follows, OTHER["ambient"]),
        "period_s": period_s,
        **_pace(design, form),
        "blocks": plain_text(", ".join(block_summary(design, block, "°C")[0] for block in ("probe", "law", "drive"))),
        "port": None,
        "outward_header": "link" if form.link else "panel" if form.panel else "thermostat",
        "law_is_blind": design.law.kind == "timer",
        "no_reading": "-32768.0f" if design.probe.kind == "ideal" else "0xFFFFFFFFu",
        "takes_setpoint": setpoint_is_put_in(design),
        "takes_hand": takes_hand(design, form),
        "rows": _rows(design, form),
        "form": form,
        "demand_within": 0.0001,
        "celsius_within": 0.001 if form.is_plain else 0.0001,
    }


def _pace(design: Design, form: Form) -> dict[str, Any]:
    """How often the example's loop turns, sets its outputs and looks at keys and line."""
    period_s, tick = float(design.law.period_s), tick_s(design)
    switches = any(output.switches and output.timing is None for output in outputs_of(design))
    looks = form.is_outward or design.button is not None
    set_every = math.ceil(tick / LOOK_S - 1e-9) if looks and switches else 1
    base_s = tick / set_every if switches else period_s / max(1, math.ceil(period_s / LOOK_S)) if looks else period_s
    look_every = max(1, math.floor(LOOK_S / base_s + 1e-9))
    looked_at = [
        *(["the button"] if design.button is not None else []), *(["the line"] if form.link else []),
        *(["the front"] if form.panel else []),
    ]  # fmt: skip
    return {
        "ticks": round(period_s / base_s), "base_ms": 1000.0 * base_s, "set_every": set_every, "looks": looks,
        "look_every": look_every, "look_s": look_every * base_s, "look_ms": 1000.0 * look_every * base_s,
        "looked_at": " and ".join([", ".join(looked_at[:-1])] * (len(looked_at) > 1) + looked_at[-1:]).capitalize(),
    }  # fmt: skip


def _sizes(design: Design, form: Form, builds: bool) -> list[tuple[str, int, int]]:
    """(processor, flash, RAM in bytes) of the design's C on each processor whose compiler builds it; without `builds`
    only what is kept."""
    if not chip.available():
        return []
    of_each = {name: partial(sizes.of_chip, design, target, form) for name, target in chip.TARGETS.items()}
    if sizes.avr_compiler():
        of_each[sizes.AVR_PART] = partial(sizes.of_avr, design, form)
    if not builds:
        with kept.only_kept():
            found = [(name, _size(of_one)) for name, of_one in of_each.items()]
    else:
        with ThreadPoolExecutor() as pool:  # compilers side by side
            found = list(zip(of_each, pool.map(_size, of_each.values()), strict=True))
    return [(name, *size) for name, size in found if size is not None]


def _size(of_one: Callable[[], sizes.Size]) -> sizes.Size | None:
    try:
        return of_one()
    except FirmwareError:  # not kept, or its compiler builds nothing on this machine: a check says why
        return None


def _wiring(design: Design) -> str:
    """Where the probe goes and what the converter's scale is, in a sentence or two."""
    if not has_converter(design.probe):
        return "The probe is read by your own code, in degrees." if design.probe.kind == "ideal" else (
            "The sensor's word is read by your own code, over its bus."
        )  # fmt: skip
    adc: Any = design.probe.adc
    many = f"; {adc.oversampling} conversions are added up for a reading" if adc.oversampling > 1 else ""
    probe = plain_text(", ".join(block_summary(design, "probe", "°C")).replace("°C", "degrees Celsius"))
    divider = ""
    if isinstance(design.probe, Thermistor):
        side = "ground" if design.probe.placed == "low_side" else f"{adc.divider_volt:g} V"
        other = f"{adc.divider_volt:g} V" if design.probe.placed == "low_side" else "ground"
        divider = f" It sits between the pin and {side}, {design.probe.series_ohm:g} ohm between the pin and {other}."
    return (
        f"{probe}, on a converter of {adc.bits} bits whose codes are full at {adc.reference_volt:g} V{many}.{divider}"
    )


def _rows(design: Design, form: Form) -> list[str]:
    """Steps as C has them: what is given and called, then fault, °C and demands as the reference answers."""
    record = every_branch.short_inputs(design, TEST_STEPS)
    expected = reference.rows(design, record.given, record.readings, form=form)
    assert expected is not None
    measured_celsius, faults = expected[:, answer_row.MEASURED], answer_row.has_fault(expected)
    demands = answer_row.demands(expected)
    given, has_other = record.given, needs_other(design)
    lines = []
    for step, row in enumerate(given):
        calls = 1 * bool(row["restart"]) + 2 * bool(row["calls"] & OFF) + 4 * bool(row["calls"] & RELEASES)
        fault = bool(faults[step])
        if design.probe.kind == "ideal":  # the lowest number stands for none
            parts = [c_float(-32_768.0 if np.isnan(row["reading"]) else float(row["reading"]))]
        else:
            parts = [f"{int(row['reading'])}u"]
        parts += [c_float(float(row["other"]))] if has_other else []
        parts += [c_float(float(row["dt"]))]
        parts += [c_float(max(float(row["put_in"]), -300.0))] if setpoint_is_put_in(design) else []
        parts += [c_float(9.0 if np.isnan(row["hand"]) else float(row["hand"]))] if takes_hand(design, form) else []
        parts += [f"{calls}u", "true" if fault else "false", c_float(0.0 if fault else float(measured_celsius[step]))]
        asked = ", ".join(c_float(float(demand)) for demand in demands[step])
        lines.append(", ".join([*parts, f"{{{asked}}}"]))
    return lines
