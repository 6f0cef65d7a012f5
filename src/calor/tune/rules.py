"""Tuning rules, a row each: from a step's model, or from the gain and period at which the loop oscillates.

All return PID gains of the standard form per °C. Sources stand beside each rule; the ranges of dead time over time
constant are common practice where the source gives none.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import NamedTuple

from calor.law.autotune import RULES as ON_DEVICE
from calor.law.dialect import to_standard
from calor.tune.margins import Gains
from calor.tune.model import Kind, Model

ZIEGLER = "Ziegler & Nichols 1942"
ANY = (0.0, math.inf)
NOTHING = Model("first_order", 0.0, 1.0, 0.0, 0.0, 0.0)


class Ultimate(NamedTuple):
    """The gain per °C at which a proportional loop just oscillates, and its period, s."""

    gain_per_celsius: float
    period_s: float


class Rule(NamedTuple):
    """A rule: its word, what it is called and comes from, what it is made for, and its formula.

    `of` is the kind of model that it takes, or "ultimate"; `range` of dead time over time constant it was made for.
    """

    name: str
    title: str
    source: str
    of: Kind | str
    range: tuple[float, float]
    formula: Callable[[Model, Ultimate, float], tuple[float, float, float]]


def _step(
    form: Callable[[float, float, float], tuple[float, float, float]],
) -> Callable[[Model, Ultimate, float], tuple[float, float, float]]:
    """A formula of K, τ and L."""
    return lambda m, u, closed_s: form(m.rise_celsius, m.time_constant_s, m.dead_time_s)


def _limit(p: float, ti: float, td: float) -> Callable[[Model, Ultimate, float], tuple[float, float, float]]:
    """A formula of the ultimate gain and period: shares of them, 0 for none."""
    return lambda m, u, closed_s: (p * u.gain_per_celsius, ti * u.period_s, td * u.period_s)


def _cohen_coon_pi(k: float, t: float, d: float) -> tuple[float, float, float]:
    r = d / t
    return t / (k * d) * (0.9 + r / 12.0), d * (30.0 + 3.0 * r) / (9.0 + 20.0 * r), 0.0


def _cohen_coon_pid(k: float, t: float, d: float) -> tuple[float, float, float]:
    r = d / t
    return t / (k * d) * (4.0 / 3.0 + r / 4.0), d * (32.0 + 6.0 * r) / (13.0 + 8.0 * r), 4.0 * d / (11.0 + 2.0 * r)


def _amigo_pi(k: float, t: float, d: float) -> tuple[float, float, float]:
    gain = 0.15 / k + (0.35 - d * t / (d + t) ** 2) * t / (k * d)
    return gain, 0.35 * d + 13.0 * d * t * t / (t * t + 12.0 * d * t + 7.0 * d * d), 0.0


def _amigo_pid(k: float, t: float, d: float) -> tuple[float, float, float]:
    gain = (0.2 + 0.45 * t / d) / k
    return gain, d * (0.4 * d + 0.8 * t) / (d + 0.1 * t), 0.5 * d * t / (0.3 * d + t)


def _simc_pi(m: Model, u: Ultimate, closed_s: float) -> tuple[float, float, float]:
    wait = closed_s + m.dead_time_s
    return 1.0 / (m.rate_celsius_per_s * wait), min(m.time_constant_s, 4.0 * wait), 0.0


def _simc_pid(m: Model, u: Ultimate, closed_s: float) -> tuple[float, float, float]:
    wait = closed_s + m.dead_time_s
    return to_standard(
        "series", 1.0 / (m.rate_celsius_per_s * wait), min(m.time_constant_s, 4.0 * wait), m.second_time_constant_s
    )


def _lambda_pi(m: Model, u: Ultimate, closed_s: float) -> tuple[float, float, float]:
    return m.time_constant_s / (m.rise_celsius * (closed_s + m.dead_time_s)), m.time_constant_s, 0.0


def _lambda_pid(m: Model, u: Ultimate, closed_s: float) -> tuple[float, float, float]:
    k, t, d = m.rise_celsius, m.time_constant_s, m.dead_time_s
    return (t + 0.5 * d) / (k * (closed_s + 0.5 * d)), t + 0.5 * d, t * d / (2.0 * t + d)


def _integrating(p: float, ti: float, td: float) -> Callable[[Model, Ultimate, float], tuple[float, float, float]]:
    """A formula of the rate and the dead time of one that integrates."""
    return lambda m, u, closed_s: (p / (m.rate_celsius_per_s * m.dead_time_s), ti * m.dead_time_s, td * m.dead_time_s)


FIRST: Kind = "first_order"
SECOND: Kind = "second_order"
INTEGRATES: Kind = "integrating"
ULTIMATE = "ultimate"
RULES: tuple[Rule, ...] = (
    Rule("reaction_curve_p", "Reaction curve, P", ZIEGLER, FIRST, (0.1, 1.0), _step(lambda k, t, d: (t / (k * d), 0.0, 0.0))),
    Rule("reaction_curve_pi", "Reaction curve, PI", ZIEGLER, FIRST, (0.1, 1.0), _step(lambda k, t, d: (0.9 * t / (k * d), d / 0.3, 0.0))),
    Rule("reaction_curve_pid", "Reaction curve, PID", ZIEGLER, FIRST, (0.1, 1.0), _step(lambda k, t, d: (1.2 * t / (k * d), 2.0 * d, 0.5 * d))),
    Rule("ultimate_p", "Ultimate gain, P", ZIEGLER, ULTIMATE, ANY, _limit(0.5, 0.0, 0.0)),
    Rule("ultimate_pi", "Ultimate gain, PI", ZIEGLER, ULTIMATE, ANY, _limit(*ON_DEVICE["ultimate_pi"])),
    Rule("ultimate_pid", "Ultimate gain, PID", ZIEGLER, ULTIMATE, ANY, _limit(*ON_DEVICE["ultimate_pid"])),
    Rule("tyreus_luyben_pi", "Tyreus–Luyben, PI", "Tyreus & Luyben 1992", ULTIMATE, ANY, _limit(*ON_DEVICE["tyreus_luyben_pi"])),
    Rule("tyreus_luyben_pid", "Tyreus–Luyben, PID", "Tyreus & Luyben 1992", ULTIMATE, ANY, _limit(*ON_DEVICE["tyreus_luyben_pid"])),
    Rule("cohen_coon_p", "Cohen–Coon, P", "Cohen & Coon 1953", FIRST, (0.1, 4.0), _step(lambda k, t, d: (t / (k * d) * (1.0 + d / t / 3.0), 0.0, 0.0))),
    Rule("cohen_coon_pi", "Cohen–Coon, PI", "Cohen & Coon 1953", FIRST, (0.1, 4.0), _step(_cohen_coon_pi)),
    Rule("cohen_coon_pid", "Cohen–Coon, PID", "Cohen & Coon 1953", FIRST, (0.1, 4.0), _step(_cohen_coon_pid)),
    Rule("chr_p", "Chien–Hrones–Reswick, P", "Chien, Hrones & Reswick 1952", FIRST, (0.1, 1.0), _step(lambda k, t, d: (0.3 * t / (k * d), 0.0, 0.0))),
    Rule("chr_pi", "Chien–Hrones–Reswick, PI", "Chien, Hrones & Reswick 1952", FIRST, (0.1, 1.0), _step(lambda k, t, d: (0.35 * t / (k * d), 1.2 * t, 0.0))),
    Rule("chr_pid", "Chien–Hrones–Reswick, PID", "Chien, Hrones & Reswick 1952", FIRST, (0.1, 1.0), _step(lambda k, t, d: (0.6 * t / (k * d), t, 0.5 * d))),
    Rule("simc_pi", "SIMC, PI", "Skogestad 2003", FIRST, ANY, _simc_pi),
    Rule("simc_pid", "SIMC, PID", "Skogestad 2003", SECOND, ANY, _simc_pid),
    Rule("lambda_pi", "Lambda, PI", "Rivera, Morari & Skogestad 1986", FIRST, ANY, _lambda_pi),
    Rule("lambda_pid", "Lambda, PID", "Rivera, Morari & Skogestad 1986", FIRST, ANY, _lambda_pid),
    Rule("amigo_pi", "AMIGO, PI", "Åström & Hägglund 2004", FIRST, ANY, _step(_amigo_pi)),
    Rule("amigo_pid", "AMIGO, PID", "Åström & Hägglund 2004", FIRST, ANY, _step(_amigo_pid)),
    Rule("integrating_p", "Reaction curve, integrating, P", ZIEGLER, INTEGRATES, ANY, _integrating(1.0, 0.0, 0.0)),
    Rule("integrating_pi", "Reaction curve, integrating, PI", ZIEGLER, INTEGRATES, ANY, _integrating(0.9, 1.0 / 0.3, 0.0)),
    Rule("integrating_pid", "Reaction curve, integrating, PID", ZIEGLER, INTEGRATES, ANY, _integrating(1.2, 2.0, 0.5)),
    Rule("simc_integrating_pi", "SIMC, integrating, PI", "Skogestad 2003", INTEGRATES, ANY, _simc_pi),
    Rule("amigo_integrating_pi", "AMIGO, integrating, PI", "Åström & Hägglund 2004", INTEGRATES, ANY, _integrating(0.35, 13.4, 0.0)),
    Rule("amigo_integrating_pid", "AMIGO, integrating, PID", "Åström & Hägglund 2004", INTEGRATES, ANY, _integrating(0.45, 8.0, 0.5)),
)  # fmt: skip
BY_NAME = {rule.name: rule for rule in RULES}


class Ruled(NamedTuple):
    """What a rule gives, whether the model is in the range it was made for, and what is to be said of it."""

    rule: Rule
    gains: Gains
    in_range: bool
    note: str


def applied(
    rule: Rule,
    model: Model | None,
    ultimate: Ultimate | None,
    closed_s: float | None = None,
    derivative_filter: float = 8.0,
) -> Ruled | None:
    """A rule on what it takes; None where there is no such thing, or it comes to no gain.

    `closed_s` is the closed loop's time constant for rules that take one (SIMC: τc, lambda: λ): the dead time where left
    out, of lambda at least a tenth of the time constant.
    """
    inside, note = True, ""
    if rule.of == ULTIMATE:
        if ultimate is None:
            return None
        gain, ti_s, td_s = rule.formula(NOTHING, ultimate, 0.0)
    else:
        if model is None or model.dead_time_s <= 0.0:
            return None
        wait_s = model.dead_time_s if closed_s is None else closed_s
        if closed_s is None and rule.name.startswith("lambda"):
            wait_s = max(wait_s, 0.1 * model.time_constant_s)
        gain, ti_s, td_s = rule.formula(model, ultimate or Ultimate(0.0, 0.0), wait_s)
        low, high = rule.range
        inside = low <= model.ratio <= high
        if not inside:
            note = f"made for a dead time of {low:g} to {high:g} time constants; here it is {model.ratio:.2g}"
    if not all(map(math.isfinite, (gain, ti_s, td_s))) or gain <= 0.0:
        return None
    return Ruled(rule, Gains(gain, ti_s, td_s, derivative_filter), inside, note)
