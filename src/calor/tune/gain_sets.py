"""Gain sets: gains by one rule at several setpoints, each with how far its loop is from trouble there.

A load is another one at another temperature: losses that grow, a fan, radiation. Tune where you run (common practice).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from calor.design.edit import with_values
from calor.design.model import Design
from calor.errors import CalorError
from calor.law.gains import MOST_GAIN_SETS, GainSet
from calor.law.pid import Pid
from calor.law.setpoint import Hold
from calor.tune.known import Known, known_by
from calor.tune.margins import Gains, Margins, margins_of
from calor.tune.process import proportional
from calor.tune.table import Setting, ruled, with_setting


@dataclass(frozen=True)
class SetFound:
    """Gains at one setpoint, their margins there, and those that the first place's gains would have."""

    celsius: float
    rule: str
    known: Known
    gains: Gains
    margins: Margins
    margins_of_first: Margins


def found_at(
    design: Design, places_celsius: Sequence[float], rule: str, watch: Callable[[float], None] = lambda share: None
) -> list[SetFound]:
    """Gains by a rule at each of some setpoints, rising. `watch` is told the share done, and may raise.

    Raises CalorError where a place is out of reach, or the rule does not go with the load there.
    """
    places = sorted(set(places_celsius))
    if not 2 <= len(places) <= MOST_GAIN_SETS:
        raise CalorError(
            "gain sets", f"takes 2 to {MOST_GAIN_SETS} setpoints", ", ".join(f"{place:g}" for place in places) or "none"
        )
    found: list[SetFound] = []
    for at, place in enumerate(places):
        known = known_by(_held_at(design, place))
        made = ruled(known.model, known.second, known.limit, (rule,))
        if not made:
            raise CalorError(
                f"gain sets at {place:g} °C",
                f"the rule {rule} does not go with the load there",
                "",
                "take another rule",
            )
        gains = made[0].gains
        first = found[0].gains if found else gains
        found.append(
            SetFound(place, rule, known, gains, margins_of(known.process, gains), margins_of(known.process, first))
        )
        watch((at + 1) / len(places))
    return found


def _held_at(design: Design, celsius: float) -> Design:
    """The design with another setpoint, held."""
    return design.model_copy(update={"setpoint": Hold(celsius=celsius)})


def with_sets(design: Design, found: Sequence[SetFound], interpolated: bool = True) -> Design:
    """The design with a PID law of these gain sets, and a window where a relay gave all or nothing.

    Raises CalorError where they do not go with what else the law has.
    """
    base = design if isinstance(design.law, Pid) else with_setting(design, Setting(found[0].gains, 1.0))
    now: Any = base.law
    sets = tuple(
        GainSet(
            at_celsius=one.celsius,
            gain_per_celsius=_short(one.gains.gain_per_celsius),
            integral_time_s=_short(one.gains.integral_time_s),
            derivative_time_s=_short(one.gains.derivative_time_s),
        )
        for one in found
    )
    values = {
        "gain_sets": [one.model_dump() for one in sets],
        "gains_by": "interpolated" if interpolated else "nearest",
    }
    try:
        law = with_values(now, values)
    except ValueError as error:
        said = str(error).splitlines()
        text = next((line.strip() for line in said if "Value error" in line), said[0])
        raise CalorError("gain sets", text.removeprefix("Value error, ").split(" [")[0], "") from None
    return proportional(base).model_copy(update={"law": law})


def _short(value: float) -> float:
    return float(f"{value:.4g}")
