"""Advice on how a thermostat is set up: hunting, thresholds without a hysteresis, windows, floors, stages, gain sets,
timers."""

from __future__ import annotations

from typing import Any

import numpy as np

from calor import loop
from calor.design.cautions import leaves_fault_output
from calor.design.events import MainsVoltage
from calor.design.model import Design
from calor.design.trial import Trial
from calor.drive.pwm import Pwm
from calor.drive.time_proportional import TimeProportional
from calor.judge.card import Advice, Rule, changed, rounded
from calor.judge.verdict import Verdict
from calor.law import autotune
from calor.law.fan_curve import FanCurve
from calor.law.on_off import OnOff, thresholds_celsius
from calor.law.pid import Pid
from calor.law.stages import Stages
from calor.law.timer import Timer
from calor.load import registry as loads
from calor.loop.trace import Trace
from calor.units import TemperatureUnit, format_difference, format_duration, format_gain, format_temperature

FAN_HYSTERESIS_CELSIUS = 4.0
"""About 4 to 5 °C is usual for a fan that must not hunt (common practice)."""
MOST_STARTS_PER_HOUR = 12.0
LOWEST_START = 0.2
FAR_FROM_TUNED_CELSIUS, FAR_SHARE = 15.0, 0.2
SPREAD_CELSIUS, SPREAD_VOLTAGE = 10.0, 0.1
MOST_SPREAD_STEPS = 200_000


def _starts_per_hour(trace: Trace) -> float:
    running = trace.demand > 0.0
    return float(np.count_nonzero(running[1:] & ~running[:-1])) / max(trace.span_s, 1e-9) * 3600.0


def hunting(design: Design, trial: Trial, trace: Trace, verdict: Verdict, unit: TemperatureUnit) -> Advice | None:
    """A fan that starts and stops again and again."""
    del trial, verdict
    law, starts = design.law, _starts_per_hour(trace)
    if not isinstance(law, OnOff | FanCurve) or law.action != "cool" or starts <= MOST_STARTS_PER_HOUR:
        return None
    on, off = thresholds_celsius(law, design.setpoint.celsius) if isinstance(law, OnOff) else (0.0, 0.0)
    now = abs(on - off) if isinstance(law, OnOff) else law.hysteresis_celsius
    wanted = max(FAN_HYSTERESIS_CELSIUS, 2.0 * now)
    proposal = None
    if isinstance(law, FanCurve) or law.start_celsius is None:
        proposal = changed(design, "law", hysteresis_celsius=wanted)
    text = f"It starts {starts:.0f} times an hour, with {format_difference(unit, now, 1)} between on and off."
    why = "Starts counted in this run. About 4 to 5 °C is usual for a fan that must not hunt. Common practice."
    label = f"Try {format_difference(unit, wanted, 1)} apart" if proposal is not None else ""
    return Advice("The fan hunts.", text, why, "wear", label, proposal)


def missing_hysteresis(
    design: Design, trial: Trial, trace: Trace, verdict: Verdict, unit: TemperatureUnit
) -> Advice | None:
    """A threshold at which it goes on and off alike."""
    del trial, trace, verdict
    law = design.law
    wanted = max(1.0, rounded(6.0 * design.probe.noise_celsius))
    if isinstance(law, OnOff):
        on, off = thresholds_celsius(law, design.setpoint.celsius)
        if abs(on - off) > 1e-9:
            return None
        pair = {"start_celsius": None, "stop_celsius": None}
        proposal = changed(design, "law", **(pair if law.start_celsius is not None else {}), hysteresis_celsius=wanted)
        text = f"It goes on and off at {format_temperature(unit, on, 2)} alike, so noise alone switches it."
    elif isinstance(law, FanCurve) and law.hysteresis_celsius == 0.0:
        proposal = changed(design, "law", hysteresis_celsius=wanted)
        text = "The fan starts and stops at one temperature, so noise alone switches it."
    else:
        return None
    why = "Every “on above” needs an “off below” some way from it. Common practice."
    label = f"Try {format_difference(unit, wanted, 1)} apart"
    return Advice("On and off share one threshold.", text, why, "limit", label, proposal)


def long_window(design: Design, trial: Trial, trace: Trace, verdict: Verdict, unit: TemperatureUnit) -> Advice | None:
    """A window that the load can follow."""
    del trial, trace
    drive, tau_s = design.drive, loads.time_constant_s(design.load)
    if not isinstance(drive, TimeProportional) or tau_s is None or drive.window_s <= 0.1 * tau_s:
        return None
    wanted_s = max(rounded(0.1 * tau_s), 20.0 if drive.switch == "relay" else 0.5)
    ripple = verdict.metrics.settled_ripple_celsius
    swing = "" if ripple is None else f" It ripples {format_difference(unit, ripple)}."
    text = f"{format_duration(drive.window_s)} is more than a tenth of the load's {format_duration(tau_s)}.{swing}"
    why = "At most a tenth of the time constant; 20 s or more for a relay, 1 to 2 for an SSR. Common practice."
    if wanted_s >= drive.window_s:
        text += " A relay cannot switch faster for long: use a solid-state one."
        return Advice("The window is too long for the load.", text, why, "limit")
    proposal = changed(design, "drive", window_s=wanted_s)
    return Advice("The window is too long for the load.", text, why, "limit", f"Try {wanted_s:g} s", proposal)


def low_floor(design: Design, trial: Trial, trace: Trace, verdict: Verdict, unit: TemperatureUnit) -> Advice | None:
    """A fan that may not start at its floor."""
    del trial, trace, verdict, unit
    law, drive = design.law, design.drive
    if not isinstance(law, FanCurve):
        return None
    least = min((output for _, output in law.points if output > 0.0), default=0.0) if law.points else law.floor
    idle = drive.idle_output if isinstance(drive, Pwm) else 0.0
    if 0.0 < least < idle:
        proposal = changed(design, "law", floor=idle) if not law.points else None
        text = f"It starts at {least * 100.0:.0f} %, and this fan makes {idle * 100.0:.0f} % of whatever is less."
        label = f"Try a floor of {idle * 100.0:.0f} %" if proposal else ""
        return Advice(
            "The floor is below what the fan can do.", text, "The drive's own dead band.", "note", label, proposal
        )
    if least >= LOWEST_START or law.kick_s > 0.0:
        return None
    text = f"Many fans do not start at {least * 100.0:.0f} %. A second at full power gets them going."
    proposal = changed(design, "law", kick_s=1.0)
    why = "The torque to start is above that to run. Common practice."
    return Advice("The fan may not start at its floor.", text, why, "limit", "Try a kick of 1 s", proposal)


def idle_at_a_fault(
    design: Design, trial: Trial, trace: Trace, verdict: Verdict, unit: TemperatureUnit
) -> Advice | None:
    """A law that cools, and does not say what it gives while the probe is broken."""
    del trial, trace, verdict, unit
    if not leaves_fault_output(design):
        return None
    what = "The fan stops" if isinstance(design.law, FanCurve) else "Nothing cools"
    return Advice(
        f"{what} while the probe is broken.",
        "The guard's output on fault is not set, and is 0. What cools is mostly safer at full output.",
        "A fan that runs harms little, one that stands may cost what it cools. Common practice. Where off is meant,"
        " write probe_fault_output = 0 into the file.",
        "limit", "Try 100 % at a fault", changed(design, "guard", probe_fault_output=1.0),
    )  # fmt: skip


def stage_that_never_drops(
    design: Design, trial: Trial, trace: Trace, verdict: Verdict, unit: TemperatureUnit
) -> Advice | None:
    """A stage that is on to the end, and one that never is."""
    del trial, verdict
    if not isinstance(design.law, Stages) or len(trace.outputs) < 2:
        return None
    late = trace.time_s >= 0.5 * trace.span_s
    always = [output.name for output in trace.outputs if bool((output.demand[late] > 0.0).all())]
    never = [output.name for output in trace.outputs if not (output.demand > 0.0).any()]
    if always and len(always) < len(trace.outputs):
        text = f"{always[0].capitalize()} is on all through the second half: it carries the base load."
        if design.law.rotation == "none":
            text += " Let another lead each time, or let it drop out earlier, if that is not meant."
        return Advice("A stage never drops.", text, "What each output was switched to in this run.", "note")
    if always:
        away = float(np.nanmean(trace.measured_celsius[late] - trace.setpoint_celsius[late]))
        text = f"All are on to the end, {format_difference(unit, abs(away), 1)} off the setpoint: give it more power."
        return Advice("No stage ever drops.", text, "What each output was switched to in this run.", "limit")
    if never:
        text = f"{never[0].capitalize()} is not needed in this trial."
        return Advice("A stage is never used.", text, "What each output was switched to in this run.", "note")
    return None


def far_from_tuned(
    design: Design, trial: Trial, trace: Trace, verdict: Verdict, unit: TemperatureUnit
) -> Advice | None:
    """A setpoint far from where any of the gain sets was tuned."""
    del trial, verdict
    law = design.law
    if not isinstance(law, Pid) or not law.gain_sets:
        return None
    places = np.array([item.at_celsius for item in law.gain_sets])
    aims = trace.setpoint_celsius
    if law.gains_by == "interpolated":
        apart = np.maximum(np.maximum(places[0] - aims, aims - places[-1]), 0.0)
    else:
        apart = np.min([np.abs(aims - place) for place in places], axis=0)
    far = apart >= FAR_FROM_TUNED_CELSIUS
    if far.mean() < FAR_SHARE:  # a ramp passes through
        return None
    worst = int(np.argmax(apart))
    text = (
        f"The setpoint goes to {format_temperature(unit, float(aims[worst]), 0)},"
        f" {format_difference(unit, float(apart[worst]), 0)} from the nearest set of gains."
    )
    why = "Gains tuned at one temperature misbehave far from it: tune where you run. Common practice."
    return Advice("The gains are far from where they were tuned.", text, why, "note")


def self_tuned(design: Design, trial: Trial, trace: Trace, verdict: Verdict, unit: TemperatureUnit) -> Advice | None:
    """What the last self-tuning found, to be kept; or why it found nothing."""
    del verdict, trial
    if not trace.tunings:
        return None
    last = trace.tunings[-1]
    why = "What the law found in this run. After a restart it begins with the gains of the design again."
    if last.result != autotune.APPLIED:
        reason = autotune.REASONS[last.result]
        took = format_duration(last.ended_s - last.began_s)
        return Advice("Self-tuning found no gains.", f"After {took}: {reason}. The old gains stay.", why, "limit")
    gain, integral, derivative = (
        float(f"{value:.4g}") for value in (last.gain_per_celsius, last.integral_time_s, last.derivative_time_s)
    )
    proposal = changed(
        design, "law", gain_per_celsius=gain, integral_time_s=integral, derivative_time_s=derivative,
    )  # fmt: skip
    now: Any = design.law
    if (now.gain_per_celsius, now.integral_time_s, now.derivative_time_s) == (gain, integral, derivative):
        return None
    text = f"{format_gain(gain, unit)}, integral {integral:g} s, derivative {derivative:g} s; the design has others."
    return Advice("Self-tuning has found gains.", text, why, "note", "Try them", proposal)


def timer_spread(design: Design, trial: Trial, trace: Trace, verdict: Verdict, unit: TemperatureUnit) -> Advice | None:
    """What ambient and mains do to a law that does not look."""
    del verdict
    if not isinstance(design.law, Timer) or trace.steps > MOST_SPREAD_STEPS or design.load.kind == "integrating":
        return None
    ambient = design.ambient_celsius(trial)
    settled_celsius = []
    for side in (-1.0, 1.0):
        mains = MainsVoltage(at_s=0.0, voltage_fraction=1.0 + side * SPREAD_VOLTAGE)
        events = (*(event for event in trial.events if not isinstance(event, MainsVoltage)), mains)
        other = trial.model_copy(update={"ambient_celsius": ambient + side * SPREAD_CELSIUS, "events": events})
        run = loop.run(design, other)
        settled_celsius.append(float(np.nanmean(run.true_celsius[run.time_s >= 0.75 * run.span_s])))
    here = float(np.nanmean(trace.true_celsius[trace.time_s >= 0.75 * trace.span_s]))
    low, high = min(settled_celsius), max(settled_celsius)
    text = (
        f"Ambient by {format_difference(unit, SPREAD_CELSIUS, 0)} and mains by {SPREAD_VOLTAGE * 100.0:.0f} %"
        f" either way move it from {format_temperature(unit, low, 0)} to {format_temperature(unit, high, 0)};"
        f" here it is at {format_temperature(unit, here, 0)}."
    )
    why = "The same trial simulated at both ends. Heat goes with the square of the voltage; a timer cannot see either."
    return Advice("A timer alone does not hit a temperature.", text, why, "note")


SETUP_RULES: tuple[Rule, ...] = (
    missing_hysteresis, hunting, long_window, low_floor, stage_that_never_drops, far_from_tuned, self_tuned,
    timer_spread,
)  # fmt: skip
