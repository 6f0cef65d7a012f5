"""Thermoelectric cooler: one stage, or two on top of each other, or several in parallel, on a heat sink.

Cold side: q_c = α·I·T_c − ½·I²·R − K·(T_h − T_c); hot side: q_h = α·I·T_h + ½·I²·R − K·(T_h − T_c), T in kelvin.
The greatest difference of one stage without heat to pump is ½·Z·T_c², Z = α²/(R·K), at I = α·T_c/R.
Output is current: level 1 is the greatest current; a second output drives it backwards, and heats. Chopped by PWM
without a filter, the heat of resistance follows the level and not its square. Source: the standard model of a
thermoelectric couple, any thermoelectrics textbook (Ioffe 1957).
"""

from __future__ import annotations

from typing import Any, Literal, NamedTuple, Self

from pydantic import model_validator

from calor.compiled import compiled
from calor.load.state import LoadState, Surroundings
from calor.settings import Settings, choice, duration, number, temperature
from calor.units import ABSOLUTE_ZERO_CELSIUS, TemperatureUnit, format_difference, format_temperature


class Thermoelectric(Settings):
    """A thermoelectric cooler on its heat sink."""

    kind: Literal["thermoelectric"] = choice(
        "thermoelectric",
        "Load",
        "A thermoelectric cooler on its heat sink.",
        words={"thermoelectric": "Thermoelectric"},
    )
    ambient_celsius: float = temperature(20.0, "Ambient", "Of the heat sink and the cold side alike.", -100.0, 200.0)
    seebeck_v_per_k: float = number(0.05, "Seebeck coefficient", "Of a single module.", "volt_per_kelvin", 1e-5, 10.0)
    resistance_ohm: float = number(2.0, "Module resistance", "Of a single module.", "ohm", 1e-4, 1e4)
    conductance_w_per_k: float = number(
        0.5, "Conductance", "Heat that leaks back through one module per kelvin.", "w_per_k", 1e-5, 1e4
    )
    max_ampere: float = number(4.0, "Full current", "Through each module at full output.", "ampere", 1e-3, 1e3)
    parallel: int = number(1, "Modules in parallel", "Modules side by side.", "integer", 1, 16)
    two_stages: bool = choice(False, "Two stages", "A second, larger stage under the first, at the same current.")
    lower_ratio: float = number(
        2.0, "Lower stage ratio", "Couples of the lower stage for each of the upper.", "number", 1.0, 20.0
    )
    plate_j_per_k: float = number(
        5.0, "Plate capacity", "Heat stored between two stages per kelvin.", "j_per_k", 0.1, 1e6
    )
    cold_j_per_k: float = number(
        30.0, "Cold side capacity", "Heat stored in what is cooled per kelvin.", "j_per_k", 0.1, 1e9
    )
    always_watt: float = number(0.0, "Constant heat input", "Heat that what is cooled makes itself.", "watt", -1e4, 1e6)
    loss_w_per_k: float = number(
        0.05, "Heat leak", "Heat that comes in for each kelvin below ambient.", "w_per_k", 0.0, 1e4
    )
    sink_j_per_k: float = number(300.0, "Sink capacity", "Heat stored in the sink per kelvin.", "j_per_k", 0.1, 1e9)
    sink_w_per_k: float = number(
        3.0, "Sink conductance", "Heat it gives off for each kelvin above ambient.", "w_per_k", 1e-3, 1e6
    )
    chopped: bool = choice(False, "Chopped", "PWM straight into the module, without a filter: wastes heat.")
    dead_time_s: float = duration(0.0, "Dead time", "Nothing moves for this long after a change.", 0.0, 1e5)

    @model_validator(mode="after")
    def _not_too_fast(self) -> Self:
        fastest_s = 2.0 / fastest_rate_per_s(self, 0.0)
        if fastest_s < 0.02:
            raise ValueError(
                f"its fastest part settles in {fastest_s:.2g} s, below 0.02 s; raise its smallest heat capacity"
            )
        return self


class ThermoelectricNumbers(NamedTuple):
    """The load as the kernel sees it: all modules of a stage together."""

    seebeck_v_per_k: float
    resistance_ohm: float
    conductance_w_per_k: float
    max_ampere: float
    lower_ratio: float
    plate_j_per_k: float
    cold_j_per_k: float
    always_watt: float
    loss_w_per_k: float
    sink_j_per_k: float
    sink_w_per_k: float
    two_stages: bool
    chopped: bool


def numbers(settings: Thermoelectric) -> ThermoelectricNumbers:
    """The settings as plain numbers; modules side by side count as one with as many times its effects."""
    n = float(settings.parallel)
    return ThermoelectricNumbers(
        settings.seebeck_v_per_k * n, settings.resistance_ohm * n, settings.conductance_w_per_k * n,
        settings.max_ampere, settings.lower_ratio, settings.plate_j_per_k, settings.cold_j_per_k,
        settings.always_watt, settings.loss_w_per_k,
        settings.sink_j_per_k, settings.sink_w_per_k, settings.two_stages, settings.chopped,
    )  # fmt: skip


@compiled
def pumped(
    seebeck: float, resistance: float, conductance: float, ampere: float, square: float, cold_k: float, hot_k: float
) -> tuple[float, float]:
    """(heat taken from the cold side, heat given to the hot side), W; `square` is the mean square of the current."""
    half_joule, back = 0.5 * square * resistance, conductance * (hot_k - cold_k)
    return seebeck * ampere * cold_k - half_joule - back, seebeck * ampere * hot_k + half_joule - back


@compiled
def slopes(
    load: ThermoelectricNumbers, state: LoadState, level: float, second: float, around: Surroundings
) -> LoadState:
    """How fast cold side, sink and plate warm, °C/s."""
    share = level - second
    ampere = share * load.max_ampere
    full = load.max_ampere * load.max_ampere
    square = abs(share) * full if load.chopped else ampere * ampere
    cold, hot, plate = state.celsius + 273.15, state.source_celsius + 273.15, state.store_celsius + 273.15
    between = plate if load.two_stages else hot
    taken, given = pumped(
        load.seebeck_v_per_k, load.resistance_ohm, load.conductance_w_per_k, ampere, square, cold, between
    )
    plate_slope = 0.0
    if load.two_stages:
        r = load.lower_ratio
        from_plate, into_sink = pumped(
            r * load.seebeck_v_per_k, r * load.resistance_ohm, r * load.conductance_w_per_k, ampere, square, plate, hot
        )
        plate_slope = (given - from_plate) / load.plate_j_per_k
        given = into_sink
    leak = (load.loss_w_per_k + around.extra_w_per_k) * (around.ambient_celsius - state.celsius)
    away = load.sink_w_per_k * (state.source_celsius - around.ambient_celsius)
    return LoadState(
        (load.always_watt + around.heat_watt + leak - taken) / load.cold_j_per_k,
        (given - away) / load.sink_j_per_k,
        plate_slope,
        0.0,
    )


@compiled
def against_watt(load: ThermoelectricNumbers, state: LoadState, level: float, second: float) -> float:
    """Electrical power that goes against the Seebeck voltage of the differences across the stages, α·I·ΔT, W."""
    ampere = (level - second) * load.max_ampere
    if not load.two_stages:
        return load.seebeck_v_per_k * ampere * (state.source_celsius - state.celsius)
    upper = state.store_celsius - state.celsius
    lower = load.lower_ratio * (state.source_celsius - state.store_celsius)
    return load.seebeck_v_per_k * ampere * (upper + lower)


def fastest_rate_per_s(settings: Thermoelectric, extra_w_per_k: float) -> float:
    """Upper bound of how fast its fastest part settles, 1/s."""
    n = float(settings.parallel)
    conductance = n * (settings.conductance_w_per_k + settings.seebeck_v_per_k * settings.max_ampere)
    below = conductance * settings.lower_ratio if settings.two_stages else conductance
    cold = (conductance + settings.loss_w_per_k + extra_w_per_k) / settings.cold_j_per_k
    sink = (below + settings.sink_w_per_k) / settings.sink_j_per_k
    plate = (conductance + below) / settings.plate_j_per_k if settings.two_stages else 0.0
    return 2.0 * max(cold, sink, plate)


def settled_celsius(settings: Thermoelectric, level: float, ambient_celsius: float) -> float:
    """Where the cold side settles at output `level`; infinite where it settles nowhere."""
    import numpy as np

    return float(_settled_celsius(settings, np.array([level]), ambient_celsius)[0])


def _settled_celsius(settings: Thermoelectric, level: Any, ambient_celsius: float) -> Any:
    """Where the cold side settles at each of some output levels, by Newton's method on the balance of its parts."""
    import numpy as np

    plain = numbers(settings)
    around = Surroundings(ambient_celsius, 0.0, 0.5, 0.0)
    parts = 3 if settings.two_stages else 2

    def balance(place: Any) -> Any:
        """How fast each part warms (parts×levels) at its place."""
        plate: Any = place[2] if settings.two_stages else np.full(len(level), ambient_celsius)
        found = slopes(plain, LoadState(place[0], place[1], plate, 0.0), level, 0.0, around)
        return np.array([found.celsius, found.source_celsius, found.store_celsius][:parts])

    place = np.full((parts, len(level)), ambient_celsius, dtype=np.float64)
    # the balance is linear in the temperatures: its differences are its derivative, and the second step only mends
    # what the first one rounded
    for _ in range(2):
        now = balance(place)
        jacobian = np.stack([balance(place + unit[:, None]) - now for unit in np.eye(parts)], axis=1)
        place = place + np.linalg.solve(jacobian.transpose(2, 0, 1), -now.T[:, :, None])[:, :, 0].T
    return np.where((place[0] >= ABSOLUTE_ZERO_CELSIUS) & np.isfinite(place[0]), place[0], np.inf)


def best_ampere(settings: Thermoelectric, ambient_celsius: float) -> float:
    """The current at which the cold side settles lowest, found by trying."""
    import numpy as np

    tried = np.linspace(0.05, 1.0, 96)
    return float(tried[int(np.argmin(_settled_celsius(settings, tried, ambient_celsius)))]) * settings.max_ampere


def electric_watt(settings: Thermoelectric) -> float | None:
    """Electrical power at full output, without the Seebeck voltage of a difference across it."""
    couples = 1.0 + (settings.lower_ratio if settings.two_stages else 0.0)
    return settings.parallel * couples * settings.max_ampere**2 * settings.resistance_ohm


def summary(settings: Thermoelectric, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    """The two lines on its card."""
    del setpoint_celsius
    name = "two stages" if settings.two_stages else "one stage"
    side = f", {settings.parallel} in parallel" if settings.parallel > 1 else ""
    at = format_temperature(unit, settled_celsius(settings, 1.0, settings.ambient_celsius), 1)
    return f"Thermoelectric, {name}{side}", f"{settings.max_ampere:g} A · {at} at full"


def consequences(settings: Thermoelectric, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    del setpoint_celsius
    ambient = settings.ambient_celsius
    z_per_k = settings.seebeck_v_per_k**2 / (settings.resistance_ohm * settings.conductance_w_per_k)
    cold_k = ambient - ABSOLUTE_ZERO_CELSIUS
    greatest = cold_k + 1.0 / z_per_k - ((cold_k + 1.0 / z_per_k) ** 2 - cold_k**2) ** 0.5
    best = best_ampere(settings, ambient)
    full = settled_celsius(settings, 1.0, ambient)
    line = f"At full output it settles at {format_temperature(unit, full)}."
    if best < 0.98 * settings.max_ampere:
        lowest = settled_celsius(settings, best / settings.max_ampere, ambient)
        line += f" {best:.2g} A gets lower, {format_temperature(unit, lowest)}: beyond it only the sink warms."
    lines = {
        "seebeck_v_per_k": f"One stage reaches {format_difference(unit, greatest, 0)} at most, with no heat to pump.",
        "max_ampere": line,
    }
    if settings.chopped:
        lines["chopped"] = "Its heat of resistance follows the duty; a filtered current of the same mean makes less."
    return lines
