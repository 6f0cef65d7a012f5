"""Controller code to start from: the C that Calor generates for the design, or a small one in Python."""

from __future__ import annotations

import re

import numpy as np

from calor.design.model import Design
from calor.firmware.run.c_numbers import setpoint_is_put_in
from calor.firmware.run.seat_code import reading_code
from calor.firmware.sources.code_table import code_table
from calor.firmware.sources.generate import generate, outputs_of
from calor.firmware.sources.templating import plain_text, render
from calor.law.fan_curve import FanCurve
from calor.law.on_off import OnOff
from calor.law.on_off import numbers as on_off_numbers
from calor.law.pid import Pid
from calor.sense import registry

_GUARDED = re.compile(r"#ifdef __cplusplus\n.*?#endif\n", re.DOTALL)


def start_in_c(design: Design) -> str:
    """One C file that decides as the design does: the generated sources, and the function that Calor calls.

    Raises FirmwareError where nothing can be generated.
    """
    sources = generate(design)
    headers = [name for name in sources.files if name.endswith(".h")]
    # the state first, since every other header wants it
    ordered = sorted(headers, key=lambda name: (not name.endswith("_state.h"), name == sources.header))
    parts = []
    for name in (*ordered, *sources.built):
        text = re.sub(r'#include "[^"]*"\n', "", _GUARDED.sub("", sources.files[name]))
        text = re.sub(r"\A/\*.*?\*/\n", "", text, flags=re.DOTALL)
        parts.append(f"/* ---- {name.removeprefix(sources.prefix + '_')} ---- */\n{text.strip()}\n")
    context = {
        "design_name": plain_text(design.name), "prefix": sources.prefix, "parts": parts,
        "reading": reading_code(design).replace("given[0]", "in->reading"), "outputs": outputs_of(design),
        "puts_in": setpoint_is_put_in(design), "follows": design.setpoint.kind == "follow",
        "other": isinstance(design.law, FanCurve) and design.law.follows == "difference",
        "by_hand": isinstance(design.law, Pid) and design.law.manual_mode,
    }  # fmt: skip
    return render("own_law.c.j2", context)


def start_in_python(design: Design) -> str:
    """A small Python law with the gains or thresholds of the design, and its probe's scaling."""
    law, scaled = design.law, ""
    probe = registry.numbers(design.probe)
    if registry.gives_code(design.probe):
        scaled = f"reading * {probe.code.celsius_per_code:.9g}"
    elif registry.has_converter(design.probe) and design.probe.kind != "thermocouple":
        table = code_table(design)
        many = probe.firmware.adc.oversampling
        counts = np.clip(
            np.arange(table.first_entry, table.first_entry + len(table.entries)) * 2**table.shift,
            table.first_counts, table.last_counts,
        )  # fmt: skip
        points = sorted(
            {int(at): float(value) for at, value in zip(counts, table.celsius(counts), strict=True)}.items()
        )
        rows = [f"({at / many:g}, {value:.2f})" for at, value in points]
        scaled = ",\n    ".join(", ".join(rows[k : k + 6]) for k in range(0, len(rows), 6))
    elif registry.has_converter(design.probe):
        scaled = "thermocouple"
    on_off = on_off_numbers(law) if isinstance(law, OnOff) else None
    context = {
        "design_name": plain_text(design.name), "pid": law if isinstance(law, Pid) else None,
        "direction": -1.0 if law.action == "cool" else 1.0, "scaled": scaled,
        "by_code": registry.gives_code(design.probe),
        "on": on_off.on_celsius if on_off is not None else -0.5,
        "off": on_off.off_celsius if on_off is not None else 0.5,
        "relative": on_off.relative if on_off is not None else True,
    }  # fmt: skip
    return render("own_law.py.j2", context)
