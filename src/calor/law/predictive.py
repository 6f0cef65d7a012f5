"""Predictive: follows a model of the load, first order with dead time, so that a setpoint is met without overshoot.

Predictive functional control with one coincidence point, a step ahead. The model is fed with what is given; the reading
expected after the dead time is the reading now, and what the model says will still come of outputs already given. The
demand is the one with which that reading comes nearer to the setpoint by the chosen pace: 5 % of an error is left after
the closed-loop time. The model's past is kept in cells over the dead time, a straight line between two.
Source: J. Richalet and D. O'Donovan, Predictive Functional Control (2009), for the law (from memory).
"""

from __future__ import annotations

import math
from typing import Any, Literal, NamedTuple, Self

import numpy as np
from pydantic import model_validator

from calor.compiled import Column, compiled
from calor.law import split
from calor.law.outputs import Demands, Inputs, Outline, two
from calor.settings import Settings, choice, difference, duration, fraction
from calor.units import TemperatureUnit, format_duration, format_gain

CELLS = 16
"""Places in which the model's past is kept."""
LEFT_AT_CLOSED_LOOP = 3.0
"""Of an error e⁻³, 5 %, is left after the closed-loop time."""
MEMORY_SIZE = CELLS


class Predictive(Settings):
    """Follows a model of the load."""

    kind: Literal["predictive"] = choice(
        "predictive",
        "Law",
        "Follows a model of the load: meets a setpoint without overshoot, forgives load disturbances slowly.",
        words={"predictive": "Predictive"},
    )
    action: Literal["heat", "cool", "heat_cool"] = choice(
        "heat",
        "Action",
        "Whether more output makes it warmer or colder; heat_cool: one output for each.",
        words={"heat": "Heats", "cool": "Cools", "heat_cool": "Heats, cools"},
    )
    period_s: float = duration(1.0, "Control step", "How often the law reads and decides.", 0.001, 3600.0)
    rise_celsius: float = difference(
        100.0, "Rise", "Of the load's model: how far full output changes the temperature in the end.", 0.01, 3000.0
    )
    time_constant_s: float = duration(
        600.0, "Time constant", "Of the load's model: time to 63 % of the rise, dead time apart.", 0.01, 1e7
    )
    dead_time_s: float = duration(
        0.0, "Dead time", "Of the load's model: nothing moves for this long; probe and window count.", 0.0, 1e5
    )
    closed_loop_s: float = duration(
        180.0, "Closed-loop time", "An error has fallen to 5 % after this, dead time apart.", 0.01, 1e6
    )
    output_low: float = fraction(0.0, "Output minimum", "The demand never goes below this.")
    output_high: float = fraction(1.0, "Output maximum", "The demand never goes above this.")
    cool_rise_celsius: float | None = difference(
        None, "Cooling's rise", "With heat_cool: how far full cooling brings it down; heating's rise where left out.",
        0.01, 3000.0,
    )  # fmt: skip
    cool_output_high: float = fraction(
        1.0, "Cooling maximum", "With heat_cool: cooling never gives more than this.", 0.01
    )

    @model_validator(mode="after")
    def _goes_together(self) -> Self:
        wrong = split.limits_problem(self.action, self.output_low, self.output_high)
        if wrong:
            raise ValueError(wrong)
        if self.cool_rise_celsius is not None and self.action != "heat_cool":
            raise ValueError(
                f'cool_rise_celsius ({self.cool_rise_celsius:g}) goes with action = "heat_cool" only; leave it out'
            )
        return self


def along_with(settings: Predictive, key: str, value: Any) -> dict[str, Any]:
    """All that changes with one setting: cooling's own rise goes where the law does not do both."""
    if key == "action" and value != "heat_cool":
        return {key: value, "cool_rise_celsius": None}
    return {key: value}


class PredictiveNumbers(NamedTuple):
    """The law as the kernel sees it.

    `rise_celsius` is below 0 where it cools, the gain too. The dead time is a whole number of control steps, `cells`
    how many places it takes (0: none), each `cell_s` long.
    """

    gain_per_celsius: float
    rise_celsius: float
    rate_per_s: float
    dead_time_s: float
    cells: int
    cell_s: float
    cells_per_s: float
    output_low: float
    output_high: float
    split: split.Split


class PredictiveState(NamedTuple):
    """What the model says the load has risen by, as a share of its rise, what rounding has added to it too much, and
    how long ago (s) the newest of its past was kept. The memory is its past, newest first."""

    model: float
    model_rest: float
    since_s: float


def gain_per_celsius(settings: Predictive) -> float:
    """What it asks for each °C by which the reading expected is off, beside what holds the load where it is."""
    nearer = -math.expm1(-LEFT_AT_CLOSED_LOOP * settings.period_s / settings.closed_loop_s)
    moves = -math.expm1(-settings.period_s / settings.time_constant_s)
    return nearer / (settings.rise_celsius * moves)


def delay_steps(settings: Predictive) -> int:
    """Its dead time in control steps."""
    return round(settings.dead_time_s / settings.period_s)


def numbers(settings: Predictive) -> PredictiveNumbers:
    """The settings as plain numbers."""
    direction = -1.0 if settings.action == "cool" else 1.0
    apart, low, high = split.NO_SPLIT, settings.output_low, settings.output_high
    if settings.action == "heat_cool":
        cool = settings.rise_celsius if settings.cool_rise_celsius is None else settings.cool_rise_celsius
        apart = split.Split(True, 0.0, settings.rise_celsius / cool, settings.output_high, settings.cool_output_high)
        low, high = split.lowest(apart), split.highest(apart)
    steps = delay_steps(settings)
    steps_a_cell = max(1, math.ceil(steps / (CELLS - 1)))
    cell_s = steps_a_cell * settings.period_s
    return PredictiveNumbers(
        direction * gain_per_celsius(settings),
        direction * settings.rise_celsius,
        -math.expm1(-settings.period_s / settings.time_constant_s) / settings.period_s,
        steps * settings.period_s,
        math.ceil(steps / steps_a_cell),
        cell_s,
        1.0 / cell_s,
        low,
        high,
        apart,
    )


def start() -> PredictiveState:
    """Nothing given yet."""
    return PredictiveState(0.0, 0.0, 0.0)


@compiled
def _between(newer: float, older: float, share: float) -> float:
    """A place on the straight line between two."""
    return (1.0 - share) * newer + share * older


@compiled
def _before(law: PredictiveNumbers, state: PredictiveState, past: Column) -> float:
    """What the model said a dead time ago."""
    if law.cells == 0:
        return state.model
    left_s = law.dead_time_s - state.since_s
    at = 0
    while at < law.cells - 1 and left_s >= law.cell_s:
        left_s -= law.cell_s
        at += 1
    share = min(max(left_s * law.cells_per_s, 0.0), 1.0)
    return _between(past[at], past[at + 1], share)


@compiled
def _followed(
    law: PredictiveNumbers, state: PredictiveState, past: Column, demand: float, dt_s: float
) -> PredictiveState:
    """The model after `dt_s` in which the demand was given."""
    share = min(law.rate_per_s * dt_s, 1.0)
    # compensated (Kahan 1965): in single precision a slow load would not move at all
    added = share * (demand - state.model) - state.model_rest
    model = state.model + added
    rest = (model - state.model) - added
    since_s = state.since_s
    if law.cells > 0:
        # a measured step may be a little short of the one that was meant, or far longer than all that is kept
        since_s = min(since_s + dt_s, CELLS * law.cell_s)
        while since_s >= law.cell_s - 0.5 * dt_s and since_s > 0.0:
            since_s -= law.cell_s
            for k in range(law.cells, 0, -1):
                past[k] = past[k - 1]
            past[0] = model
    return PredictiveState(model, rest, since_s)


@compiled
def step(
    law: PredictiveNumbers,
    state: PredictiveState,
    memory: Column,
    setpoint_celsius: float,
    measured_celsius: float,
    dt_s: float,
) -> tuple[PredictiveState, float]:
    """One decision: (state, demand, below 0 to cool where there are two outputs). `dt_s` is the time until the next
    one."""
    expected = measured_celsius + law.rise_celsius * (state.model - _before(law, state, memory))
    wanted = law.gain_per_celsius * (setpoint_celsius - expected) + state.model
    demand = min(max(wanted, law.output_low), law.output_high)
    return _followed(law, state, memory, demand, dt_s), demand


@compiled
def override(
    law: PredictiveNumbers, state: PredictiveState, memory: Column, output: float, dt_s: float
) -> tuple[PredictiveState, Demands]:
    """What it gives while a guard puts the output to `output`, below 0 to cooling: the model follows that."""
    heat, cool = min(output, law.output_high), 0.0
    demand = heat
    if law.split.used:
        heat, cool = split.by_hand(law.split, output)
        demand = split.demand_for(law.split, output)
    return _followed(law, state, memory, demand, dt_s), two(heat, cool)


@compiled
def decide(
    law: PredictiveNumbers, state: PredictiveState, memory: Column, given: Inputs, dt_s: float
) -> tuple[PredictiveState, Demands]:
    """One decision, as every law makes it."""
    after, demand = step(law, state, memory, given.setpoint_celsius, given.measured_celsius, dt_s)
    heat, cool = demand, 0.0
    if law.split.used:
        heat, cool = split.heat_and_cool(law.split, demand)
    return after, two(heat, cool)


def outline(settings: Predictive) -> list[Outline]:
    """How a small step of the setpoint is to be followed over time, s: nothing, then ever nearer to all of it."""
    x = np.linspace(0.0, 1.5 * settings.closed_loop_s, 121)
    y = -np.expm1(-LEFT_AT_CLOSED_LOOP * x / settings.closed_loop_s)
    return [Outline("going", [0.0, *(settings.dead_time_s + x).tolist()], [0.0, *y.tolist()])]


def summary(settings: Predictive, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    """The two lines on its card."""
    del setpoint_celsius
    both = ", heats and cools" if settings.action == "heat_cool" else ""
    return (
        f"Predictive{both}",
        f"{format_gain(gain_per_celsius(settings), unit)} · τ {settings.time_constant_s:g} s"
        f" · dead {settings.dead_time_s:g} s",
    )


def consequences(settings: Predictive, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    del setpoint_celsius
    tau_s, loop_s = settings.time_constant_s, settings.closed_loop_s
    pace = f"It asks {format_gain(gain_per_celsius(settings), unit)}"
    if loop_s < 3.0 * max(settings.dead_time_s, settings.period_s):
        pace += ", and leaves a wrong model little room: three dead times or more are safer."
    elif loop_s < 3.0 * tau_s:
        pace += f": {3.0 * tau_s / loop_s:.2g} times as quick as the load by itself."
    else:
        pace += ": no quicker than the load by itself."
    lines = {
        "closed_loop_s": pace,
        "time_constant_s": "A change of the load's own is made up for at this pace, not at the closed loop's.",
    }
    steps = delay_steps(settings)
    if settings.dead_time_s:
        kept = numbers(settings)
        meant = format_duration(kept.dead_time_s)
        lines["dead_time_s"] = f"Counted as {steps} control steps, {meant}, kept in {kept.cells + 1} places."
    return lines
