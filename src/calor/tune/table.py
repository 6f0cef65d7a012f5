"""Gains side by side: each rule's and the present ones, run on the design's trials, judged, with their margins."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from typing import Any

from calor import loop
from calor.design.model import Design
from calor.design.trial import Trial
from calor.judge.verdict import AT_LEAST, Verdict, judge
from calor.law import predictive
from calor.law.pid import Pid
from calor.law.predictive import Predictive
from calor.loop.trace import Trace
from calor.settings import bounds_of
from calor.tune.margins import Gains, Margins, margins_of
from calor.tune.model import Model
from calor.tune.process import Process, proportional
from calor.tune.rules import RULES, Ruled, Ultimate, applied

PRESENT, SEARCH, PREDICTIVE = "present", "search", "predictive"
THREADS = 2
NEVER = 5.0
"""By how many times its limit a figure that never came counts as beyond it."""


@dataclass(frozen=True)
class Setting:
    """Gains with what goes with them: how much of a setpoint's change the proportional part sees.

    Of a predictive law, the gains are those that it has without its dead time: it is a PI law then.
    """

    gains: Gains
    setpoint_weight: float
    law: Predictive | None = None


@dataclass(frozen=True)
class Candidate:
    """One row: where the gains are from, what they are, how far from trouble they are, what they do on each trial."""

    name: str
    title: str
    source: str
    setting: Setting
    in_range: bool
    note: str
    margins: Margins | None
    trials: tuple[str, ...]
    verdicts: tuple[Verdict, ...]
    traces: tuple[Trace, ...]

    @property
    def passes(self) -> bool:
        """Whether every limit is kept on every trial it was run on."""
        return all(verdict.passes for verdict in self.verdicts)

    @property
    def outcome(self) -> bool | None:
        """Whether it passes; None where nothing is judged on any trial."""
        return self.passes if any(verdict.limits for verdict in self.verdicts) else None

    @property
    def iae_celsius_s(self) -> float:
        """The integral of the absolute error, over all trials it was run on, °C·s."""
        return sum(
            math.inf if one.metrics.iae_celsius_s is None else one.metrics.iae_celsius_s for one in self.verdicts
        )

    @property
    def beyond(self) -> float:
        """By how many times their limits its figures are beyond them, added up; 0 where it passes."""
        return sum(beyond_of(verdict) for verdict in self.verdicts)


def beyond_of(verdict: Verdict) -> float:
    """By how many times their limits the figures of a run are beyond them, added up."""
    total = 0.0
    for item in verdict.limits:
        if item.passes:
            continue
        if item.value is None:
            total += NEVER
        elif item.name in AT_LEAST:
            total += (item.limit - item.value) / max(abs(item.limit), 1e-9)
        else:
            total += (item.value - item.limit) / max(abs(item.limit), 1e-9)
    return total


def with_setting(design: Design, setting: Setting) -> Design:
    """The design with a PID law of these gains, or the predictive law, and a window where a relay gave all or nothing;
    what else its law has stays, gain sets go.

    Raises ValueError where a gain is out of the range that a law takes.
    """
    law, gains = design.law, setting.gains
    if setting.law is not None:
        return proportional(design).model_copy(update={"law": setting.law})
    kept = law.model_dump() if isinstance(law, Pid) else {"action": law.action, "period_s": law.period_s}
    kept |= {
        "kind": "pid", "gain_per_celsius": gains.gain_per_celsius, "integral_time_s": gains.integral_time_s,
        "derivative_time_s": gains.derivative_time_s, "derivative_filter": gains.derivative_filter,
        "setpoint_weight": setting.setpoint_weight, "gain_sets": (),
    }  # fmt: skip
    return proportional(design).model_copy(update={"law": Pid.model_validate(kept)})


def present(design: Design) -> Setting | None:
    """The gains that the design has; None where its law has none."""
    law = design.law
    if isinstance(law, Predictive):
        return setting_of(law)
    if not isinstance(law, Pid) or law.gain_sets:
        return None
    gains = Gains(law.gain_per_celsius, law.integral_time_s, law.derivative_time_s, law.derivative_filter)
    return Setting(gains, law.setpoint_weight)


def setting_of(law: Predictive) -> Setting:
    """A predictive law as a setting."""
    return Setting(Gains(predictive.gain_per_celsius(law), law.time_constant_s, 0.0), 1.0, law)


def within_reach(gains: Gains) -> Gains:
    """The gains held inside what a law takes."""

    def held(name: str, value: float) -> float:
        low, high, _ = bounds_of(Pid.model_fields[name])
        return min(max(value, low), high)

    return Gains(
        held("gain_per_celsius", gains.gain_per_celsius), held("integral_time_s", gains.integral_time_s),
        held("derivative_time_s", gains.derivative_time_s), held("derivative_filter", gains.derivative_filter),
    )  # fmt: skip


def tried(
    design: Design, trials: tuple[Trial, ...], process: Process | None, name: str, title: str, source: str,
    setting: Setting, in_range: bool = True, note: str = "",
) -> Candidate:  # fmt: skip
    """One row: gains run on some trials and judged."""
    own = design if name == PRESENT else with_setting(design, setting)
    traces = tuple(loop.run(own, trial) for trial in trials)
    verdicts = tuple(judge(trace, design.limits) for trace in traces)
    margins = None if process is None else margins_of(process, setting.law or setting.gains)
    return Candidate(
        name, title, source, setting, in_range, note, margins, tuple(trial.name for trial in trials), verdicts, traces
    )


def ruled(
    model: Model | None, second: Model | None, ultimate: Ultimate | None, names: Iterable[str] = ()
) -> list[Ruled]:
    """What the rules give that go with what is known: a model of first order or integrating, one of second order, gain
    and period at the limit. All of them, or those named."""
    wanted = set(names)
    found = []
    for rule in RULES:
        if wanted and rule.name not in wanted:
            continue
        of = second if rule.of == "second_order" else model
        if rule.of != "ultimate" and (of is None or of.kind != rule.of):
            continue
        one = applied(rule, of, ultimate)
        if one is not None:
            found.append(inside_reach(one))
    return found


def inside_reach(one: Ruled) -> Ruled:
    """A rule's gains inside what a law takes, said where they were not."""
    held = within_reach(one.gains)
    if held == one.gains:
        return one
    note = "held inside what a law takes"
    return one._replace(gains=held, note=f"{one.note}; {note}" if one.note else note)


def table(
    design: Design, trials: tuple[Trial, ...], process: Process | None, every: list[Ruled],
    watch: Callable[[Candidate], object] = lambda row: None,
) -> list[Candidate]:  # fmt: skip
    """All rows, the design's own gains first where it has some, each as soon as it is done given to `watch`."""
    own = present(design)
    weight = own.setpoint_weight if own is not None else 1.0
    jobs: list[tuple[Any, ...]] = []
    if own is not None:
        jobs.append((PRESENT, "Present gains", "this design", own, True, ""))
    derivative_filter = own.gains.derivative_filter if own is not None else 8.0
    for one in every:
        gains = replace(one.gains, derivative_filter=derivative_filter)
        jobs.append((one.rule.name, one.rule.title, one.rule.source, Setting(gains, weight), one.in_range, one.note))

    def work(job: tuple[Any, ...]) -> Candidate:
        row = tried(design, trials, process, *job)
        watch(row)
        return row

    with ThreadPoolExecutor(THREADS) as pool:
        return list(pool.map(work, jobs))
