"""Timer: an output that follows the clock, without regard to what is measured.

Repeat on and off, run and then stop, wait and then run, full power for a cold start and then repeat. 5 s off with 1.7 s
on is 25.4 % of the power. Open loop cannot hit a temperature: ambient and mains move it (common practice).
"""

from __future__ import annotations

from typing import Literal, NamedTuple

from calor.compiled import compiled
from calor.elapsed import microseconds
from calor.law.outputs import Demands, Inputs, Outline, one
from calor.settings import Settings, choice, duration, fraction
from calor.units import TemperatureUnit, format_duration

PATTERNS = ("repeat", "run_then_stop", "wait_then_run", "cold_start_then_repeat")
REPEAT, RUN_THEN_STOP, WAIT_THEN_RUN, COLD_START_THEN_REPEAT = range(4)


class Timer(Settings):
    """An output that follows the clock."""

    kind: Literal["timer"] = choice("timer", "Law", "An output that follows the clock.", words={"timer": "Timer"})
    action: Literal["heat", "cool"] = choice(
        "heat", "Action", "Whether more output makes it warmer or colder.", words={"heat": "Heats", "cool": "Cools"}
    )
    period_s: float = duration(0.1, "Control step", "How finely the clock is looked at.", 0.001, 3600.0)
    pattern: Literal["repeat", "run_then_stop", "wait_then_run", "cold_start_then_repeat"] = choice(
        "repeat",
        "Pattern",
        "What it does with the times below.",
        words={
            "repeat": "Repeat",
            "run_then_stop": "Run, then stop",
            "wait_then_run": "Wait, then run",
            "cold_start_then_repeat": "Cold start",
        },
    )
    on_s: float = duration(1.7, "On time", "How long the output is on in each repetition.", 0.001, 1e6)
    off_s: float = duration(5.0, "Off time", "How long the output is off in each repetition.", 0.0, 1e6)
    first_s: float = duration(
        60.0, "First phase", "How long it runs, waits, or gives full power before it repeats.", 0.0, 1e6
    )
    output: float = fraction(1.0, "Output", "Share of full output while it is on.")
    starts_warm: bool = choice(
        False, "Starts warm", "Resumed while still warm: the full power of a cold start is left out."
    )


class TimerNumbers(NamedTuple):
    """The timer as the kernel sees it."""

    pattern: int
    on_s: float
    off_s: float
    first_s: float
    output: float


def numbers(settings: Timer) -> TimerNumbers:
    """The settings as plain numbers."""
    pattern = PATTERNS.index(settings.pattern)
    if pattern == COLD_START_THEN_REPEAT and settings.starts_warm:
        pattern = REPEAT
    return TimerNumbers(pattern, settings.on_s, settings.off_s, settings.first_s, settings.output)


class TimerState(NamedTuple):
    """Whether the first time is over, and how long the present one, or the present repetition, has lasted (µs)."""

    first_over: bool
    phase_us: int


def start() -> TimerState:
    """Switched on this moment."""
    return TimerState(False, 0)


@compiled
def step(law: TimerNumbers, state: TimerState, dt_s: float) -> tuple[TimerState, float]:
    """One decision: (state, demand). `dt_s` is the time until the next one."""
    # a decision that is a rounding before a change counts as after it
    dt_us, first_us = microseconds(dt_s), microseconds(law.first_s)
    now_us = state.phase_us + dt_us // 1000
    phase_us, first_over = state.phase_us, state.first_over or law.pattern == REPEAT
    if not first_over and now_us >= first_us:
        first_over = True
        phase_us -= first_us
        now_us -= first_us
    if law.pattern == RUN_THEN_STOP:
        demand = 0.0 if first_over else law.output
    elif law.pattern == WAIT_THEN_RUN:
        demand = law.output if first_over else 0.0
    elif not first_over:
        demand = 1.0
    else:
        on_us = microseconds(law.on_s)
        cycle_us = on_us + microseconds(law.off_s)
        if now_us >= cycle_us:
            passed_us = cycle_us * (now_us // cycle_us)
            phase_us -= passed_us
            now_us -= passed_us
        demand = law.output if now_us < on_us else 0.0
    if first_over and law.pattern in (RUN_THEN_STOP, WAIT_THEN_RUN):
        return TimerState(True, 0), demand
    return TimerState(first_over, phase_us + dt_us), demand


def mean_output(settings: Timer) -> float:
    """Mean share of full output once it repeats; of the others while they are on."""
    if settings.pattern in ("repeat", "cold_start_then_repeat"):
        return settings.output * settings.on_s / (settings.on_s + settings.off_s)
    return settings.output


def outline(settings: Timer) -> list[Outline]:
    """The pattern over time, s: the first stretch and some repetitions."""
    plain, cycle_s = numbers(settings), settings.on_s + settings.off_s
    changes: list[tuple[float, float]]
    end_s = 4.0 * cycle_s
    if plain.pattern in (RUN_THEN_STOP, WAIT_THEN_RUN):
        end_s = 1.8 * max(settings.first_s, 1e-3)
        levels = (settings.output, 0.0) if plain.pattern == RUN_THEN_STOP else (0.0, settings.output)
        changes = [(0.0, levels[0]), (settings.first_s, levels[1])]
    else:
        begin_s = settings.first_s if plain.pattern == COLD_START_THEN_REPEAT else 0.0
        changes = [(0.0, 1.0)] if begin_s else []
        for k in range(4):
            changes += [(begin_s + k * cycle_s, settings.output), (begin_s + k * cycle_s + settings.on_s, 0.0)]
        end_s += begin_s
    x = [0.0, *(at for at, _ in changes for _ in range(2)), end_s]
    y = [0.0, *(level for (_, before), (_, after) in zip([(0.0, 0.0), *changes], changes, strict=False)
                for level in (before, after)), changes[-1][1]]  # fmt: skip
    return [Outline("going", x, y)]


@compiled
def override(law: TimerNumbers, state: TimerState, output: float, dt_s: float) -> tuple[TimerState, Demands]:
    """What it gives while a guard puts the output to `output`: its clock goes on."""
    after, _ = step(law, state, dt_s)
    return after, one(output)


@compiled
def decide(law: TimerNumbers, state: TimerState, given: Inputs, dt_s: float) -> tuple[TimerState, Demands]:
    """One decision, as every law makes it; it looks at nothing."""
    after, demand = step(law, state, dt_s)
    return after, one(demand)


def summary(settings: Timer, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    """The two lines on its card."""
    del unit, setpoint_celsius
    first = format_duration(settings.first_s)
    words = {
        "repeat": f"{settings.on_s:g} s on, {settings.off_s:g} s off",
        "run_then_stop": f"runs {first}, then stops",
        "wait_then_run": f"waits {first}, then runs",
        "cold_start_then_repeat": f"full {first}, then {settings.on_s:g} s of {settings.on_s + settings.off_s:g}",
    }
    return "Timer", f"{words[settings.pattern]} · {mean_output(settings) * 100.0:.3g} %"


def consequences(settings: Timer, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    del unit, setpoint_celsius
    lines = {"pattern": "It does not look at the temperature: ambient and mains move it."}
    if settings.pattern in ("repeat", "cold_start_then_repeat"):
        lines["off_s"] = f"{mean_output(settings) * 100.0:.1f} % of full power."
    return lines
