"""One card of advice, and what the rules that write them share."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal

from calor import loop
from calor.design.model import Design
from calor.design.trial import Trial
from calor.judge.verdict import Verdict, judge
from calor.loop.trace import Trace
from calor.units import TemperatureUnit


@dataclass(frozen=True)
class Advice:
    """One card. `proposal` is the design to try; `weight` says how it is marked; `code` is the rule that wrote it."""

    title: str
    text: str
    why: str
    weight: Literal["limit", "wear", "note"]
    try_label: str = ""
    proposal: Design | None = None
    code: str = ""


Rule = Callable[[Design, Trial, Trace, Verdict, TemperatureUnit], Advice | None]


def changed(design: Design, block: str, **values: Any) -> Design:
    """`design` with settings of one block changed, checked anew."""
    settings = getattr(design, block)
    block_now = type(settings).model_validate({**settings.model_dump(), **values})
    return Design.model_validate({**{key: getattr(design, key) for key in Design.model_fields}, block: block_now})


def retried(design: Design, trial: Trial) -> Verdict:
    """The verdict on a proposed design, under its own trial of the same name."""
    name = trial.name
    trial_of = design.find_trial(name) if name in [item.name for item in design.trial] else trial
    return judge(loop.run(design, trial_of), design.limits)


def rounded(value: float) -> float:
    """A figure to propose: two digits."""
    return float(f"{value:.2g}")
