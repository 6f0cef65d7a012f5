"""What the settings of every block are made of: a frozen model, and fields that carry unit and range.

A field's quantity says how it is shown and converted; its bounds are the admissible range; its description
is the hint beside it on the desk and the text in the generated reference.
"""

from __future__ import annotations

from types import ModuleType
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field
from pydantic.fields import FieldInfo

Quantity = Literal[
    "temperature", "difference", "gain_per_celsius", "duration", "fraction", "number", "integer", "ohm", "kelvin",
    "watt", "j_per_k", "w_per_k", "volt", "hertz", "cycles",
    "volt_per_celsius", "microampere", "microampere_per_kelvin", "celsius_per_s", "celsius_per_min",
    "microvolt", "kilogram", "j_per_kg_k", "j_per_kg", "square_metre", "metre_per_s", "volt_per_kelvin", "ampere",
    "kelvin_per_watt", "frequency", "clock_frequency",
]  # fmt: skip

QUANTITY_UNIT: dict[str, str] = {
    "temperature": "°C", "difference": "°C", "gain_per_celsius": "fraction per °C", "duration": "s",
    "fraction": "fraction 0 to 1", "number": "", "integer": "", "ohm": "Ω", "kelvin": "K", "watt": "W",
    "j_per_k": "J/K", "w_per_k": "W/K", "volt": "V", "hertz": "Hz", "cycles": "cycles",
    "volt_per_celsius": "V/°C", "microampere": "µA", "microampere_per_kelvin": "µA/K",
    "celsius_per_s": "°C/s", "celsius_per_min": "°C/min",
    "microvolt": "µV", "kilogram": "kg", "j_per_kg_k": "J/(kg·K)", "j_per_kg": "J/kg", "square_metre": "m²",
    "metre_per_s": "m/s", "volt_per_kelvin": "V/K", "ampere": "A", "kelvin_per_watt": "K/W",
    "frequency": "Hz", "clock_frequency": "Hz",
}  # fmt: skip


class Settings(BaseModel):
    """Settings of one block: immutable, checked when made, no key that is not named."""

    model_config = ConfigDict(frozen=True, extra="forbid", strict=True, allow_inf_nan=False, defer_build=True)


def number(
    default: Any,
    title: str,
    hint: str,
    quantity: Quantity,
    low: float | None = None,
    high: float | None = None,
    above: float | None = None,
) -> Any:
    """A numeric field: default, short title, one-line hint, quantity and admissible range.

    `low` and `high` are admissible themselves; `above` is not. A default of `...` makes the key required.
    """
    return Field(
        default, title=title, description=hint, ge=low, le=high, gt=above, json_schema_extra={"quantity": quantity}
    )


def temperature(default: Any, title: str, hint: str, low: float = -273.15, high: float = 3000.0) -> Any:
    """An absolute temperature in °C."""
    return number(default, title, hint, "temperature", low, high)


def difference(default: Any, title: str, hint: str, low: float = 0.0, high: float = 1000.0) -> Any:
    """A temperature difference in °C."""
    return number(default, title, hint, "difference", low, high)


def duration(default: Any, title: str, hint: str, low: float = 0.0, high: float = 1e7) -> Any:
    """A time in seconds."""
    return number(default, title, hint, "duration", low, high)


def fraction(default: Any, title: str, hint: str, low: float = 0.0, high: float = 1.0) -> Any:
    """A share of full output."""
    return number(default, title, hint, "fraction", low, high)


def choice(default: Any, title: str, hint: str, words: dict[str, str] | None = None) -> Any:
    """One of the words its type lists; `words` says how each is shown, where that is not the word itself."""
    return Field(default, title=title, description=hint, json_schema_extra={"words": dict(words or {})})


def word_of(field: FieldInfo, value: object) -> str:
    """A choice of a field as it is shown."""
    extra = field.json_schema_extra
    words = extra.get("words", {}) if isinstance(extra, dict) else {}
    plain = {True: "yes", False: "no"}.get(value) if isinstance(value, bool) else None
    return plain or str(words.get(value) if isinstance(words, dict) and value in words else value).replace("_", " ")


def kind_word(model: type[BaseModel]) -> str:
    """What a kind of block, event or part is called."""
    field = model.model_fields["kind"]
    return word_of(field, field.default)


def settings_of(module: ModuleType) -> type[Settings]:
    """The settings of a kind of block: those in its module whose kind is the module's name."""
    name = module.__name__.rpartition(".")[2]
    for settings in vars(module).values():
        is_one = isinstance(settings, type) and issubclass(settings, Settings) and "kind" in settings.model_fields
        if is_one and settings.model_fields["kind"].default == name:
            own: type[Settings] = settings
            return own
    raise LookupError(f"{module.__name__}: no settings whose kind is {name!r}")


def kinds_of(modules: tuple[ModuleType, ...]) -> dict[str, tuple[type[Any], ModuleType]]:
    """The kinds of a family by name: settings and module of each."""
    return {module.__name__.rpartition(".")[2]: (settings_of(module), module) for module in modules}


def quantity_of(field: FieldInfo) -> str:
    """The quantity a field was declared with; empty for words and text."""
    extra = field.json_schema_extra
    return str(extra.get("quantity", "")) if isinstance(extra, dict) else ""


def bounds_of(field: FieldInfo) -> tuple[float, float, bool]:
    """Lowest and highest admissible value of a numeric field, and whether the lowest itself is left out."""
    low, high, open_low = float("-inf"), float("inf"), False
    for rule in field.metadata:
        if getattr(rule, "ge", None) is not None:
            low = float(rule.ge)
        if getattr(rule, "gt", None) is not None:
            low, open_low = float(rule.gt), True
        if getattr(rule, "le", None) is not None:
            high = float(rule.le)
    return low, high, open_low


def ordered_fields(model: type[BaseModel]) -> dict[str, FieldInfo]:
    """A model's fields as they are written and shown: its kind, its own, then those it shares with others."""
    keys = [key for key in model.model_fields if key in model.__annotations__]
    shared = [key for key in model.model_fields if key not in keys]
    return {key: model.model_fields[key] for key in keys + shared}
