"""One run of a proof: the thermostat as it was built, in its trial, with its fault."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import AbstractContextManager, nullcontext
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from calor import loop
from calor.design.events import EVENT_KINDS
from calor.design.model import Design
from calor.design.trial import Trial
from calor.errors import CalorError, FirmwareError
from calor.loop.deviation import Deviation
from calor.loop.seat import Seat
from calor.loop.trace import Trace
from calor.proof.faults import event_of, shares_of
from calor.proof.outcome import Outcome, ended, outcome_of
from calor.proof.plan import DESIGNED, FAULT, Case, Plan
from calor.proof.tolerances import built_as

Seats = Callable[[npt.NDArray[np.int64]], AbstractContextManager[Seat | None]]
"""Gives a fresh seat for each run, by the run's control."""


def no_seats(control: npt.NDArray[np.int64]) -> AbstractContextManager[Seat | None]:
    """The built-in law decides in each run."""
    del control
    return nullcontext()


class Ready(NamedTuple):
    """All that a run takes: the design as built, the trial with its fault, and what else is off."""

    design: Design
    trial: Trial
    deviation: Deviation


class Made(NamedTuple):
    """A run that was made, and what came of it; no trace where it could not go on to its end."""

    outcome: Outcome
    trace: Trace | None


def ready(plan: Plan, case: Case) -> Ready:
    """What a run of a proof takes. A firmware that hangs does so at case.at_s: see `while_on`."""
    trial = plan.trial_of(case)
    values = list(case.values)
    if case.fault is not None:
        event = event_of(case.fault, plan.design, trial, case.at_s)
        if event is not None:
            trial = trial.model_copy(update={"events": (*trial.events, event)})
        for name, share in shares_of(case.fault, plan.design).items():
            names = [one.name for one in plan.tolerances]
            if name in names:
                values[names.index(name)] = share
    design, deviation = built_as(plan.design, plan.tolerances, values, case.seed)
    return Ready(design, trial, deviation)


def made(plan: Plan, case: Case, seats: Seats = no_seats, control: npt.NDArray[np.int64] | None = None) -> Made:
    """Run a case and judge it.

    Where an independent part takes the power away, the run is made again with that at the same instant: up to there it
    is the same run. Raises Stopped where it was asked to, FirmwareError where the controller under test does not run as
    designed; in any other run that is a run that failed.
    """
    control = loop.simulate.new_control() if control is None else control
    cut_out_s, healthy = None, None
    try:
        if case.kind == FAULT:
            healthy = _as_designed(plan, case, seats, control)
        if case.fault is not None and case.fault.kind == "firmware_hung":
            case = while_on(plan, case, seats, control)
        what = ready(plan, case)
        with seats(control) as seat:
            trace = loop.run(what.design, what.trial, control, seat, what.deviation)
        limit = plan.design.proof.independent_cut_out_celsius
        if limit is not None:
            beyond = np.flatnonzero(trace.true_celsius > limit)
            if len(beyond):
                cut_out_s = float(trace.time_s[beyond[0]])
                trial = without_power(what.trial, cut_out_s)
                with seats(control) as seat:
                    trace = loop.run(what.design, trial, control, seat, what.deviation)
    except FirmwareError as error:
        if case.kind == DESIGNED:  # it does not run at all
            raise
        return Made(ended(plan.design, case, str(error)), None)
    except CalorError as error:
        return Made(ended(plan.design, case, str(error)), None)
    outcome = outcome_of(plan.design, case, what.trial, trace, cut_out_s, healthy)
    if case.kind == DESIGNED:
        plan.healthy[case.trial] = outcome
    return Made(outcome, trace)


def _as_designed(plan: Plan, case: Case, seats: Seats, control: npt.NDArray[np.int64]) -> Outcome:
    """What the trial of a case comes to without a fault; known to all faults of it once it was run."""
    found: Outcome | None = plan.healthy.get(case.trial)
    if found is None:
        found = plan.healthy[case.trial] = made(plan, plan.fixed[case.trial], seats, control).outcome
    return found


WITHIN_S = 1e-3
"""So long after it came on an output surely is on; half the pulse where that is shorter."""


def while_on(plan: Plan, case: Case, seats: Seats, control: npt.NDArray[np.int64]) -> Case:
    """The case with its fault at the first instant from its own on at which an output is on, within a pulse: a firmware
    that hangs leaves it so, which is the worse of the two ways."""
    what = ready(plan, case._replace(fault=None))
    with seats(control) as seat:
        trace = loop.run(what.design, what.trial, control, seat, what.deviation)
    changes = [(one.switch_s, one.switch_level) for one in trace.outputs] or [(trace.switch_s, trace.switch_level)]
    most = max((float(levels.max(initial=0.0)) for _, levels in changes), default=0.0)
    instants = [_on_from(times, levels, min(0.99, most), case.at_s, trace.span_s) for times, levels in changes]
    found = [at_s for at_s in instants if at_s is not None] if most > 0.0 else []
    return case._replace(at_s=min(found)) if found else case


def _on_from(
    times_s: npt.NDArray[np.float64], levels: npt.NDArray[np.float64], least: float, from_s: float, span_s: float
) -> float | None:
    """The first instant from one on at which an output gives so much at least, by its changes; None: never."""
    ends_s = np.append(times_s[1:], span_s)
    for at in np.flatnonzero((levels >= least) & (ends_s > from_s)).tolist():
        begin_s, end_s = float(times_s[at]), float(ends_s[at])
        if begin_s < from_s:
            return from_s
        if begin_s < end_s:
            return begin_s + min(WITHIN_S, 0.5 * (end_s - begin_s))
    return None


def without_power(trial: Trial, from_s: float) -> Trial:
    """The trial with all power taken away from an instant on."""
    event = EVENT_KINDS["power_step"].model_validate({"at_s": from_s, "power_fraction": 0.0})
    return trial.model_copy(update={"events": (*trial.events, event)})
