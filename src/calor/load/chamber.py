"""Chamber: a heater element warms the air, the air warms the contents and loses to ambient.

C_h·dT_h/dt = P·u − G_ha·(T_h − T_a)
C_a·dT_a/dt = G_ha·(T_h − T_a) − G_ac·(T_a − T_c) − (G_loss + G_fan·u^n + G_extra)·(T_a − T_ambient) + P_always +
P_2·u_2 C_c·dT_c/dt = G_ac·(T_a − T_c)

The probe sits in the air. Integrated by Runge-Kutta of order 4, in steps of at most a fifth of the fastest
time constant. Where the output is a fan, the loss rises with its flow to the power n. Source: lumped thermal network,
any heat transfer textbook.
"""

from __future__ import annotations

from typing import Literal, NamedTuple, Self

import numpy as np
from pydantic import model_validator

from calor.compiled import compiled
from calor.load.state import LoadState, Surroundings, mixed
from calor.settings import Settings, choice, duration, number, temperature
from calor.units import TemperatureUnit, format_duration, format_temperature

FASTEST_TIME_CONSTANT_S = 0.02
STEP_PER_TIME_CONSTANT = 0.2


class Chamber(Settings):
    """Heater, air and contents."""

    kind: Literal["chamber"] = choice(
        "chamber", "Load", "Heater element, air and contents, with a loss to ambient.", words={"chamber": "Chamber"}
    )
    ambient_celsius: float = temperature(20.0, "Ambient", "Temperature around it, where a trial gives no other.")
    heater_watt: float = number(
        60.0, "Heater power", "Heat at full output; below 0: heat taken away.", "watt", -1e6, 1e6
    )
    heater_j_per_k: float = number(
        100.0, "Heater capacity", "Heat stored in the element per kelvin.", "j_per_k", 0.01, 1e9
    )
    heater_to_air_w_per_k: float = number(
        1.5, "Heater to air", "Heat the element gives to the air per kelvin between them.", "w_per_k", 1e-4, 1e6
    )
    air_j_per_k: float = number(
        250.0, "Air heat capacity", "Heat stored in air and walls per kelvin.", "j_per_k", 0.01, 1e9
    )
    air_to_contents_w_per_k: float = number(
        2.0, "Air to contents", "Heat the air gives to the contents per kelvin between them.", "w_per_k", 0.0, 1e6
    )
    contents_j_per_k: float = number(
        1500.0, "Contents capacity", "Heat stored in the contents per kelvin.", "j_per_k", 0.01, 1e9
    )
    loss_w_per_k: float = number(
        1.0, "Heat loss", "Heat lost from the air for each kelvin above ambient.", "w_per_k", 0.0, 1e6
    )
    always_watt: float = number(
        0.0, "Constant heat input", "Heat given to the air, switched or not.", "watt", -1e6, 1e6
    )
    fan_w_per_k: float = number(
        0.0,
        "Extra loss by fan",
        "How much the loss rises at full output, where the output is a fan.",
        "w_per_k",
        0.0,
        1e6,
    )
    fan_exponent: float = number(
        0.8, "Fan exponent", "The loss by the fan rises with its flow to this power; 0.8 in turbulent flow.",
        "number", 0.3, 1.0,
    )  # fmt: skip
    fan_watt: float = number(0.0, "Fan power", "Electrical power of the fan at full output.", "watt", 0.0, 1e6)
    second_watt: float = number(
        0.0, "2nd output power", "Heat given to the air at full second output; below 0 it cools.", "watt", -1e6, 1e6
    )
    second_fan_w_per_k: float = number(
        0.0, "Loss by second fan", "How much the loss rises at full second output.", "w_per_k", 0.0, 1e6
    )
    second_fan_watt: float = number(0.0, "Second fan power", "Electrical power of the second fan.", "watt", 0.0, 1e6)
    dead_time_s: float = duration(0.0, "Dead time", "Heat arrives this long after it is switched.", 0.0, 1e5)

    @model_validator(mode="after")
    def _not_too_fast(self) -> Self:
        fastest_s = 2.0 / fastest_rate_per_s(self, 0.0)
        if fastest_s < FASTEST_TIME_CONSTANT_S:
            raise ValueError(
                f"its fastest part settles in {fastest_s:.2g} s, below {FASTEST_TIME_CONSTANT_S:g} s;"
                " raise the smallest heat capacity or lower the conductances at it"
            )
        return self


class ChamberNumbers(NamedTuple):
    """The load as the kernel sees it."""

    heater_watt: float
    heater_j_per_k: float
    heater_to_air_w_per_k: float
    air_j_per_k: float
    air_to_contents_w_per_k: float
    contents_j_per_k: float
    loss_w_per_k: float
    always_watt: float
    fan_w_per_k: float
    fan_exponent: float
    second_watt: float
    second_fan_w_per_k: float


def numbers(settings: Chamber) -> ChamberNumbers:
    """The settings as plain numbers."""
    return ChamberNumbers(
        settings.heater_watt,
        settings.heater_j_per_k,
        settings.heater_to_air_w_per_k,
        settings.air_j_per_k,
        settings.air_to_contents_w_per_k,
        settings.contents_j_per_k,
        settings.loss_w_per_k,
        settings.always_watt,
        settings.fan_w_per_k,
        settings.fan_exponent,
        settings.second_watt,
        settings.second_fan_w_per_k,
    )


@compiled
def slopes(load: ChamberNumbers, state: LoadState, level: float, second: float, around: Surroundings) -> LoadState:
    """How fast air, heater and contents warm, °C/s."""
    to_air = load.heater_to_air_w_per_k * (state.source_celsius - state.celsius)
    to_contents = load.air_to_contents_w_per_k * (state.celsius - state.store_celsius)
    loss = load.loss_w_per_k + around.extra_w_per_k
    if load.fan_w_per_k > 0.0:
        loss += load.fan_w_per_k * max(level, 0.0) ** load.fan_exponent
    loss += load.second_fan_w_per_k * second
    lost = loss * (state.celsius - around.ambient_celsius) - load.always_watt - load.second_watt * second
    lost -= around.heat_watt
    return LoadState(
        (to_air - to_contents - lost) / load.air_j_per_k,
        (load.heater_watt * level - to_air) / load.heater_j_per_k,
        to_contents / (load.contents_j_per_k + state.added_j_per_k),
        0.0,
    )


@compiled
def is_linear(load: ChamberNumbers) -> bool:
    """Whether its conductances do not depend on its outputs."""
    return load.fan_w_per_k == 0.0 and load.second_fan_w_per_k == 0.0


@compiled
def with_added(load: ChamberNumbers, state: LoadState, j_per_k: float, celsius: float) -> LoadState:
    """Its state after something was put in, beside the contents."""
    store = mixed(state.store_celsius, load.contents_j_per_k + state.added_j_per_k, j_per_k, celsius)
    return LoadState(state.celsius, state.source_celsius, store, state.added_j_per_k + j_per_k)


def fastest_rate_per_s(settings: Chamber, extra_w_per_k: float) -> float:
    """Upper bound of how fast its fastest part settles, 1/s (Gershgorin's circles of the network)."""
    heater = settings.heater_to_air_w_per_k / settings.heater_j_per_k
    at_air = settings.heater_to_air_w_per_k + settings.air_to_contents_w_per_k + settings.loss_w_per_k + extra_w_per_k
    at_air += settings.fan_w_per_k + settings.second_fan_w_per_k
    contents = settings.air_to_contents_w_per_k / settings.contents_j_per_k
    return 2.0 * max(heater, at_air / settings.air_j_per_k, contents)


def settled_celsius(settings: Chamber, level: float, ambient_celsius: float) -> float:
    """Where the air settles at output `level`; infinite where nothing is lost."""
    heat = settings.heater_watt * level + settings.always_watt
    loss = settings.loss_w_per_k + settings.fan_w_per_k * max(level, 0.0) ** settings.fan_exponent
    if loss <= 0.0:
        return float(np.inf * heat) if heat else ambient_celsius
    return float(ambient_celsius + heat / loss)


def electric_watt(settings: Chamber) -> float | None:
    """Electrical power at full output."""
    return abs(settings.heater_watt) + settings.fan_watt


def time_constant_s(settings: Chamber) -> float:
    """Slowest time constant: everything together losing its heat; infinite where nothing is lost."""
    return heat_capacity_j_per_k(settings) / settings.loss_w_per_k if settings.loss_w_per_k > 0.0 else np.inf


def heat_capacity_j_per_k(settings: Chamber) -> float:
    """Heat that warms heater, air and contents by one kelvin."""
    return settings.heater_j_per_k + settings.air_j_per_k + settings.contents_j_per_k


def summary(settings: Chamber, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    """The two lines on its card."""
    del unit, setpoint_celsius
    minutes = time_constant_s(settings) / 60.0
    tau = f"τ {minutes:.0f} min" if np.isfinite(minutes) else "no loss"
    parts = ([f"dead {settings.dead_time_s:g} s"] if settings.dead_time_s else []) + [tau]
    watt = f"{settings.heater_watt:g} W" if settings.heater_watt else f"{settings.always_watt:g} W inside"
    return f"Chamber, {watt}", " · ".join([*parts, f"{settings.loss_w_per_k:g} W/K"])


def consequences(settings: Chamber, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    full = settled_celsius(settings, 1.0, settings.ambient_celsius)
    lines = {"heater_watt": f"At full output it settles at {format_temperature(unit, full)}."}
    if not settings.heater_watt:
        lines = {"always_watt": f"With full output it settles at {format_temperature(unit, full)}."}
    hold_watt = settings.loss_w_per_k * (setpoint_celsius - settings.ambient_celsius) - settings.always_watt
    if settings.heater_watt and hold_watt / settings.heater_watt >= 0.0:
        share = hold_watt / settings.heater_watt * 100.0
        lines["loss_w_per_k"] = f"Holding the setpoint takes {hold_watt:.0f} W, {share:.0f} % of full output."
    stored_s = settings.heater_j_per_k / settings.heater_to_air_w_per_k
    lines["heater_to_air_w_per_k"] = f"The element gives its heat off over {format_duration(stored_s)}."
    return lines
