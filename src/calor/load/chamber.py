"""Chamber: a heater element warms the air, the air warms the contents and loses to ambient.

C_h·dT_h/dt = P·u − G_ha·(T_h − T_a)
C_a·dT_a/dt = G_ha·(T_h − T_a) − G_ac·(T_a − T_c) − (G_loss + G_extra)·(T_a − T_ambient)
C_c·dT_c/dt = G_ac·(T_a − T_c)

The probe sits in the air. Integrated by Runge-Kutta of order 4, in steps of at most a fifth of the fastest
time constant. Source: lumped thermal network, any heat transfer textbook.
"""

from __future__ import annotations

from typing import Literal, NamedTuple, Self

import numpy as np
import numpy.typing as npt
from pydantic import model_validator

from calor.compiled import compiled
from calor.settings import Settings, choice, duration, number, temperature
from calor.units import TemperatureUnit, format_duration, format_temperature

FASTEST_TIME_CONSTANT_S = 0.02
STEP_PER_TIME_CONSTANT = 0.2


class Chamber(Settings):
    """Heater, air and contents."""

    kind: Literal["chamber"] = choice("chamber", "Load", "Heater element, air and contents, with a loss to ambient.")
    ambient_celsius: float = temperature(20.0, "Ambient", "Temperature around it, where a trial gives no other.")
    heater_watt: float = number(60.0, "Heater", "Heat at full output; below 0: heat taken away.", "watt", -1e6, 1e6)
    heater_j_per_k: float = number(
        100.0, "Heater's capacity", "Heat stored in the element per kelvin.", "j_per_k", 0.01, 1e9
    )
    heater_to_air_w_per_k: float = number(
        1.5, "Heater to air", "Heat the element gives to the air per kelvin between them.", "w_per_k", 1e-4, 1e6
    )
    air_j_per_k: float = number(
        250.0, "Air's capacity", "Heat stored in air and walls per kelvin.", "j_per_k", 0.01, 1e9
    )
    air_to_contents_w_per_k: float = number(
        2.0, "Air to contents", "Heat the air gives to the contents per kelvin between them.", "w_per_k", 0.0, 1e6
    )
    contents_j_per_k: float = number(
        1500.0, "Contents' capacity", "Heat stored in the contents per kelvin.", "j_per_k", 0.01, 1e9
    )
    loss_w_per_k: float = number(
        1.0, "Loss", "Heat lost from the air for each kelvin above ambient.", "w_per_k", 0.0, 1e6
    )
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


class ChamberState(NamedTuple):
    """Temperatures in °C."""

    heater_celsius: float
    air_celsius: float
    contents_celsius: float


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
    )


@compiled(inner=True)
def slopes(
    load: ChamberNumbers, state: ChamberState, level: float, ambient_celsius: float, extra_w_per_k: float
) -> ChamberState:
    """How fast heater, air and contents warm, °C/s."""
    to_air = load.heater_to_air_w_per_k * (state.heater_celsius - state.air_celsius)
    to_contents = load.air_to_contents_w_per_k * (state.air_celsius - state.contents_celsius)
    lost = (load.loss_w_per_k + extra_w_per_k) * (state.air_celsius - ambient_celsius)
    return ChamberState(
        (load.heater_watt * level - to_air) / load.heater_j_per_k,
        (to_air - to_contents - lost) / load.air_j_per_k,
        to_contents / load.contents_j_per_k,
    )


@compiled(inline=True, inner=True)
def slope(load: ChamberNumbers, state: ChamberState, ambient_celsius: float, extra_w_per_k: float) -> float:
    """How fast the air warms, °C/s."""
    to_air = load.heater_to_air_w_per_k * (state.heater_celsius - state.air_celsius)
    to_contents = load.air_to_contents_w_per_k * (state.air_celsius - state.contents_celsius)
    lost = (load.loss_w_per_k + extra_w_per_k) * (state.air_celsius - ambient_celsius)
    return (to_air - to_contents - lost) / load.air_j_per_k


@compiled(inner=True)
def _moved(state: ChamberState, by: ChamberState, dt_s: float) -> ChamberState:
    return ChamberState(
        state.heater_celsius + dt_s * by.heater_celsius,
        state.air_celsius + dt_s * by.air_celsius,
        state.contents_celsius + dt_s * by.contents_celsius,
    )


@compiled(inline=True, inner=True)
def step(
    load: ChamberNumbers, state: ChamberState, level: float, ambient_celsius: float, extra_w_per_k: float, dt_s: float
) -> ChamberState:
    """Its temperatures after `dt_s` at output `level`; `dt_s` is at most a fifth of its fastest time constant."""
    k1 = slopes(load, state, level, ambient_celsius, extra_w_per_k)
    k2 = slopes(load, _moved(state, k1, 0.5 * dt_s), level, ambient_celsius, extra_w_per_k)
    k3 = slopes(load, _moved(state, k2, 0.5 * dt_s), level, ambient_celsius, extra_w_per_k)
    k4 = slopes(load, _moved(state, k3, dt_s), level, ambient_celsius, extra_w_per_k)
    sixth = dt_s / 6.0
    return ChamberState(
        state.heater_celsius
        + sixth * (k1.heater_celsius + 2.0 * (k2.heater_celsius + k3.heater_celsius) + k4.heater_celsius),
        state.air_celsius + sixth * (k1.air_celsius + 2.0 * (k2.air_celsius + k3.air_celsius) + k4.air_celsius),
        state.contents_celsius
        + sixth * (k1.contents_celsius + 2.0 * (k2.contents_celsius + k3.contents_celsius) + k4.contents_celsius),
    )


@compiled(inner=True)
def step_matrix(load: ChamberNumbers, extra_w_per_k: float, dt_s: float) -> npt.NDArray[np.float64]:
    """What `dt_s` does to the chamber, as a matrix (3×5): it is linear, so many small steps make one large one.

    Columns: the three temperatures, output level, ambient. Each is the answer to a unit of it alone.
    """
    rate = (
        load.heater_to_air_w_per_k + load.air_to_contents_w_per_k + load.loss_w_per_k + extra_w_per_k
    ) / load.air_j_per_k
    rate = max(
        rate, load.heater_to_air_w_per_k / load.heater_j_per_k, load.air_to_contents_w_per_k / load.contents_j_per_k
    )
    parts = int(np.ceil(2.0 * rate * dt_s / STEP_PER_TIME_CONSTANT)) + 8
    matrix = np.empty((3, 5))
    for column in range(5):
        unit = np.zeros(5)
        unit[column] = 1.0
        state = ChamberState(unit[0], unit[1], unit[2])
        for _ in range(parts):
            state = step(load, state, unit[3], unit[4], extra_w_per_k, dt_s / parts)
        matrix[0, column], matrix[1, column], matrix[2, column] = (
            state.heater_celsius, state.air_celsius, state.contents_celsius
        )  # fmt: skip
    return matrix


@compiled(inline=True, inner=True)
def step_by_matrix(
    matrix: npt.NDArray[np.float64], state: ChamberState, level: float, ambient_celsius: float
) -> ChamberState:
    """Its temperatures after the step that `matrix` stands for."""
    heater, air, contents = state.heater_celsius, state.air_celsius, state.contents_celsius
    m = matrix
    return ChamberState(
        m[0, 0] * heater + m[0, 1] * air + m[0, 2] * contents + m[0, 3] * level + m[0, 4] * ambient_celsius,
        m[1, 0] * heater + m[1, 1] * air + m[1, 2] * contents + m[1, 3] * level + m[1, 4] * ambient_celsius,
        m[2, 0] * heater + m[2, 1] * air + m[2, 2] * contents + m[2, 3] * level + m[2, 4] * ambient_celsius,
    )


def fastest_rate_per_s(settings: Chamber, extra_w_per_k: float) -> float:
    """Upper bound of how fast its fastest part settles, 1/s (Gershgorin's circles of the network)."""
    heater = settings.heater_to_air_w_per_k / settings.heater_j_per_k
    at_air = settings.heater_to_air_w_per_k + settings.air_to_contents_w_per_k + settings.loss_w_per_k + extra_w_per_k
    contents = settings.air_to_contents_w_per_k / settings.contents_j_per_k
    return 2.0 * max(heater, at_air / settings.air_j_per_k, contents)


def settled_celsius(settings: Chamber, level: float, ambient_celsius: float) -> float:
    """Where the air settles at output `level`; infinite where nothing is lost."""
    heat = settings.heater_watt * level
    if settings.loss_w_per_k <= 0.0:
        return np.inf * heat if heat else ambient_celsius
    return ambient_celsius + heat / settings.loss_w_per_k


def electric_watt(settings: Chamber) -> float | None:
    """Electrical power at full output."""
    return abs(settings.heater_watt)


def time_constant_s(settings: Chamber) -> float:
    """Slowest time constant: everything together losing its heat; infinite where nothing is lost."""
    if settings.loss_w_per_k <= 0.0:
        return np.inf
    stored = settings.heater_j_per_k + settings.air_j_per_k + settings.contents_j_per_k
    return stored / settings.loss_w_per_k


def summary(settings: Chamber, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    """The two lines on its card."""
    del unit, setpoint_celsius
    minutes = time_constant_s(settings) / 60.0
    tau = f"τ {minutes:.0f} min" if np.isfinite(minutes) else "no loss"
    parts = ([f"dead {settings.dead_time_s:g} s"] if settings.dead_time_s else []) + [tau]
    return f"Chamber, {settings.heater_watt:g} W", " · ".join([*parts, f"{settings.loss_w_per_k:g} W/K"])


def consequences(settings: Chamber, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    full = settled_celsius(settings, 1.0, settings.ambient_celsius)
    lines = {"heater_watt": f"At full output it settles at {format_temperature(unit, full)}."}
    hold_watt = settings.loss_w_per_k * (setpoint_celsius - settings.ambient_celsius)
    if settings.heater_watt and hold_watt / settings.heater_watt >= 0.0:
        share = hold_watt / settings.heater_watt * 100.0
        lines["loss_w_per_k"] = f"Holding the setpoint takes {hold_watt:.0f} W, {share:.0f} % of full output."
    stored_s = settings.heater_j_per_k / settings.heater_to_air_w_per_k
    lines["heater_to_air_w_per_k"] = f"The element gives its heat off over {format_duration(stored_s)}."
    return lines
