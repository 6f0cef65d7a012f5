"""Everything of a built thermostat that may be off: how far, how it is spread, and the thermostat built so.

The probe and its converter are off by the causes of the error budget, each by itself; the firmware goes on believing
the design, and is calibrated as the design says. Shares of a key of the load, of the mains voltage, of the drive's
window and of the chip's clock are relative: 0.1 is a tenth more.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from statistics import NormalDist
from typing import Any, NamedTuple

from calor.design.model import Design
from calor.design.proof import Spread, usual_load_share, varied_keys
from calor.loop.deviation import Deviation
from calor.sense import budget
from calor.settings import bounds_of, quantity_of
from calor.units import TemperatureUnit, difference_to

AMBIENT_CELSIUS, VOLTAGE, WINDOW, CLOCK, WHOLE = 3.0, 0.1, 0.01, 0.02, 1.0
"""Usual widths to either side: a room; the mains (EN 50160: within 10 %, from memory); a window and a clock of an
oscillator without a crystal (common practice); a part's whole tolerance."""
STANDARD_DEVIATIONS = 3.0
"""At so many standard deviations a normal spread ends."""


class Tolerance(NamedTuple):
    """One thing that may be off: its name and title, from where to where, how it is spread, and what the design has.

    `unit` is "tolerance" where 1 is the part's whole tolerance, "celsius" for a difference in °C, "share" else.
    """

    name: str
    title: str
    unit: str
    low: float
    high: float
    distribution: str
    nominal: float

    def value_at(self, level: float) -> float:
        """The value below which a share `level` (0 to 1) of all parts are."""
        span, middle = self.high - self.low, 0.5 * (self.low + self.high)
        if self.distribution == "triangular":
            if level < 0.5:
                return self.low + span * math.sqrt(0.5 * level)
            return self.high - span * math.sqrt(0.5 * (1.0 - level))
        if self.distribution == "normal":
            whole = NormalDist()
            end = whole.cdf(-STANDARD_DEVIATIONS)
            sigmas = whole.inv_cdf(end + level * (1.0 - 2.0 * end))
            return middle + 0.5 * span * sigmas / STANDARD_DEVIATIONS
        return self.low + span * level

    def shown(self, value: float, unit: TemperatureUnit = "°C") -> str:
        """A value in words: as a temperature difference in `unit`, a percentage, or a part of the tolerance."""
        if self.unit == "celsius":
            return f"{difference_to(unit, value):+.3g} {unit}"
        if self.unit == "share":
            return f"{value * 100.0:+.3g} %"
        return f"{value:+.2f} of its tolerance"


_TITLES = {
    "ambient": "Ambient", "mains_voltage": "Mains voltage", "window": "Drive window", "clock": "Chip clock",
    "calibration": "Reference thermometer",
}  # fmt: skip


def tolerances_of(design: Design) -> tuple[Tolerance, ...]:
    """All that may be off with a design, in the order of the loop's parts: load, probe, converter, what is around."""
    proof, listed = design.proof, []
    own = {one.key: one for one in proof.load}
    settings: Any = design.load
    for key in varied_keys(settings):
        spread = own.get(key, Spread())
        field = type(settings).model_fields[key]
        title = f"{field.title}, load"
        listed.append(_tolerance(f"load.{key}", title, "share", spread, usual_load_share(settings, key)))
    for cause in budget.drawn_causes(design.probe):
        part, spread = ("converter", proof.converter) if cause.of_converter else ("probe", proof.probe)
        name = f"{part}.{cause.name.replace(' ', '_')}"
        one = _tolerance(name, cause.name[0].upper() + cause.name[1:], "tolerance", spread, WHOLE)
        if cause.one_way:
            one = one._replace(low=max(one.low, 0.0), high=max(one.high, 0.0))
        listed.append(one._replace(nominal=cause.nominal))
    if any(point.uncertainty_celsius for point in design.probe.calibration):
        listed.append(_tolerance("probe.calibration", _TITLES["calibration"], "tolerance", proof.probe, WHOLE))
    around = [("ambient", "celsius", proof.ambient_celsius, AMBIENT_CELSIUS)]
    around.append(("mains_voltage", "share", proof.mains_voltage_fraction, VOLTAGE))
    if any(hasattr(drive, "window_s") for drive in (design.drive, design.second_drive)):
        around.append(("window", "share", proof.window_fraction, WINDOW))
    around.append(("clock", "share", proof.clock_fraction, CLOCK))
    listed += [_tolerance(name, _TITLES[name], unit, spread, usual) for name, unit, spread, usual in around]
    return tuple(one for one in listed if one.high > one.low or one.low != one.nominal)


def _tolerance(name: str, title: str, unit: str, spread: Spread, usual: float) -> Tolerance:
    low, high = spread.interval(usual)
    return Tolerance(name, title, unit, low, high, spread.distribution, 0.0)


def built_as(
    design: Design, tolerances: Sequence[Tolerance], values: Sequence[float], seed: int
) -> tuple[Design, Deviation]:
    """A thermostat built with each of the design's tolerances at a value, its noise from `seed`: what a run takes."""
    by_name = {one.name: value for one, value in zip(tolerances, values, strict=True)}
    clock, window = by_name.get("clock", 0.0), by_name.get("window", 0.0)
    changed: dict[str, Any] = {}
    load = {key[5:]: 1.0 + value for key, value in by_name.items() if key.startswith("load.")}
    if load:
        changed["load"] = _scaled(design.load, load)
    for part in ("drive", "second_drive"):
        drive = getattr(design, part)
        if drive is not None and (clock or window):
            # its times are counted by the chip's clock
            pace = {
                key: 1.0 / (1.0 + clock) * (1.0 + window if key == "window_s" else 1.0)
                for key, field in type(drive).model_fields.items()
                if quantity_of(field) == "duration"
            }
            changed[part] = _scaled(drive, pace)
    causes = budget.drawn_causes(design.probe)
    names = [f"{'converter' if one.of_converter else 'probe'}.{one.name.replace(' ', '_')}" for one in causes]
    shares = [by_name.get(name, cause.nominal) for name, cause in zip(names, causes, strict=True)]
    doubt = by_name.get("probe.calibration", 0.0)
    is_nominal = doubt == 0.0 and all(share == cause.nominal for share, cause in zip(shares, causes, strict=True))
    return design.model_copy(update=changed), Deviation(
        None if is_nominal else budget.built(design.probe, shares, doubt),
        by_name.get("ambient", 0.0), 1.0 + by_name.get("mains_voltage", 0.0), clock, seed,
    )  # fmt: skip


def nominal(design: Design) -> tuple[float, ...]:
    """Every tolerance where the design has it."""
    return tuple(one.nominal for one in tolerances_of(design))


def _scaled(settings: Any, factors: dict[str, float]) -> Any:
    """Settings with some of their numbers scaled, inside the range that each may have."""
    changed = {}
    for key, factor in factors.items():
        value = getattr(settings, key)
        if isinstance(value, float) and value != 0.0 and factor != 1.0:
            low, high, _ = bounds_of(type(settings).model_fields[key])
            changed[key] = min(max(value * factor, low), high)
    return settings.model_copy(update=changed) if changed else settings
