"""The folder a developer is given: the thermostat, an example of the loop around it, a test that runs alone, a
README."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from calor.design.model import Design, block_summary
from calor.firmware.adapter import as_given
from calor.firmware.agreement import recorded
from calor.firmware.generate import context_of, generate, tick_s
from calor.firmware.templating import Sources, c_float, plain_text, render, write_files
from calor.law.fan_curve import FanCurve

TEST_STEPS = 400
OTHER = {"dew_point": "the dew point of the air", "ambient": "the ambient temperature"}


def folder_files(design: Design, prefix: str = "") -> Sources:
    """All files of the folder. Raises FirmwareError where `prefix` cannot begin a name in C."""
    sources = generate(design, prefix)
    context = context_of(design, sources.prefix) | _around(design)
    own = sources.prefix
    files = dict(sources.files)
    files[f"{own}_example.c"] = render("example.c.j2", context)
    files[f"{own}_test.c"] = render("test.c.j2", context)
    files["README.md"] = render("readme.md.j2", context)
    return Sources(own, files, sources.header, sources.source)


def write(design: Design, folder: Path, prefix: str = "") -> list[Path]:
    """Write the folder of `design`, made where it is missing. Raises FirmwareError."""
    return write_files(folder_files(design, prefix), folder)


def _around(design: Design) -> dict[str, Any]:
    """What the files around the thermostat say of the design, and the recorded steps of the test."""
    follows = getattr(design.setpoint, "signal", "")
    period_s, tick = float(design.law.period_s), tick_s(design)
    trial = design.trial[0]
    return {
        "needs_other": _needs_other(design),
        "follows_signal": bool(follows),
        "other_is": OTHER.get(follows, OTHER["ambient"]),
        "period_s": period_s,
        "ticks": round(period_s / tick),
        "wait_s": tick
        if any(design.drive_of(k).kind in ("relay", "time_proportional") for k in range(2))
        else period_s,
        "blocks": plain_text(", ".join(block_summary(design, block, "°C")[0] for block in ("probe", "law", "drive"))),
        "trial_name": plain_text(trial.name),
        "rows": _rows(design),
    }


def _rows(design: Design) -> list[str]:
    """The first steps of the first trial as C has them: reading, what else is looked at, fault, °C, demands."""
    record = recorded(design, design.trial[0])
    trace, at = record.trace, record.rows
    # up to the first restart, hand or setpoint from outside: the test only gives readings
    plain = (record.given["restart"] == 0) & np.isnan(record.given["hand"])
    outside = [event.at_s for event in trace.events if event.kind in ("setpoint_step", "knob_turned")]
    plain &= trace.time_s[at] < min(outside, default=np.inf)
    count = min(int(np.argmin(plain)) if not plain.all() else len(at), TEST_STEPS)
    outputs = [output.demand for output in trace.outputs] or [trace.demand]
    ideal = design.probe.kind == "ideal"
    needs_other = _needs_other(design)
    readings = as_given(design.probe, trace.measured_celsius if ideal else trace.counts)
    lines = []
    for step in range(count):
        row = int(at[step])
        measured = float(trace.measured_celsius[row])
        fault = bool(np.isnan(measured))
        reading = c_float(float(readings[row])) if ideal else f"{int(readings[row])}u"
        other = [c_float(float(record.given["other"][step]))] if needs_other else []
        demands = ", ".join(c_float(float(demand[row])) for demand in outputs)
        parts = [reading, *other, "true" if fault else "false", c_float(0.0 if fault else measured), f"{{{demands}}}"]
        lines.append(", ".join(parts))
    return lines


def _needs_other(design: Design) -> bool:
    follows = bool(getattr(design.setpoint, "signal", ""))
    return follows or (isinstance(design.law, FanCurve) and design.law.follows == "difference")
