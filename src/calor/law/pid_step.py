"""The step of a PID law: what it asks for at a reading, and how it goes on where gains change or a guard acts.

u = Kc·(e + (1/Ti)∫e dt + Td·de/dt), with the derivative on the measurement, filtered, and a weight on the setpoint, as
in `calor.law.pid`. Source: Åström & Hägglund, Advanced PID Control (2006), chapter 3.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from calor.compiled import Column, compiled
from calor.law import autotune, split
from calor.law.autotune import BY_GUARD, NOTHING, RUNNING, STARTS, STOPPED, STOPS, AutotuneNumbers
from calor.law.gains import GainNumbers, Gains, gains_at
from calor.law.outputs import Demands, Inputs, two

MEMORY_SIZE = autotune.MEMORY_SIZE
"""Self-tuning's."""


class PidNumbers(NamedTuple):
    """The law as the kernel sees it."""

    direction: float
    gains: GainNumbers
    derivative_filter: float
    setpoint_weight: float
    output_low: float
    output_high: float
    holds_at_limit: bool
    bias: float
    integral_band_celsius: float
    slew_per_s: float
    ramp_celsius_per_s: float
    split: split.Split
    autotune: AutotuneNumbers


class PidState(NamedTuple):
    """Integral and derivative parts (fraction), the reading before, the first reading, and whether there are any.

    `output` is the demand before, `aim_celsius` the setpoint on its way, `held_back_per_celsius` the gain times what of
    a setpoint's change its weight keeps from the proportional part, `integral_rest` what rounding has added to the
    integral too much. The memory is self-tuning's.
    """

    integral: float
    derivative: float
    before_celsius: float
    first_celsius: float
    has_first: bool
    has_before: bool
    output: float
    aim_celsius: float
    held_back_per_celsius: float
    integral_rest: float


def start() -> PidState:
    """Nothing read, nothing integrated."""
    return PidState(0.0, 0.0, 0.0, 0.0, False, False, 0.0, 0.0, 0.0, 0.0)


@compiled
def override(law: PidNumbers, state: PidState, memory: Column, output: float, dt_s: float) -> tuple[PidState, Demands]:
    """What it gives while a guard puts the output to `output`, below 0 to cooling.

    The integral is kept, the derivative starts anew after it, and a slew limit begins from what was given. A test that
    is on is ended, and the integral goes back to its middle.
    """
    integral = state.integral
    if law.autotune.used and memory[autotune.RESULT] == RUNNING:
        tuning = autotune.ended(autotune.kept(memory), BY_GUARD)
        autotune.keep(tuning, memory)
        middle = autotune.asked(law.autotune, tuning)
        integral += (split.demand_for(law.split, middle) if law.split.used else middle) - state.output
    heat, cool = min(output, law.output_high), 0.0
    demand = heat
    if law.split.used:
        heat, cool = split.by_hand(law.split, output)
        demand = split.demand_for(law.split, output)
    after = PidState(
        integral, 0.0, state.before_celsius, state.first_celsius, state.has_first, False, demand,
        state.aim_celsius, state.held_back_per_celsius, state.integral_rest,
    )  # fmt: skip
    return after, two(heat, cool)


@compiled
def _gains(law: PidNumbers, state: PidState, memory: Column, setpoint_celsius: float) -> Gains:
    """The gains in force: those that self-tuning found, where it did; cooling's own times stay while it cools."""
    cools = state.output < 0.0
    if not law.autotune.used or memory[autotune.HAS_GAINS] == 0.0:
        return gains_at(law.gains, setpoint_celsius, cools)
    if cools and law.gains.has_cool:
        times = law.gains.cool
        return Gains(
            memory[autotune.GAIN], times.integral_rate_per_s, times.derivative_time_s,
            times.back_calculation_rate_per_s,
        )  # fmt: skip
    return Gains(memory[autotune.GAIN], memory[autotune.RATE], memory[autotune.LEAD], memory[autotune.BACK])


@compiled
def step(
    law: PidNumbers,
    state: PidState,
    memory: Column,
    setpoint_celsius: float,
    measured_celsius: float,
    hand: float,
    dt_s: float,
) -> tuple[PidState, float]:
    """One decision: (state, demand, below 0 to cool where there are two outputs). `dt_s` is the time until the next
    one.

    `hand` is the output set by hand, NaN in automatic. Meanwhile the integral is led along, so that the way back has no
    bump; without integral action there is nothing to lead.
    """
    first = state.first_celsius if state.has_first else measured_celsius
    before = state.before_celsius if state.has_before else measured_celsius
    gains = _gains(law, state, memory, setpoint_celsius)
    gain, rate_per_s = law.direction * gains.gain_per_celsius, gains.integral_rate_per_s
    aim = setpoint_celsius
    if law.ramp_celsius_per_s > 0.0:
        most = law.ramp_celsius_per_s * dt_s
        begun = state.aim_celsius if state.has_first else measured_celsius
        aim = min(max(setpoint_celsius, begun - most), begun + most)
    error = aim - measured_celsius
    # without an integral the whole error counts, or it would rest elsewhere with each first reading
    weight = law.setpoint_weight if rate_per_s > 0.0 else 1.0
    held_back = gain * (1.0 - weight)
    integral = state.integral
    if state.has_first and held_back != state.held_back_per_celsius:
        integral += (held_back - state.held_back_per_celsius) * (state.aim_celsius - first)
    weighted = weight * (aim - first) - (measured_celsius - first)
    derivative = 0.0
    if gains.derivative_time_s > 0.0:
        fall = gain * gains.derivative_time_s * (measured_celsius - before)
        derivative_lag_s = gains.derivative_time_s / law.derivative_filter
        derivative = (derivative_lag_s * state.derivative - fall) / (derivative_lag_s + dt_s)
    wanted = gain * weighted + integral + derivative + law.bias
    if not np.isnan(hand):
        asked = split.demand_for(law.split, hand) if law.split.used else min(hand, law.output_high)
        integral = integral + asked - wanted if rate_per_s > 0.0 else 0.0
        return PidState(integral, derivative, measured_celsius, first, True, True, asked, aim, held_back, 0.0), asked
    demand = min(max(wanted, law.output_low), law.output_high)
    if law.slew_per_s > 0.0:
        step_most = law.slew_per_s * dt_s
        demand = min(max(demand, state.output - step_most), state.output + step_most)
        # it may begin outside the limits: from off, or from an output put there by hand or by a guard
        demand = min(max(demand, law.output_low), law.output_high)
    growth = gain * error * rate_per_s
    if abs(error) > law.integral_band_celsius:
        growth = 0.0
    held = law.holds_at_limit and ((wanted > demand and growth > 0.0) or (wanted < demand and growth < 0.0))
    if held:
        growth = 0.0
    if gains.back_calculation_rate_per_s > 0.0:
        growth += (demand - wanted) * gains.back_calculation_rate_per_s
    # compensated (Kahan 1965): in single precision a small growth would not be added at all
    added = growth * dt_s - state.integral_rest
    grown = integral + added
    rest = (grown - integral) - added
    return PidState(grown, derivative, measured_celsius, first, True, True, demand, aim, held_back, rest), demand


@compiled
def with_other_gains(
    law: PidNumbers, new: PidNumbers, state: PidState, memory: Column, setpoint_celsius: float, output: float
) -> PidState:
    """The state with which the output goes on without a bump when `new` takes the place of `law`; `output` is what is
    given now, below 0 to cooling.

    The integral takes over what the proportional part changes by; where the output is at a limit, or there is no
    integral, nothing has to.
    """
    before = _gains(law, state, memory, setpoint_celsius)
    after = gains_at(new.gains, setpoint_celsius, state.output < 0.0)
    integral, rest = state.integral, state.integral_rest
    low = -law.split.cool_high if law.split.used else law.output_low
    high = law.split.heat_high if law.split.used else law.output_high
    integrates = before.integral_rate_per_s > 0.0 and after.integral_rate_per_s > 0.0
    if state.has_before and integrates and output > low and output < high:
        aim_celsius = state.aim_celsius if law.ramp_celsius_per_s > 0.0 else setpoint_celsius
        aim, y = aim_celsius - state.first_celsius, state.before_celsius - state.first_celsius
        was = law.direction * before.gain_per_celsius * (law.setpoint_weight * aim - y)
        will = new.direction * after.gain_per_celsius * (new.setpoint_weight * aim - y)
        integral, rest = integral + (was - will), 0.0
    weight = new.setpoint_weight if after.integral_rate_per_s > 0.0 else 1.0
    held_back = new.direction * after.gain_per_celsius * (1.0 - weight)
    if law.autotune.used:
        autotune.keep(autotune.forgotten(autotune.kept(memory)), memory)
    return PidState(
        integral, state.derivative, state.before_celsius, state.first_celsius, state.has_first, state.has_before,
        state.output, state.aim_celsius, held_back, rest,
    )  # fmt: skip


@compiled
def _tuned(law: PidNumbers, state: PidState, memory: Column, given: Inputs, dt_s: float) -> float:
    """Self-tuning one reading further: begun or stopped as asked, ended where a hand takes over. The output that its
    relay asks for, where it ends its middle; NaN where it is not on."""
    was_running = memory[autotune.RESULT] == RUNNING
    if not was_running and given.tune == NOTHING:
        return np.nan
    tuning = autotune.kept(memory)
    away = law.direction * (given.measured_celsius - given.setpoint_celsius)
    low = -law.split.cool_high if law.split.used else law.output_low
    high = law.split.heat_high if law.split.used else law.output_high
    by_hand = not np.isnan(given.hand)
    if by_hand and given.tune == STARTS:
        tuning = autotune.refused(tuning, STOPPED)
    elif given.tune == STOPS or by_hand:
        tuning = autotune.ended(tuning, STOPPED)
    elif given.tune == STARTS and not was_running:
        output = state.output
        if law.split.used:
            heat, cool = split.heat_and_cool(law.split, output)
            output = heat - cool
        tuning = autotune.begun(law.autotune, tuning, away, given.measured_celsius, output, low, high)
    if autotune.is_running(tuning):
        tuning = autotune.step(law.autotune, tuning, away, given.measured_celsius, low, high, dt_s)
    autotune.keep(tuning, memory)
    if was_running or autotune.is_running(tuning):
        return autotune.asked(law.autotune, tuning)
    return np.nan


@compiled
def decide(law: PidNumbers, state: PidState, memory: Column, given: Inputs, dt_s: float) -> tuple[PidState, Demands]:
    """One decision, as every law makes it; while self-tuning is on, its relay sets the output as a hand would."""
    hand = given.hand
    if law.autotune.used:
        led = _tuned(law, state, memory, given, dt_s)
        hand = led if np.isnan(hand) else hand
    after, demand = step(law, state, memory, given.setpoint_celsius, given.measured_celsius, hand, dt_s)
    heat, cool = demand, 0.0
    if law.split.used:
        if np.isnan(hand):
            heat, cool = split.heat_and_cool(law.split, demand)
        else:
            heat, cool = split.by_hand(law.split, hand)
    return after, two(heat, cool)
