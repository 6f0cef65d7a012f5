"""Run a design under a trial, or replay its law on a recorded run."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from functools import lru_cache
from typing import Any

import numpy as np
import numpy.typing as npt

from calor.compiled import Column
from calor.design.event import ADDED, ADDED_CELSIUS, AMBIENT, EXTRA, HEAT, SWITCH_FAULT
from calor.design.model import MOST_STEPS, Design
from calor.design.switch_events import BOUNCING
from calor.design.trial import Trial
from calor.drive import registry as drives
from calor.drive.time_proportional import TimeProportional
from calor.errors import CalorError
from calor.law import alarm as alarms
from calor.law import program as programs
from calor.law import registry as laws
from calor.law import setpoint as setpoints
from calor.law.code import Code
from calor.law.pid import Pid
from calor.law.setpoint import Follow
from calor.load import registry as loads
from calor.load.thermoelectric import Thermoelectric
from calor.loop import ambient, kernel, replay_kernel, run_records
from calor.loop import seat as seats
from calor.loop.conditions import Conditions, happenings, timeline
from calor.loop.deviation import AS_DESIGNED, Deviation
from calor.loop.found_events import with_found_events
from calor.loop.seat import Seat
from calor.loop.switching import BOUNCES
from calor.loop.trace import Flag, Output, Trace, Tuning
from calor.sense import filters, reading
from calor.sense import registry as probes
from calor.sense.registry import ProbeNumbers


class Stopped(Exception):  # noqa: N818 - a run that was asked to stop did not fail
    """The run was ended early, as asked."""


def new_control() -> npt.NDArray[np.int64]:
    """A pair of numbers shared with a run: set [0] to 1 to stop it; [1] counts the rows done."""
    return np.zeros(2, np.int64)


_running: list[npt.NDArray[np.int64]] = []
"""The controls of the runs that are on, in whatever threads."""
_running_lock = threading.Lock()


@contextmanager
def _on(control: npt.NDArray[np.int64]) -> Iterator[None]:
    """While a run is on it can be stopped by its control."""
    with _running_lock:
        _running.append(control)
    try:
        yield
    finally:
        with _running_lock:
            _running.pop(next(k for k, one in enumerate(_running) if one is control))


def stop_every_run() -> int:
    """Ask every run that is on to stop: each raises Stopped. How many there were."""
    with _running_lock:
        running = tuple(_running)
    for control in running:
        control[kernel.ABORT] = 1
    return len(running)


def steps_of(design: Design, trial: Trial, clock_share: float = 0.0) -> int:
    """Number of control steps in the trial's span, by a clock that is fast by a share; one that is cut short counts."""
    return max(1, int(np.ceil(trial.span_s / _step_s(design, clock_share) - 1e-9)))


def _step_s(design: Design, clock_share: float) -> float:
    """What a control step takes, by a clock that is fast by a share."""
    return float(design.law.period_s) / (1.0 + clock_share)


def most_changes(design: Design, steps: int, conditions: int, has_bounces: bool = False) -> int:
    """Upper bound of how often an output can change: once a step, twice a window, once a change of conditions; and as
    often as a contact bounces at each."""
    windows = 0
    for output in range(len(design.outputs)):
        drive = design.drive_of(output)
        if isinstance(drive, TimeProportional):
            windows = max(windows, int(steps * design.law.period_s / drive.window_s) + 2)
    bounces = 1 + 2 * BOUNCES if has_bounces else 1
    return (steps + 2 * windows + 2 * conditions + 8) * bounces


def _watched(design: Design) -> npt.NDArray[np.float64]:
    """The alarms, a row each."""
    every = laws.alarm_numbers(design.law, design.guard, isinstance(design.setpoint, Follow))
    return np.array([alarms.to_row(one) for one in every]).reshape(len(every), alarms.NUMBERS)


def _needs_no_seat(design: Design) -> None:
    """Raises CalorError where the law is code of the user's own, which only a seat can run."""
    if isinstance(design.law, Code):
        raise CalorError(
            "law.kind code",
            "your own controller code runs in a trial only",
            "",
            "choose a law of Calor's for anything else",
        )


def _blocks(
    design: Design, probe: ProbeNumbers, largest_extra_w_per_k: float, clock_share: float = 0.0,
    hottest_celsius: float = -273.15, heat_watt: float = 0.0,
) -> run_records.LoopNumbers:  # fmt: skip
    """The design as the kernel sees it, with steps for what a trial asks of its load."""
    return run_records.LoopNumbers(
        float(design.law.period_s),
        _step_s(design, clock_share),
        probe,
        setpoints.numbers(design.setpoint),
        laws.numbers(design.law, design.guard),
        drives.numbers(design.drive),
        drives.numbers(design.drive_of(1)),
        loads.numbers(design.load, largest_extra_w_per_k, hottest_celsius, heat_watt),
        len(design.outputs),
        1.0 if design.law.kind == "stages" else -1.0 if design.law.action == "heat_cool" else 0.0,
        design.guard.watchdog_s is not None,
        isinstance(design.law, Pid) and design.law.autotune is not None,
    )


@lru_cache(maxsize=4)
def noise_of_probe(seed: int, steps: int, celsius: float) -> Column:
    """What the probe's noise adds at each step, °C: the same for the same trial, so that it is drawn once."""
    return np.random.default_rng(seed).standard_normal(steps) * celsius if celsius > 0.0 else np.zeros(steps)


@lru_cache(maxsize=4)
def _times(steps: int, period_s: float) -> Column:
    """The time of each control step, s."""
    return np.arange(steps, dtype=np.float64) * period_s


def _start(design: Design, celsius: float) -> run_records.LoopStart:
    return run_records.LoopStart(programs.start(), laws.start(), loads.start(celsius, design.load))


def _sum(weights: Column, given: Column) -> Any:
    """What the outputs together give to an input of the load; 0 where they give nothing."""
    if not weights.any():
        return 0.0
    if len(weights) > 1:
        return weights @ given
    return given[0] if weights[0] == 1.0 else given[0] * weights[0]


def _given(
    design: Design, columns: Column, switch_s: Column, switch_level: Column, changes: npt.NDArray[np.int64]
) -> dict[str, Any]:
    """What the outputs were asked and gave, as the columns of a trace."""
    count = len(design.outputs)
    rows = columns[run_records.OUTPUTS_FROM :]
    demands, delivered, against = rows[:count], rows[count : 2 * count], rows[2 * count :]
    outputs = tuple(
        Output(
            name, demands[k], delivered[k], switch_s[k, : changes[k]].copy(), switch_level[k, : changes[k]].copy(),
            design.drive_of(k).kind in drives.SWITCHES, drives.switches_supply(design.drive_of(k)),
        )
        for k, name in enumerate(design.outputs)
    )  # fmt: skip
    first, second = (np.asarray(weights) for weights in design.output_weights())
    means = [design.drive_of(k).kind in drives.SWITCHES for k in range(count)]
    is_mean, second_is_mean = (
        all(mean for mean, weight in zip(means, weights, strict=True) if weight) for weights in (first, second)
    )
    demand, given = demands[0], delivered[0]
    if design.law.action == "heat_cool":
        demand, given = demands[0] - demands[1], delivered[0] - delivered[1]
    elif design.law.kind == "stages":
        share = first + second
        demand, given = share @ demands, share @ delivered
    return {
        "demand": demand,
        "delivered": given,
        "switch_s": outputs[0].switch_s,
        "switch_level": outputs[0].switch_level,
        "switches": outputs[0].switches,
        "switches_supply": outputs[0].switches_supply,
        "cools": design.law.action == "cool",
        "power_watt": loads.power_watt(
            design.load,
            _sum(first, delivered),
            _sum(second, delivered),
            is_mean,
            against[0] if len(against) else 0.0,
            second_is_mean,
        ),
        "outputs": outputs if count > 1 else (),
    }


def run(
    design: Design, trial: Trial, control: npt.NDArray[np.int64] | None = None, seat: Seat | None = None,
    deviation: Deviation = AS_DESIGNED, conditions: Conditions | None = None,
) -> Trace:  # fmt: skip
    """Simulate `design` under `trial`: row k is the state at k·period_s, with the demand decided then.

    `control` is a pair from new_control, for progress and for stopping from another thread. `seat` holds a program that
    decides in place of the built-in law. `deviation` is what of the parts is off. `conditions` are others than
    the trial's own; they may be changed while it runs.
    Raises Stopped where it was asked to stop, CalorError where a recorded ambient cannot be read, or the law is code
    and no seat is given.
    """
    if seat is None:
        _needs_no_seat(design)
    control = new_control() if control is None else control
    steps, count = steps_of(design, trial, deviation.clock_share), len(design.outputs)
    if conditions is None:
        conditions = timeline(design, trial, deviation.ambient_celsius, deviation.voltage_share)
    probe = probes.numbers(design.probe) if deviation.probe is None else deviation.probe
    at_rest = trial.start_celsius
    if at_rest is None:
        at_rest = ambient.start_celsius(trial, design.ambient_celsius(trial)) + deviation.ambient_celsius
    values = conditions.values
    put_in = values[values[:, ADDED] > 0.0, ADDED_CELSIUS]
    blocks = _blocks(
        design, probe, float(values[:, EXTRA].max()), deviation.clock_share,
        max(at_rest, float(values[:, AMBIENT].max()), float(put_in.max(initial=at_rest))),
        float(np.abs(values[:, HEAT]).max()),
    )  # fmt: skip
    start = _start(design, at_rest)
    seed = trial.seed if deviation.seed is None else deviation.seed
    noise = noise_of_probe(seed, steps, design.probe.noise_celsius)
    columns = np.empty((run_records.OUTPUTS_FROM + 2 * count + isinstance(design.load, Thermoelectric), steps))
    has_bounces = bool((conditions.values[:, SWITCH_FAULT:] == BOUNCING).any())
    most = most_changes(design, steps, len(conditions.at_s), has_bounces)
    switch_s, switch_level = np.empty((count, most)), np.empty((count, most))
    changes, watched = np.zeros(count, np.int64), _watched(design)
    work = run_records.workspace(len(watched))
    with _on(control):
        kernel.run(
            blocks, start, conditions, np.array(design.output_weights()), watched, noise, seed,
            reading.new_memory(probe), work, seat or seats.built_in(),
            float(trial.span_s), control, columns, switch_s, switch_level, changes,
        )  # fmt: skip
    if control[kernel.ABORT] in (kernel.TOO_HOT, kernel.TOO_COLD):
        is_cold = control[kernel.ABORT] == kernel.TOO_COLD
        raise _impossible(trial, is_cold, (int(control[kernel.DONE]) + 1) * blocks.step_s)
    if control[kernel.DONE] < steps:
        raise Stopped
    events, disturbances = happenings(design, trial)
    trace = Trace(
        _times(steps, blocks.step_s),
        true_celsius=columns[run_records.TRUE_ROW],
        probe_celsius=columns[run_records.PROBE_ROW],
        counts=columns[run_records.COUNTS_ROW],
        measured_celsius=columns[run_records.MEASURED_ROW],
        setpoint_celsius=columns[run_records.SETPOINT_ROW],
        flags=columns[run_records.FLAGS_ROW],
        alarms=columns[run_records.ALARMS_ROW],
        span_s=trial.span_s,
        disturbances=disturbances,
        events=events,
        name=trial.name,
        tunings=tuple(_tuning(row) for row in work.tunings[: work.tuned[0]].tolist()),
        **_given(design, columns, switch_s, switch_level, changes),
    )
    return with_found_events(trace, design)


def _impossible(trial: Trial, is_cold: bool, at_s: float) -> CalorError:
    """The error for a load that went where nothing can go."""
    where = "below absolute zero" if is_cold else f"above {kernel.HOTTEST_CELSIUS:g} °C"
    return CalorError(
        "load", f"goes {where} {at_s:g} s into trial {trial.name!r}, where nothing can be", "",
        "lower its power or rise, or give it more loss",
    )  # fmt: skip


def _tuning(row: list[float]) -> Tuning:
    """A self-tuning as the kernel wrote it down."""
    began_s, ended_s, result, gain, integral_s, derivative_s = row
    return Tuning(began_s, ended_s, int(result), gain, integral_s, derivative_s)


def replay(design: Design, recorded: Trace) -> Trace:
    """What the design's law and drive decide when given the recorded readings, held between samples and filtered.

    The trace keeps the recorded temperature as measured, and the recorded output, held alike, beside the
    law's own demand. A row inside a gap of the record carries Flag.GAP; the last reading is held through it. A setpoint
    that follows a signal has none here, and a difference of two temperatures is against 0 °C: the record has but one.
    """
    _needs_no_seat(design)
    period_s = float(design.law.period_s)
    span_s = float(recorded.time_s[-1] - recorded.time_s[0])
    steps, count = max(1, int(np.floor(span_s / period_s + 1e-9)) + 1), len(design.outputs)
    if steps > MOST_STEPS:
        raise CalorError(
            f"replay of {recorded.name}", f"takes {steps:.3g} control steps, more than {MOST_STEPS:,}",
            f"{span_s / 86_400.0:.3g} days by {period_s:g} s",
            "cut the record where nothing was recorded, or lengthen law.period_s",
        )  # fmt: skip
    time_s = np.arange(steps, dtype=np.float64) * period_s
    smoothing = filters.numbers(design.probe.filter)
    row = np.searchsorted(recorded.time_s - recorded.time_s[0], time_s + 1e-9, side="right") - 1
    readings = recorded.measured_celsius[row]
    following = np.minimum(row + 1, recorded.steps - 1)
    in_gap = ((recorded.flags[following].astype(np.int64) & Flag.GAP) > 0) & (following > row)
    columns = np.full((run_records.OUTPUTS_FROM + 2 * count, steps), np.nan)
    columns[run_records.ALARMS_ROW] = 0.0
    columns[run_records.FLAGS_ROW] = np.where(in_gap, float(Flag.GAP), 0.0)
    most = most_changes(design, steps, 0)
    switch_s, switch_level = np.empty((count, most)), np.empty((count, most))
    changes = np.zeros(count, np.int64)
    watched = _watched(design)
    replay_kernel.replay(
        _blocks(design, probes.numbers(design.probe), 0.0), _start(design, 0.0), smoothing,
        np.zeros(filters.memory_size(smoothing)), run_records.workspace(len(watched)), watched, readings,
        span_s + period_s, columns, switch_s, switch_level, changes,
    )  # fmt: skip
    output = recorded.delivered[row] if np.isfinite(recorded.delivered).any() else None
    empty = np.full(steps, np.nan)
    return Trace(
        time_s, empty, empty, empty, readings, columns[run_records.SETPOINT_ROW], flags=columns[run_records.FLAGS_ROW],
        alarms=columns[run_records.ALARMS_ROW], span_s=span_s, name=f"replay of {recorded.name}",
        recorded_output=output, **_given(design, columns, switch_s, switch_level, changes),
    )  # fmt: skip
