"""Self-tuning of a PID law on the device: a relay test about the setpoint, and gains by a rule from what it tells.

The output is switched between two levels; after some cycles, over which the middle is moved until both halves last
alike, two cycles are measured. Gain and period at the limit follow by the describing function, the gains by the rule.
Guards stay in force; what ends it otherwise is named, and the old gains stay.
Source: K. J. Åström and T. Hägglund, "Automatic tuning of simple regulators with specifications on phase and amplitude
margins", Automatica 20 (1984); rules: Ziegler & Nichols 1942, Tyreus & Luyben 1992.
"""

from __future__ import annotations

import math
from typing import Literal, NamedTuple

from calor.compiled import Column, compiled
from calor.elapsed import passed
from calor.law.gains import Gains
from calor.settings import Settings, choice, difference, duration, fraction, number, temperature

RULES = {
    "ultimate_pi": (0.45, 1.0 / 1.2, 0.0),
    "ultimate_pid": (0.6, 0.5, 0.125),
    "tyreus_luyben_pi": (1.0 / 3.2, 2.2, 0.0),
    "tyreus_luyben_pid": (1.0 / 2.2, 2.2, 1.0 / 6.3),
}
"""Gain, integral and derivative time in shares of gain and period at the limit."""
NOTHING, STARTS, STOPS = range(3)
"""What is asked of it at a step."""
NONE, RUNNING, APPLIED, TIMED_OUT, TOO_FAR, TOO_SMALL, UNEVEN, TOO_QUICK, BY_GUARD, STOPPED = range(10)
"""What has come of it; all from TIMED_OUT on are reasons why the old gains stay."""
RESULTS = (
    "NONE", "RUNNING", "APPLIED", "TIMED_OUT", "TOO_FAR", "TOO_SMALL", "UNEVEN", "TOO_QUICK", "BY_GUARD", "STOPPED",
)  # fmt: skip
REASONS = {
    NONE: "the controller started afresh",
    APPLIED: "gains applied",
    TIMED_OUT: "timed out: the relay did not come to even cycles in time",
    TOO_FAR: "beyond its temperature limit",
    TOO_SMALL: "the swing hardly passes the hysteresis: a larger amplitude or less hysteresis",
    UNEVEN: "two cycles differ by more than a quarter: something disturbed it",
    TOO_QUICK: "switched within a few control steps: noise above the hysteresis, or too long a control step",
    BY_GUARD: "a probe fault, a cut-out or the output switched off",
    STOPPED: "stopped, or the output set by hand",
}
LEAST_SWING_SHARE, MOST_APART_SHARE, LEAST_STEPS, MOST_GAIN = 1.1, 0.25, 6.0, 1000.0
ROOT_STEPS = 6
"""Newton's steps for a root whose start is less than three times too large."""


class Autotune(Settings):
    """How the law tunes itself."""

    amplitude: float = fraction(
        0.2, "Relay amplitude", "The output goes this far up and down from its middle.", 0.005, 1.0
    )
    hysteresis_celsius: float = difference(
        0.1,
        "Relay hysteresis",
        "Switched this far above and below the setpoint; above the reading's noise.",
        0.0,
        100.0,
    )
    cycles: int = number(3, "Cycles to settle", "Whole cycles that pass before two are measured.", "integer", 1, 20)
    limit_celsius: float | None = temperature(
        None, "Temperature limit", "Ends above this (heating, heat_cool) or below it (cooling), and the old gains stay."
    )
    rule: Literal["ultimate_pi", "ultimate_pid", "tyreus_luyben_pi", "tyreus_luyben_pid"] = choice(
        "tyreus_luyben_pi",
        "Rule",
        "Makes gains of gain and period at the limit: Ziegler & Nichols 1942 (ultimate), Tyreus & Luyben 1992.",
        words={
            "ultimate_pi": "PI, ultimate", "ultimate_pid": "PID, ultimate",
            "tyreus_luyben_pi": "PI, by Tyreus", "tyreus_luyben_pid": "PID, by Tyreus",
        },
    )  # fmt: skip
    timeout_s: float = duration(7200.0, "Longest test", "Ends when it takes longer, and the old gains stay.", 1.0, 1e6)


class AutotuneNumbers(NamedTuple):
    """Self-tuning as the kernel sees it.

    Gain = `gain_share` / √(a² − hysteresis²) of an oscillation's amplitude a, and where the relay stands in cooling's
    range this is cooling's, `cool_ratio` times heating's; rates are a share over its period, the
    derivative time a share of it.
    """

    used: bool
    amplitude: float
    hysteresis_celsius: float
    cycles: int
    low_celsius: float
    high_celsius: float
    timeout_s: float
    gain_share: float
    rate_share: float
    derivative_share: float
    back_share: float
    cool_ratio: float


class Relay(NamedTuple):
    """Where a test is: what has come of it (NONE to STOPPED), whether the relay stands high, about which output it
    switches, and how many whole cycles have passed; −1 before the first begins."""

    result: int
    high: bool
    middle: float
    cycles: int


class Times(NamedTuple):
    """Time since the test's start and since the cycle's, s, each with what rounding has added to it too much."""

    passed_s: float
    passed_rest_s: float
    cycle_s: float
    cycle_rest_s: float


class Seen(NamedTuple):
    """Of the cycle that is on: how long its high part was (s), highest and lowest reading (°C); of the first one that
    is measured: period (s) and swing (°C)."""

    high_s: float
    top_celsius: float
    bottom_celsius: float
    first_s: float
    first_swing_celsius: float


class AutotuneState(NamedTuple):
    """How far a test is, and the gains that the last one found, if one did; between two steps it is in a memory."""

    relay: Relay
    times: Times
    seen: Seen
    has_gains: bool
    gains: Gains


def numbers(settings: Autotune | None, action: str, calculates_back: bool, cool_ratio: float = 1.0) -> AutotuneNumbers:
    """The settings as plain numbers; None: it cannot tune itself."""
    if settings is None:
        return AutotuneNumbers(False, 0.0, 0.0, 0, -math.inf, math.inf, 0.0, 0.0, 0.0, 0.0, 0.0, 1.0)
    gain, integral, derivative = RULES[settings.rule]
    tracking = math.sqrt(integral * derivative) if derivative > 0.0 else integral
    low, high = -math.inf, math.inf
    if settings.limit_celsius is not None:
        low, high = (settings.limit_celsius, high) if action == "cool" else (low, settings.limit_celsius)
    return AutotuneNumbers(
        True,
        settings.amplitude,
        settings.hysteresis_celsius,
        settings.cycles,
        low,
        high,
        settings.timeout_s,
        gain * 4.0 * settings.amplitude / math.pi,
        1.0 / integral,
        derivative,
        1.0 / tracking if calculates_back else 0.0,
        cool_ratio,
    )


MEMORY_SIZE = 18
RESULT, HAS_GAINS, GAIN, RATE, LEAD, BACK = range(6)
"""Where in the memory these stand: what has come of the last test, whether it found gains, and the four of them."""


@compiled
def kept(memory: Column) -> AutotuneState:
    """The state that a memory holds; all 0: it has not tuned."""
    return AutotuneState(
        Relay(int(memory[RESULT]), memory[6] > 0.0, memory[7], int(memory[8])),
        Times(memory[9], memory[10], memory[11], memory[12]),
        Seen(memory[13], memory[14], memory[15], memory[16], memory[17]),
        memory[HAS_GAINS] > 0.0,
        Gains(memory[GAIN], memory[RATE], memory[LEAD], memory[BACK]),
    )


@compiled
def keep(state: AutotuneState, memory: Column) -> None:
    """Write a state into a memory."""
    relay, times, seen, gains = state.relay, state.times, state.seen, state.gains
    memory[RESULT], memory[HAS_GAINS] = relay.result, 1.0 if state.has_gains else 0.0
    memory[GAIN], memory[RATE] = gains.gain_per_celsius, gains.integral_rate_per_s
    memory[LEAD], memory[BACK] = gains.derivative_time_s, gains.back_calculation_rate_per_s
    memory[6], memory[7], memory[8] = 1.0 if relay.high else 0.0, relay.middle, relay.cycles
    memory[9], memory[10] = times.passed_s, times.passed_rest_s
    memory[11], memory[12] = times.cycle_s, times.cycle_rest_s
    memory[13], memory[14], memory[15] = seen.high_s, seen.top_celsius, seen.bottom_celsius
    memory[16], memory[17] = seen.first_s, seen.first_swing_celsius


@compiled
def is_running(state: AutotuneState) -> bool:
    """Whether a test is on."""
    return state.relay.result == RUNNING


@compiled
def ended(state: AutotuneState, result: int) -> AutotuneState:
    """The state with a test that is on ended for a reason; gains stay as they were."""
    if state.relay.result != RUNNING:
        return state
    relay = Relay(result, state.relay.high, state.relay.middle, state.relay.cycles)
    return AutotuneState(relay, state.times, state.seen, state.has_gains, state.gains)


@compiled
def refused(state: AutotuneState, result: int) -> AutotuneState:
    """The state with a test that was asked for and did not begin, for a reason."""
    relay = Relay(result, state.relay.high, state.relay.middle, state.relay.cycles)
    return AutotuneState(relay, state.times, state.seen, state.has_gains, state.gains)


@compiled
def forgotten(state: AutotuneState) -> AutotuneState:
    """The state without gains that were found: others were put in."""
    stopped = ended(state, STOPPED)
    return AutotuneState(stopped.relay, stopped.times, stopped.seen, False, stopped.gains)


@compiled
def _inside(law: AutotuneNumbers, middle: float, low: float, high: float) -> float:
    """A middle about which the relay stays inside the limits of the output."""
    return min(max(middle, low + law.amplitude), high - law.amplitude)


@compiled
def begun(
    law: AutotuneNumbers, state: AutotuneState, away: float, celsius: float, output: float, low: float, high: float
) -> AutotuneState:
    """The state as a test begins, about what was given before; what is `away`, `low` and `high` as for `step`."""
    relay = Relay(RUNNING, away < 0.0, _inside(law, output, low, high), -1)
    return AutotuneState(
        relay, Times(0.0, 0.0, 0.0, 0.0), Seen(0.0, celsius, celsius, 0.0, 0.0), state.has_gains, state.gains
    )


@compiled
def root_of(value: float, begin: float) -> float:
    """The square root of a value, from a beginning above it. Source: Newton's method (Heron's)."""
    root = begin
    for _ in range(ROOT_STEPS):
        root = 0.5 * (root + value / root)
    return root


@compiled
def _measured(law: AutotuneNumbers, state: AutotuneState, swing: float, dt_s: float) -> AutotuneState:
    """The state after the second measured cycle: gains, or why there are none."""
    seen, cycle_s = state.seen, state.times.cycle_s
    period_s = 0.5 * (seen.first_s + cycle_s)
    # the amplitude is half of a swing, and two are averaged
    size = 0.25 * (seen.first_swing_celsius + swing)
    if period_s < LEAST_STEPS * dt_s:
        return ended(state, TOO_QUICK)
    if abs(seen.first_s - cycle_s) > MOST_APART_SHARE * period_s:
        return ended(state, UNEVEN)
    if abs(seen.first_swing_celsius - swing) > 2.0 * MOST_APART_SHARE * size:
        return ended(state, UNEVEN)
    if size <= LEAST_SWING_SHARE * law.hysteresis_celsius or size <= 0.0:
        return ended(state, TOO_SMALL)
    root = root_of((size - law.hysteresis_celsius) * (size + law.hysteresis_celsius), size)
    gain = law.gain_share / root
    if state.relay.middle < 0.0:
        gain = gain / law.cool_ratio
    gain = min(gain, MOST_GAIN)
    gains = Gains(gain, law.rate_share / period_s, law.derivative_share * period_s, law.back_share / period_s)
    applied = ended(state, APPLIED)
    return AutotuneState(applied.relay, applied.times, seen, True, gains)


@compiled
def _cycled(
    law: AutotuneNumbers, state: AutotuneState, celsius: float, low: float, high: float, dt_s: float
) -> AutotuneState:
    """The state as a cycle is over: while it settles the middle is moved, then two cycles are measured."""
    relay, times, seen = state.relay, state.times, state.seen
    swing = seen.top_celsius - seen.bottom_celsius
    middle, first_s, first_swing = relay.middle, seen.first_s, seen.first_swing_celsius
    if relay.cycles > law.cycles:
        return _measured(law, state, swing, dt_s)
    if relay.cycles == law.cycles:
        first_s, first_swing = times.cycle_s, swing
    elif relay.cycles >= 0:
        # a high part longer than the low one says that more has to be given
        middle = _inside(law, middle + law.amplitude * (2.0 * seen.high_s / times.cycle_s - 1.0), low, high)
    return AutotuneState(
        Relay(RUNNING, relay.high, middle, relay.cycles + 1), Times(times.passed_s, times.passed_rest_s, 0.0, 0.0),
        Seen(0.0, celsius, celsius, first_s, first_swing), state.has_gains, state.gains,
    )  # fmt: skip


@compiled
def step(
    law: AutotuneNumbers, state: AutotuneState, away: float, celsius: float, low: float, high: float, dt_s: float
) -> AutotuneState:
    """The state of a test that is on after one more reading, which is `away` from the setpoint to where the output
    drives it (°C); the output may go from `low` to `high`. `dt_s` is the time until the next reading."""
    if celsius < law.low_celsius or celsius > law.high_celsius:
        return ended(state, TOO_FAR)
    relay, seen = state.relay, state.seen
    stands_high, high_s, rises = relay.high, seen.high_s, False
    if relay.high and away > law.hysteresis_celsius:
        stands_high, high_s = False, state.times.cycle_s
    elif not relay.high and away < -law.hysteresis_celsius:
        stands_high, rises = True, True
    top, bottom = max(seen.top_celsius, celsius), min(seen.bottom_celsius, celsius)
    after = AutotuneState(
        Relay(RUNNING, stands_high, relay.middle, relay.cycles), state.times,
        Seen(high_s, top, bottom, seen.first_s, seen.first_swing_celsius), state.has_gains, state.gains,
    )  # fmt: skip
    if rises:
        after = _cycled(law, after, celsius, low, high, dt_s)
    times = after.times
    if times.passed_s >= law.timeout_s - 0.001 * dt_s:
        after = ended(after, TIMED_OUT)
    passed_s, passed_rest_s = passed(times.passed_s, times.passed_rest_s, dt_s)
    cycle_s, cycle_rest_s = passed(times.cycle_s, times.cycle_rest_s, dt_s)
    return AutotuneState(
        after.relay, Times(passed_s, passed_rest_s, cycle_s, cycle_rest_s), after.seen, after.has_gains, after.gains
    )


@compiled
def asked(law: AutotuneNumbers, state: AutotuneState) -> float:
    """The output that the relay asks for; its middle once the test is over."""
    if state.relay.result != RUNNING:
        return state.relay.middle
    return state.relay.middle + law.amplitude if state.relay.high else state.relay.middle - law.amplitude


def problem(settings: Autotune, action: str, setpoint_celsius: float) -> str:
    """What of its temperature limit cannot be at a setpoint, and what would do; empty where it can."""
    limit = settings.limit_celsius
    if limit is None:
        return ""
    edge = setpoint_celsius + (-1.0 if action == "cool" else 1.0) * settings.hysteresis_celsius
    if (limit < edge) if action == "cool" else (limit > edge):
        return ""
    side = "below" if action == "cool" else "above"
    return (
        f"law.autotune.limit_celsius ({limit:g}) must be {side} the setpoint and the relay's hysteresis, {edge:g} °C;"
        " move it"
    )
