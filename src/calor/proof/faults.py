"""Single faults: what is put into a trial for each, when, and which of them a design cannot have.

One fault at a time, over the trial's own events. A fault that a thermostat may meet while it is still on its way, and
another time when it has settled, is tried at both.
"""

from __future__ import annotations

from typing import Any, NamedTuple

from calor.design.event import Timed
from calor.design.events import EVENT_KINDS
from calor.design.model import Design
from calor.design.proof import FAULTS
from calor.design.trial import Trial
from calor.drive import registry as drives
from calor.sense import budget, registry

LONGEST_OUTAGE_S, OUTAGE_SHARE = 600.0, 0.1
"""For how long the mains is lost."""
SLOWER, LEAST_SLOW_S = 20.0, 300.0
"""By how many times a probe that follows too slowly is slower, and how slow it is at least."""
_EVENTS = {
    "probe_open": "probe_open", "probe_short": "probe_short", "probe_stuck": "probe_stuck",
    "probe_reversed": "probe_reversed", "probe_fallen": "probe_fallen", "probe_slow": "probe_slow",
    "switch_stuck_on": "output_stuck_on", "switch_stuck_off": "output_stuck_off", "switch_inverted": "output_inverted",
    "switch_bouncing": "output_bouncing", "firmware_hung": "stalled", "mains_lost": "mains_lost",
    "setpoint_high": "setpoint_step", "setpoint_low": "setpoint_step",
}  # fmt: skip
"""The event that each fault is, where it is one."""
ENDS_IN_OFF = (
    "probe_open", "probe_short", "probe_stuck", "probe_reversed", "probe_fallen", "switch_stuck_on", "switch_inverted",
    "firmware_hung",
)  # fmt: skip
"""Faults that ought to end in outputs that are off: the temperature is no longer under control."""


OWN_FAULTS = tuple(kind for kind in _EVENTS.values() if kind not in ("mains_lost", "setpoint_step"))
"""Events by which a trial has a fault of its own: with one more it is no single fault."""


class Fault(NamedTuple):
    """One single fault of a design: its name, what it is called, and which output's switch it is about (from 1)."""

    name: str
    title: str
    kind: str
    output: int = 1

    @property
    def ends_in_off(self) -> bool:
        """Whether outputs ought to go off after it."""
        return self.kind in ENDS_IN_OFF

    @property
    def from_the_start(self) -> bool:
        """Whether it is there all along."""
        return self.kind in ("supply_high", "supply_low", "setpoint_high", "setpoint_low")


class NotTried(NamedTuple):
    """A fault that a design cannot have, or that is left out, and why."""

    name: str
    title: str
    why: str


def has_own_fault(trial: Trial) -> bool:
    """Whether a trial has a fault of its own."""
    return any(event.kind in OWN_FAULTS for event in trial.events)


def faults_of(design: Design) -> tuple[tuple[Fault, ...], tuple[NotTried, ...]]:
    """The single faults of a design, and those that are not tried."""
    tried: list[Fault] = []
    others: list[NotTried] = []
    outputs = design.outputs
    for kind, title in FAULTS.items():
        for number in range(1, len(outputs) + 1 if kind.startswith("switch_") else 2):
            name = kind if number == 1 else f"{kind}_{number}"
            called = title if len(outputs) == 1 or not kind.startswith("switch_") else f"{title}, {outputs[number - 1]}"
            why = _cannot(design, kind, number)
            if why:
                others.append(NotTried(name, called, why))
            else:
                tried.append(Fault(name, called, kind, number))
    return tuple(tried), tuple(others)


def _cannot(design: Design, kind: str, output: int) -> str:
    """Why a design cannot have a fault, or it is not tried; empty where it is."""
    if kind in design.proof.leave_out:
        return "left out by proof.leave_out"
    if kind in ("supply_high", "supply_low"):
        return _no_supply(design)
    limits = {"setpoint_high": design.setpoint.high_limit_celsius, "setpoint_low": design.setpoint.low_limit_celsius}
    if kind in limits:
        if design.setpoint.locked:
            return "the setpoint is locked"
        return "" if limits[kind] is not None else f"no setpoint.{kind.removeprefix('setpoint_')}_limit_celsius is set"
    if kind == "switch_bouncing" and getattr(design.drive_of(output - 1), "switch", "relay") != "relay":
        return "the switch has no contacts"
    if kind == "switch_bouncing" and design.drive_of(output - 1).kind not in drives.SWITCHES:
        return "the drive has no contacts"
    if kind.startswith("probe_") and design.probe.kind == "ideal" and design.law.kind in ("timer", "manual"):
        return "the law has no probe"
    values = {**_values(kind, design, 0.0), **({"output": output} if kind.startswith("switch_") else {})}
    problem = EVENT_KINDS[_EVENTS[kind]].model_validate({"at_s": 0.0, **values}).problem(design)
    return "only a thermocouple minds" if problem and kind == "probe_reversed" else problem


def _no_supply(design: Design) -> str:
    if not registry.has_converter(design.probe):
        return "the probe is read without a converter"
    names = [cause.name for cause in budget.causes(design.probe)]
    if budget.SUPPLY in names or budget.REFERENCE in names:
        return ""
    return "it is fed from the converter's reference, and cancels"


def _values(kind: str, design: Design, span_s: float) -> dict[str, Any]:
    """What the event of a fault is set to beside its begin."""
    if kind == "probe_slow":
        return {"time_constant_s": max(SLOWER * design.probe.time_constant_s, LEAST_SLOW_S)}
    if kind == "mains_lost":
        return {"for_s": min(OUTAGE_SHARE * span_s, LONGEST_OUTAGE_S)}
    if kind == "setpoint_high":
        return {"celsius": design.setpoint.high_limit_celsius}
    if kind == "setpoint_low":
        return {"celsius": design.setpoint.low_limit_celsius}
    return {}


def instants_s(fault: Fault, design: Design, trial: Trial) -> tuple[float, ...]:
    """When in a trial a fault comes."""
    if fault.from_the_start:
        return (0.0,)
    proof = design.proof
    shares = dict.fromkeys((proof.early_fault_fraction, proof.late_fault_fraction))
    return tuple(float(f"{share * trial.span_s:.6g}") for share in shares)


def event_of(fault: Fault, design: Design, trial: Trial, at_s: float) -> Timed | None:
    """The event that a fault is; None where it is a part that is off."""
    if fault.kind not in _EVENTS:
        return None
    values = _values(fault.kind, design, trial.span_s)
    if fault.kind.startswith("switch_"):
        values["output"] = fault.output
    return EVENT_KINDS[_EVENTS[fault.kind]](at_s=at_s, **values)


def shares_of(fault: Fault, design: Design) -> dict[str, float]:
    """The causes of the error budget that a fault puts to the end of their tolerance."""
    if fault.kind not in ("supply_high", "supply_low"):
        return {}
    share = 1.0 if fault.kind == "supply_high" else -1.0
    names = [cause.name for cause in budget.drawn_causes(design.probe)]
    # a supply that the converter does not share is its own cause; else the reference is what is off
    name = budget.SUPPLY if budget.SUPPLY in names else budget.REFERENCE
    return {f"converter.{name.replace(' ', '_')}": share}
