"""A replay against its record: what the law would have switched beside what was switched."""

from __future__ import annotations

from typing import Any

import numpy as np

from calor.compiled import Column
from calor.design.model import Design
from calor.loop.trace import Flag, Trace


def compare(design: Design, recorded: Trace, replayed: Trace) -> dict[str, Any]:
    """Figures of a replay as plain data; `recorded` and `agreement_fraction` are None without a recorded output.

    Agreement is the share of time, gaps left out, in which both outputs were above half or both were not.
    """
    gaps = [event for event in recorded.events if event.kind == "gap"]
    usable = (replayed.flags.astype(np.int64) & Flag.GAP) == 0
    data: dict[str, Any] = {
        "design": design.name,
        "log": recorded.name,
        "span_s": float(recorded.span_s),
        "rows": recorded.steps,
        "steps": replayed.steps,
        "gaps": [{"at_s": gap.at_s, "for_s": gap.until_s - gap.at_s} for gap in gaps],
        "replayed": _figures(replayed.delivered, replayed.switchings(), replayed.span_s),
        "recorded": None,
        "agreement_fraction": None,
    }
    if replayed.recorded_output is not None:
        was, would = replayed.recorded_output[usable] > 0.5, replayed.delivered[usable] > 0.5
        data["recorded"] = _figures(recorded.delivered, recorded.switchings(), recorded.span_s)
        data["agreement_fraction"] = float(np.mean(was == would)) if usable.any() else None
    return data


def _figures(output: Column, switchings: int, span_s: float) -> dict[str, float | None]:
    known = output[np.isfinite(output)]
    return {
        "on_fraction": float(known.mean()) if len(known) else None,
        "switchings_per_hour": switchings / span_s * 3600.0 if span_s > 0.0 else 0.0,
    }
