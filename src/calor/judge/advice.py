"""Advice: what is seen in a run, why it is so, and what to try, each with the figure it is expected to give.

Every expected figure is simulated on the same trial, none is guessed. What a piece of advice rests on is
said in its `why`.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from calor.design.model import Design
from calor.design.trial import Trial
from calor.drive.pwm import Pwm
from calor.drive.relay import Relay
from calor.drive.time_proportional import TimeProportional
from calor.judge.card import Advice, Rule, changed, retried, rounded
from calor.judge.linear import ultimate, waiting_s
from calor.judge.metrics import settled_stretch_s
from calor.judge.setup_advice import SETUP_RULES
from calor.judge.verdict import Verdict, figure_of
from calor.law.fan_curve import FanCurve
from calor.law.manual import Manual
from calor.law.on_off import OnOff, thresholds_celsius
from calor.law.pid import Pid
from calor.law.timer import Timer
from calor.load import registry as loads
from calor.load.first_order import FirstOrder
from calor.load.integrating import Integrating
from calor.load.second_order import SecondOrder
from calor.loop.trace import Trace
from calor.units import TemperatureUnit, format_difference, format_duration, format_gain, format_temperature

CLOSE_TO_OSCILLATING = 2.0
"""A gain margin below 2 is close (Åström & Hägglund 2006 recommend 2 to 5)."""
SHORT_LIFE_DAYS = 365.0
STUCK_SHARE = 0.05
"""An output that gives more than this after it was put off does not obey."""
GAIN_STEPS = (1.5, 2.0)
POWER_STEPS = (1.25, 1.5, 2.0, 3.0, 4.0)


def advise(
    design: Design,
    trial: Trial,
    trace: Trace,
    verdict: Verdict,
    unit: TemperatureUnit = "°C",
    stopped: Callable[[], bool] = lambda: False,
) -> list[Advice]:
    """The cards for a run, weightiest first. `stopped` is asked between simulations, to give up early."""
    cards = []
    for rule in RULES:
        if stopped():
            break
        card = rule(design, trial, trace, verdict, unit)
        if card:
            cards.append(replace(card, code=rule.__name__))
    return cards


def cannot_reach(design: Design, trial: Trial, trace: Trace, verdict: Verdict, unit: TemperatureUnit) -> Advice | None:
    """Full output settles short of the setpoint."""
    del trace, verdict
    backwards = design.load.kind == "thermoelectric" and design.law.action != "cool"
    if isinstance(design.law, FanCurve | Timer | Manual) or backwards:
        return None  # the setpoint is not what such a law aims at
    setpoint, ambient = design.setpoint.celsius, design.ambient_celsius(trial)
    ends = [loads.settled_celsius(design.load, level, ambient) for level in (0.0, 1.0)]
    full = ends[1]
    short = (full - setpoint) if design.law.action == "cool" else (setpoint - full)
    if not np.isfinite(short) or short <= 0.0:
        return None
    at = format_temperature(unit, full)
    title = "Full output cannot reach the setpoint."
    text = f"It settles at {at}, {format_difference(unit, short, 1)} short."
    why = (
        f"Balance of the load at full output and an ambient of {format_temperature(unit, ambient)}:"
        " heat in equals heat lost."
    )
    proposal, label = None, ""
    power = _power_key(design)
    if power and full != ambient:
        watt = rounded(getattr(design.load, power) * 1.25 * (setpoint - ambient) / (full - ambient))
        if watt > 0.0 and abs(watt) > abs(getattr(design.load, power)):
            proposal = changed(design, "load", **{power: watt})
            label = f"Try {_power_text(design, watt, unit)}"
            text += f" {label.removeprefix('Try ')} would hold it with a quarter to spare."
    return Advice(title, text, why, "limit", label, proposal)


def _power_key(design: Design) -> str:
    """The setting that says how strong the load's actuator is; empty where there is none."""
    for key in ("rise_celsius", "rate_celsius_per_s", "heater_watt"):
        if getattr(design.load, key, 0.0):
            return key
    return ""


def _power_text(design: Design, power: float, unit: TemperatureUnit) -> str:
    if isinstance(design.load, FirstOrder | SecondOrder):
        return f"a rise of {format_difference(unit, power, 0)}"
    if isinstance(design.load, Integrating):
        return f"{format_difference(unit, power * 60.0, 2)} a minute"
    return f"{power:g} W"


def too_slow(design: Design, trial: Trial, trace: Trace, verdict: Verdict, unit: TemperatureUnit) -> Advice | None:
    """Recovery or warm-up misses its limit: more gain where that is enough, else more power."""
    missed = [item for item in verdict.limits if item.name in ("recovery_s", "in_band_within_s") and not item.passes]
    if not missed or isinstance(design.law, Manual) or any(event.kind == "cut_out" for event in trace.events):
        return None
    item = missed[-1]
    if item.value is None and isinstance(design.law, OnOff):
        return None  # a law that swings through the band never stays in it: the ripple is what to mend
    begin_s = trace.disturbances[0].begins_s if item.name == "recovery_s" else 0.0
    top = getattr(design.law, "output_high", 1.0)
    at_limit = (trace.time_s >= begin_s) & (trace.demand >= top - 1e-9)
    at_limit_s = float(trace.durations_s()[at_limit].sum())
    first = "Cool-down" if design.law.action == "cool" else "Warm-up"
    name = "Recovery" if item.name == "recovery_s" else first
    late = "" if item.value is None else f" by {format_duration(item.value - item.limit)}"
    title = f"{name} misses{late or ' its limit'}."
    text = f"Demand is at its upper limit for {format_duration(at_limit_s)} of it." if at_limit_s >= 1.0 else ""
    why = "The demand column, and the same trial simulated again with more gain, then with more power, step by step."
    fallback: tuple[str, Design, float] | None = None
    for shown, proposal in _stronger(design, unit):
        again = retried(proposal, trial)
        value = figure_of(again.metrics, item.name)
        if value is None or value > item.limit:
            continue
        if again.passes:
            text = f"{text} {shown} would take {format_duration(value)}, and keep every limit.".strip()
            return Advice(title, text, why, "limit", f"Try {shown}", proposal)
        fallback = fallback or (shown, proposal, value)
    if fallback is not None:
        shown, proposal, value = fallback
        text = f"{text} {shown} would take {format_duration(value)}, but misses another limit.".strip()
        return Advice(title, text, why, "limit", f"Try {shown}", proposal)
    gains, powers = _has_one_gain(design), bool(_power_key(design))
    times = f"{POWER_STEPS[-1]:g} times the power"
    tried = f"Neither twice the gain nor {times} meets it: look" if gains and powers else "Look"
    if gains != powers:
        tried = f"Not even {'twice the gain' if gains else times} meets it: look"
    text = f"{text} {tried} at the law or the limit.".strip()
    return Advice(title, text, why, "limit")


def _has_one_gain(design: Design) -> bool:
    """Whether one gain is in force; beside gain sets it is not."""
    return isinstance(design.law, Pid) and not design.law.gain_sets


def _stronger(design: Design, unit: TemperatureUnit) -> list[tuple[str, Design]]:
    """Designs with more gain, then with more power, each with the words for it."""
    changes = []
    law: Any = design.law
    if _has_one_gain(design):
        for factor in GAIN_STEPS:
            gain = rounded(law.gain_per_celsius * factor)
            changes.append((format_gain(gain, unit), changed(design, "law", gain_per_celsius=gain)))
    power = _power_key(design)
    for factor in POWER_STEPS if power else ():
        watt = rounded(getattr(design.load, power) * factor)
        changes.append((_power_text(design, watt, unit), changed(design, "load", **{power: watt})))
    return changes


def cut_out_tripped(
    design: Design, trial: Trial, trace: Trace, verdict: Verdict, unit: TemperatureUnit
) -> Advice | None:
    """The cut-out has latched: everything after it is a dead output."""
    del verdict, trial
    tripped = next((event for event in trace.events if event.kind == "cut_out"), None)
    if tripped is None:
        return None
    falls = " below " in tripped.text
    peak = float(np.nanmin(trace.measured_celsius) if falls else np.nanmax(trace.measured_celsius))
    at = format_duration(tripped.at_s)
    if np.isnan(tripped.celsius):
        text = f"At {at} an alarm that switches the output off was raised."
    else:
        limit = format_temperature(unit, tripped.celsius)
        text = f"At {at} the reading passed {limit} ({format_temperature(unit, peak, 2)} at the furthest)."
    text += " The output stays off until the controller is restarted."
    after = trace.time_s >= tripped.at_s
    if float(np.nanmean(np.abs(trace.delivered[after]))) > STUCK_SHARE:
        text = text.split(" The output stays off", maxsplit=1)[0] + (
            " The output was put off, and the switch does not obey: only a cut-out that does not go through this"
            " controller stops it."
        )
    why = "The cut-out latches on purpose. Find what drove the temperature there before the cut-out is moved."
    return Advice("The cut-out has tripped and latched.", text, why, "limit")


def ripple_from_dead_time(
    design: Design, trial: Trial, trace: Trace, verdict: Verdict, unit: TemperatureUnit
) -> Advice | None:
    """An on/off law swings wider than its thresholds, because heat arrives late and the probe sees it late."""
    law = design.law
    ripple = verdict.metrics.settled_ripple_celsius
    if not isinstance(law, OnOff) or ripple is None:
        return None
    on, off = thresholds_celsius(law, design.setpoint.celsius)
    spread = abs(on - off)
    begin_s, end_s = settled_stretch_s(trace)
    switched = np.count_nonzero((trace.switch_s >= begin_s) & (trace.switch_s < end_s))
    excess = ripple - spread - 6.0 * design.probe.noise_celsius
    if switched < 3 or excess < 0.25 * max(spread, 0.1):
        return None
    late_s = waiting_s(design) + design.probe.time_constant_s + getattr(design.probe.filter, "time_constant_s", 0.0)
    text = (
        f"It swings {format_difference(unit, ripple)}; the thresholds are only {format_difference(unit, spread)} apart."
        " The rest is heat already on its way when the switch acts."
    )
    why = (
        f"About {format_duration(late_s)} pass from the switch to the reading (dead time, half a step, probe), beside"
        " heat stored in the element. Narrower thresholds cannot mend it; a law that gives part of the power can."
    )
    critical = ultimate(changed_law(design, Pid(action=law.action, period_s=law.period_s, gain_per_celsius=1.0)))
    if critical is None:
        return Advice("The ripple comes from delay, not from the thresholds.", text, why, "limit")
    gain, period_s = critical
    # Tyreus & Luyben 1992: Kc = Ku/3.2, Ti = 2.2·Pu
    pid = Pid(
        action=law.action,
        period_s=law.period_s,
        gain_per_celsius=rounded(gain / 3.2),
        integral_time_s=rounded(2.2 * period_s),
    )
    proposal = changed_law(design, pid)
    if isinstance(design.drive, Relay):
        window = TimeProportional(
            window_s=max(20.0, design.drive.min_on_s + design.drive.min_off_s), switch="relay",
            min_pulse_s=design.drive.min_on_s, contact_life_cycles=design.drive.contact_life_cycles,
        )  # fmt: skip
        proposal = Design.model_validate({**{k: getattr(proposal, k) for k in Design.model_fields}, "drive": window})
    again = figure_of(retried(proposal, trial).metrics, "ripple_celsius")
    if again is None or again >= ripple:
        return Advice("The ripple comes from delay, not from the thresholds.", text, why, "limit")
    text += f" A PI law would ripple {format_difference(unit, again)}."
    why += " Gains by Tyreus and Luyben (1992) from the load's own ultimate gain."
    return Advice("The ripple comes from delay, not from the thresholds.", text, why, "limit", "Try a PI law", proposal)


def changed_law(design: Design, law: Pid) -> Design:
    """`design` with another law."""
    return Design.model_validate({**{key: getattr(design, key) for key in Design.model_fields}, "law": law})


def close_to_oscillating(
    design: Design, trial: Trial, trace: Trace, verdict: Verdict, unit: TemperatureUnit
) -> Advice | None:
    """The gain is near, or beyond, the one at which the loop oscillates."""
    del trace
    law = design.law
    critical = ultimate(design)
    if critical is None or not isinstance(law, Pid) or law.gain_per_celsius <= 0.0 or law.gain_sets:
        return None
    gain, period_s = critical
    margin = gain / law.gain_per_celsius
    if margin >= CLOSE_TO_OSCILLATING:
        return None
    proposal = changed(design, "law", gain_per_celsius=rounded(gain / 2.5))
    now, again = (figure_of(item.metrics, "ripple_celsius") for item in (verdict, retried(proposal, trial)))
    title = "The gain makes it oscillate." if margin <= 1.0 else "The gain is close to where it oscillates."
    text = f"With these times it oscillates at {format_gain(gain, unit)}, every {format_duration(period_s)}."
    if now is not None and again is not None:
        text += (
            f" At {format_gain(gain / 2.5, unit)} the ripple goes from {format_difference(unit, now)}"
            f" to {format_difference(unit, again)}."
        )
    why = (
        f"Gain margin {margin:.2f} from the linear loop: load, probe, dead time, half a control step and half a"
        " window. A margin of 2 to 5 is usual (Åström & Hägglund 2006). Limits and switching are left out."
    )
    return Advice(title, text, why, "limit", f"Try {format_gain(rounded(gain / 2.5), unit)}", proposal)


def contact_life(design: Design, trial: Trial, trace: Trace, verdict: Verdict, unit: TemperatureUnit) -> Advice | None:
    """How long a mechanical contact lasts at this rate of switching."""
    del trial
    # of several outputs the busiest one
    counts = [output.switchings() for output in trace.outputs] or [0]
    busiest = counts.index(max(counts))
    drive: Any = design.drive_of(busiest)
    cycles_per_hour = verdict.metrics.switchings_per_hour / 2.0
    is_supply = isinstance(drive, Pwm) and drive.supply_switch
    if not (isinstance(drive, Relay | TimeProportional) or is_supply) or cycles_per_hour <= 0.0:
        return None
    days = drive.contact_life_cycles / cycles_per_hour / 24.0
    if days >= SHORT_LIFE_DAYS:
        return None
    life = f"{drive.contact_life_cycles:,}".replace(",", " ")
    worn = f"{days:.0f} days" if days >= 2.0 else f"{days * 24.0:.0f} hours"
    text = f"{cycles_per_hour:.0f} on-off cycles an hour use up a {life}-cycle contact in {worn}."
    why = "Rated electrical life divided by the cycles of this run; one cycle is once on and once off. Common practice."
    if is_supply:
        return Advice("The relay of the fan's supply wears out soon.", text, why, "wear")
    if busiest > 0:
        if isinstance(drive, TimeProportional) and drive.switch != "relay":
            return None
        return Advice(f"The relay of {design.outputs[busiest]} wears out soon.", text, why, "wear")
    mechanical = isinstance(drive, Relay) or drive.switch == "relay"
    if not mechanical and isinstance(drive, TimeProportional) and drive.switch == "mosfet":
        return None
    if not mechanical:
        return Advice("Good for an SSR, not for a relay.", text, why, "note")
    if isinstance(drive, TimeProportional):
        window_s = rounded(drive.window_s * SHORT_LIFE_DAYS / days)
        if window_s <= 120.0:
            proposal = changed(design, "drive", window_s=window_s)
            return Advice("The relay wears out soon.", text, why, "wear", f"Try a {window_s:g} s window", proposal)
    if isinstance(drive, Relay) and isinstance(design.law, OnOff):
        on, off = thresholds_celsius(design.law, design.setpoint.celsius)
        if design.law.start_celsius is None:
            wider = rounded(max(2.0 * abs(on - off), 0.5))
            proposal = changed(design, "law", hysteresis_celsius=wider)
            return Advice(
                "The relay wears out soon.",
                text,
                why,
                "wear",
                f"Try {format_difference(unit, wider, 1)} apart",
                proposal,
            )
    return Advice("The relay wears out soon.", text, why, "wear")


RULES: tuple[Rule, ...] = (
    cut_out_tripped, cannot_reach, ripple_from_dead_time, close_to_oscillating, too_slow, *SETUP_RULES, contact_life
)  # fmt: skip
