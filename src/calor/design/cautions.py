"""What a design does not say and ought to: it is read and run as it is, and asked about."""

from __future__ import annotations

from calor.design.model import Design
from calor.law.fan_curve import FanCurve

FAULT_OUTPUT = "guard.probe_fault_output"


def leaves_fault_output(design: Design) -> bool:
    """Whether a law that cools does not say what its output gives while the probe reads a fault."""
    return design.law.action == "cool" and "probe_fault_output" not in design.guard.model_fields_set


def cautions(design: Design) -> list[str]:
    """Each in a line: which key, what it does as it is, what would do."""
    if not leaves_fault_output(design):
        return []
    if isinstance(design.law, FanCurve):
        return [
            f"{FAULT_OUTPUT} is not set, so that the fan stops while the probe reads a fault; give 1 for a fan that"
            " then runs at full, or 0 to keep it so"
        ]
    return [
        f"{FAULT_OUTPUT} is not set, so that nothing cools while the probe reads a fault; give 1 for full output, or 0"
        " to keep it so"
    ]
