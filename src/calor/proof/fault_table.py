"""The table of single faults: what the thermostat does, how hot it gets, whether its guards end it, what is missing.

It is a simulation of the parts of the design, and no proof of safety: what a device needs, local codes and licensed
practice say.
"""

from __future__ import annotations

from typing import NamedTuple

from calor.design.model import Design
from calor.proof.faults import Fault, has_own_fault
from calor.proof.outcome import Outcome, after, margin_of
from calor.proof.plan import FAULT, Case
from calor.proof.work import Progress
from calor.units import TemperatureUnit, format_duration, format_temperature

CAUTION = (
    "A simulation of single faults is no proof of safety. Guards in the firmware share probe, controller and switch"
    " with what they guard; what a device needs beside them is said by local codes and licensed practice."
)
CONTROL, GUARDED, CUT, OPEN_END, OFF = "control", "guarded", "independent", "not ended", "off"


class Row(NamedTuple):
    """One fault in the trial and at the instant where it was worst.

    `answer` is what the thermostat does, `ended` whether and by what it is ended, `missing` what would be needed;
    `way` is the kind of end: CONTROL goes on, GUARDED by a guard, CUT by the independent part, OFF by itself,
    OPEN_END not at all.
    """

    fault: Fault
    number: int
    trial: str
    at_s: float
    passes: bool | None
    highest_celsius: float
    highest_at_s: float
    answer: str
    way: str
    ended: str
    missing: str
    failed: str = ""


def fault_table(progress: Progress) -> list[Row]:
    """A row for each fault that has been run, in the order in which they are tried; the worst of its runs.

    Trials with a fault of their own are left out, where there are others: two faults are not a single one.
    """
    worst: dict[str, tuple[tuple[bool, float], Case, Outcome]] = {}
    trials = progress.plan.design.trial
    spoilt = {number for number, trial in enumerate(trials) if has_own_fault(trial)}
    spoilt = set() if len(spoilt) == len(trials) else spoilt
    for case in progress.plan.fixed:
        outcome = progress.outcomes.get(case.number)
        if case.kind != FAULT or outcome is None or case.fault is None or case.trial in spoilt:
            continue
        rank = (outcome.passes or not outcome.is_judged, min((margin_of(one) for one in outcome.limits), default=0.0))
        if case.fault.name not in worst or rank < worst[case.fault.name][0]:
            worst[case.fault.name] = (rank, case, outcome)
    return [_row(progress.plan.design, case, outcome) for _, case, outcome in worst.values()]


def _row(design: Design, case: Case, outcome: Outcome) -> Row:
    fault = case.fault
    assert fault is not None
    way, ended = _end(design, fault, outcome)
    return Row(
        fault, case.number, design.trial[case.trial].name, outcome.at_s,
        outcome.passes if outcome.is_judged else None, outcome.highest_celsius,
        outcome.highest_at_s, outcome.failed or _answer(fault, outcome), way, ended,
        _missing(design, fault, outcome, way), outcome.failed,
    )  # fmt: skip


def _answer(fault: Fault, outcome: Outcome) -> str:
    """What the thermostat does."""
    said = list(outcome.told[:2])
    if outcome.off_s == 0.0 and fault.kind != "switch_stuck_off":
        said.append("outputs off from then on")
    elif outcome.off_s is None or outcome.end_share > 0.0:
        share = min(outcome.end_share, 1.0) * 100.0
        said.append(f"{share:.0f} % output at the end")
    return "; ".join(said) or "goes on as before"


def _end(design: Design, fault: Fault, outcome: Outcome) -> tuple[str, str]:
    """The kind of end, and it in words."""
    if outcome.failed:
        return OPEN_END, "not ended"
    if outcome.cut_out_s is not None:
        return CUT, f"independent part takes the power away{after(outcome.cut_out_s - outcome.at_s)}"
    if fault.kind == "switch_stuck_off":
        return OFF, "nothing is given any more"
    watchdog_s = design.guard.watchdog_s
    if fault.kind == "firmware_hung" and watchdog_s is not None:
        return GUARDED, f"by the watchdog{after(watchdog_s)}: it begins afresh"
    if not fault.ends_in_off:
        return CONTROL, "needs no end: control goes on"
    is_off = outcome.off_s is not None and outcome.end_share == 0.0
    if is_off and outcome.ended_by:
        return GUARDED, f"by the {outcome.ended_by}{after(outcome.ended_s or 0.0)}"
    if is_off and design.law.action == "cool":
        return OPEN_END, "no guard notices, and nothing cools any more"
    if is_off:
        return OFF, "the outputs happen to be off"
    if outcome.ended_by == "probe fault" and outcome.passes:
        return GUARDED, f"by the probe fault{after(outcome.ended_s or 0.0)}: output to its set value"
    if outcome.ended_by:
        return OPEN_END, f"the {outcome.ended_by} acts{after(outcome.ended_s or 0.0)}, and the output stays on"
    return OPEN_END, "no guard notices"


_COOLED = (
    "a thermometer and an alarm, or a switch, that share neither probe, controller nor supply, where too warm or too"
    " cold does harm"
)
_INDEPENDENT = (
    "an independent cut-out or thermal fuse in the supply of the load, with a probe and a switch of its own"
    " (proof.independent_cut_out_celsius tries one)"
)


def _missing(design: Design, fault: Fault, outcome: Outcome, way: str) -> str:
    """What is needed where the guards do not end it; empty where they do."""
    part = _COOLED if design.law.action == "cool" else _INDEPENDENT
    if fault.kind == "switch_stuck_off":
        return "" if outcome.passes else f"The controller cannot close a switch that has failed: needs {_COOLED}."
    if fault.kind in ("switch_stuck_on", "switch_inverted") and way in (CUT, OPEN_END):
        begin = "The controller cannot open a switch that has failed"
        if way == CUT:
            return f"{begin}: this rests on the independent part alone."
        return f"{begin}: needs {part}."
    if way == CUT:
        return "This rests on the independent part alone."
    if fault.kind == "firmware_hung" and design.guard.watchdog_s is None:
        return f"No watchdog: needs guard.watchdog_s, and {part}."
    if way not in (OPEN_END, OFF):
        return "" if outcome.passes else "Kept under control, and beyond what proof.safe allows."
    tells = {
        "probe_stuck": "probe.checks.stuck_s, by which a code that never moves is told",
        "probe_fallen": "an alarm of kind loop_break that trips, by which a load that does not answer is told",
        "probe_reversed": "probe.checks.reversed_celsius, by which swapped wires are told",
        "probe_open": "probe.checks, by which a reading beyond the scale is told",
        "probe_short": "an alarm of kind loop_break that trips, by which a reading that does not follow is told",
    }
    hint = tells.get(fault.kind)
    if way == OFF:
        return f"They might as well stay on: needs {hint}." if hint else ""
    return f"Needs {hint}; and {part}." if hint else f"Needs {part}."


def hottest(row: Row, unit: TemperatureUnit = "°C") -> str:
    """How hot it gets, and when, in words."""
    if row.failed:
        return "beyond all bounds"
    return f"{format_temperature(unit, row.highest_celsius)} at {format_duration(row.highest_at_s)}"
