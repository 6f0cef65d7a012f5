"""How the number of a setting is shown to a person: its unit, and conversion there and back."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from pydantic.fields import FieldInfo

from calor.settings import QUANTITY_UNIT, quantity_of, word_of
from calor.units import TemperatureUnit, celsius_to, difference_to, to_celsius


@dataclass(frozen=True)
class Scale:
    """How a setting's number is shown: its unit, and conversion there and back."""

    unit: str
    show: Callable[[float], float]
    read: Callable[[float], float]


def scale_of(quantity: str, unit: TemperatureUnit) -> Scale:
    """The scale of a quantity where temperatures are shown in `unit`."""
    per = difference_to(unit, 1.0)
    scales = {
        "temperature": Scale(unit, lambda v: celsius_to(unit, v), lambda v: to_celsius(unit, v)),
        "difference": Scale(unit, lambda v: v * per, lambda v: v / per),
        "gain_per_celsius": Scale(f"% per {unit}", lambda v: v * 100.0 / per, lambda v: v / 100.0 * per),
        "clock_frequency": Scale("MHz", lambda v: v / 1e6, lambda v: v * 1e6),
        "fraction": Scale("%", lambda v: v * 100.0, lambda v: v / 100.0),
    }
    plain = Scale(QUANTITY_UNIT.get(quantity, ""), lambda v: v, lambda v: v)
    return scales.get(quantity, plain)


def plain(value: object) -> str:
    """A value as text, without a unit."""
    if value is None:
        return "none"
    if isinstance(value, bool):
        return "yes" if value else "no"
    return f"{value:.6g}" if isinstance(value, float) else str(value)


def value_and_unit(value: Any, field: FieldInfo | None, unit: TemperatureUnit) -> tuple[str, str]:
    """A setting's value as the desk shows it, and its unit."""
    if value is None or field is None:
        return plain(value), ""
    if isinstance(value, int | float) and not isinstance(value, bool) and quantity_of(field):
        scale = scale_of(quantity_of(field), unit)
        return shown_number(float(f"{scale.show(float(value)):.5g}")).replace("-", "−"), scale.unit
    return word_of(field, value), ""


def shown_number(value: float) -> str:
    """A number with the digits it needs and no more."""
    text = f"{value:.10g}"
    return f"{value:.5g}" if len(text) > 9 else text
