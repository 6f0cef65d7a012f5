"""Which settings a bench shows, under which headings, and what it shows that is several settings in the file."""

from __future__ import annotations

from typing import Any, Literal, NamedTuple, cast, get_args

from pydantic import BaseModel
from pydantic.fields import FieldInfo

from calor.design.edit import BY_HAND
from calor.design.model import BLOCK_KINDS, Design
from calor.desk.bench import probe_sections
from calor.desk.bench.probe_sections import Section
from calor.drive import driver as drivers
from calor.law.pid import Pid
from calor.sense import filters
from calor.sense.thermistor import Thermistor
from calor.settings import kind_word, quantity_of

_FAILS: Section = (
    "If something fails", "guard",
    ("probe_fault_output", "manual_at_fault", "cut_out_celsius", "cut_out_low_celsius", "watchdog_s"),
)  # fmt: skip
_LIMITS: Section = ("Limits of the setpoint", "setpoint", ("low_limit_celsius", "high_limit_celsius", "locked"))
_PASS: Section = ("What a pass is", "limits", ())
_SECOND: Section = ("Second output", "load", ("second_watt", "second_fan_w_per_k", "second_fan_watt"))
_FAN: Section = ("Fan", "load", ("fan_w_per_k", "fan_exponent", "fan_watt"))
SECTIONS: dict[tuple[str, str], tuple[Section, ...]] = {
    ("setpoint", "hold"): (("", "setpoint", ("celsius",)), _LIMITS, _PASS),
    ("setpoint", "program"): (
        ("", "setpoint", ("hold_back_celsius", "times", "end", "end_celsius")), _LIMITS, _PASS,
    ),
    ("setpoint", "day_night"): (
        ("", "setpoint", ("day_celsius", "night_celsius", "day_begins_s", "night_begins_s", "clock_at_start_s")),
        _LIMITS, _PASS,
    ),
    ("setpoint", "follow"): (
        ("", "setpoint", ("signal", "offset_celsius", "without_signal_celsius")), _LIMITS, _PASS,
    ),
    ("law", "on_off"): (
        ("", "law", ("action", "hysteresis_celsius", "placed", "start_celsius", "stop_celsius", "dead_zone_celsius")),
        ("Times", "law", ("min_on_s", "min_off_s", "period_s")),
        _FAILS,
    ),
    ("law", "pid"): (
        ("", "law", ("gain_per_celsius", "integral_time_s", "derivative_time_s", "derivative_filter",
                     "setpoint_weight", "shown_as")),
        ("Output", "law", ("action", "output_low", "output_high", "bias", "slew_per_s", "period_s", "manual_mode")),
        ("Heat and cool", "law", ("dead_zone", "cool_gain_ratio", "cool_gain_per_celsius", "cool_integral_time_s",
                                   "cool_derivative_time_s", "cool_output_high")),
        ("Integral and setpoint", "law", ("anti_windup", "integral_band_celsius", "ramp_celsius_per_s")),
        _FAILS,
    ),
    ("law", "predictive"): (
        ("Model of the load", "law", ("rise_celsius", "time_constant_s", "dead_time_s")),
        ("Pace and output", "law", ("closed_loop_s", "action", "output_low", "output_high", "period_s")),
        ("Heat and cool", "law", ("cool_rise_celsius", "cool_output_high")),
        _FAILS,
    ),
    ("law", "fan_curve"): (
        ("", "law", ("action", "follows", "start_celsius", "floor", "full_celsius", "hysteresis_celsius", "points")),
        ("As it starts and moves", "law", ("kick_s", "kick_output", "slew_per_s", "full_alarm_s", "period_s")),
        ("Second fan", "law", ("second_on_celsius", "second_off_celsius")),
        _FAILS,
    ),
    ("law", "stages"): (
        ("", "law", ("action", "hysteresis_celsius", "stage_delay_s", "rotation")),
        ("Times", "law", ("min_on_s", "min_off_s", "period_s")),
        _FAILS,
    ),
    ("law", "timer"): (("", "law", ()), _FAILS),
    ("law", "manual"): (("", "law", ()), _FAILS),
    ("load", "lump"): (
        ("", "load", ("ambient_celsius", "heater_watt", "heat_capacity_j_per_k", "loss_w_per_k", "dead_time_s",
                      "always_watt", "radiating_m2")),
        _FAN, _SECOND,
    ),
    ("load", "chamber"): (
        ("", "load", ("ambient_celsius", "heater_watt", "heater_j_per_k", "heater_to_air_w_per_k", "air_j_per_k",
                      "air_to_contents_w_per_k", "contents_j_per_k", "loss_w_per_k", "dead_time_s", "always_watt")),
        _FAN, _SECOND,
    ),
    ("load", "liquid"): (
        ("", "load", ("ambient_celsius", "heater_watt", "mass_kg", "j_per_kg_k", "vessel_j_per_k", "loss_w_per_k",
                      "dead_time_s", "second_watt")),
        ("Element", "load", ("element_j_per_k", "element_to_liquid_w_per_k")),
        ("Evaporation", "load", ("surface_m2", "air_speed_m_per_s")),
        ("Melting", "load", ("melts_at_celsius", "latent_j_per_kg", "melts_over_celsius")),
    ),
    ("load", "thermoelectric"): (
        ("", "load", ("ambient_celsius", "max_ampere", "parallel", "two_stages", "lower_ratio", "chopped")),
        ("Module", "load", ("seebeck_v_per_k", "resistance_ohm", "conductance_w_per_k")),
        ("Cold side", "load", ("cold_j_per_k", "plate_j_per_k", "always_watt", "loss_w_per_k", "dead_time_s")),
        ("Heat sink", "load", ("sink_j_per_k", "sink_w_per_k")),
    ),
}  # fmt: skip
HIDDEN = ("kind", "alarms", "format", "stages", "segments", "gain_sets", "autotune")
ONLY_BOTH_WAYS = (
    "dead_zone", "cool_gain_ratio", "cool_gain_per_celsius", "cool_integral_time_s", "cool_derivative_time_s",
    "cool_output_high", "cool_rise_celsius", "dead_zone_celsius", "cut_out_low_celsius",
)  # fmt: skip
"""Keys that only a law with an output each for heat and cool has a use for."""
SAME_DRIVE, NO_DRIVER = "same", "none"


def _choice(title: str, description: str, words: dict[str, str]) -> FieldInfo:
    """A field for a choice that is several settings in the file."""
    literal: Any = Literal[tuple(words)]
    return FieldInfo(annotation=literal, title=title, description=description, json_schema_extra={"words": {**words}})


_DRIVES = {kind: kind_word(model) for kind, model in BLOCK_KINDS["drive"].items()}
_DRIVERS = {kind: kind_word(model) for kind, model in drivers.KINDS.items()}
_MADE_UP: dict[str, FieldInfo] = {
    "filter.kind": _choice(
        "Filter", "What smooths the readings before the law sees them.",
        {kind: kind_word(model) for kind, model in filters.KINDS.items()},
    ),
    "curve": _choice(
        "Curve given by", "R25 and beta, the coefficients of Steinhart–Hart, or points.",
        {"beta": "R25 and beta", "steinhart_hart": "A, B and C", "points": "Points"},
    ),
    "knob.used": FieldInfo(annotation=bool, title="Knob", description="A knob sets the setpoint; its C is generated."),
    "button.used": FieldInfo(annotation=bool, title="Button", description="A button toggles; its C is generated."),
    "autotune.used": FieldInfo(
        annotation=bool, title="Self-tuning", description="The law can find its gains itself, by a relay test."
    ),
    "read_by": _choice(
        "Read by", "An amplifier and the converter, or a chip that gives °C as a code.",
        {"amplifier": "Amplifier", "chip": "Chip"},
    ),
    "second_drive.kind": _choice(
        "Second drive", "What switches the second output.", {SAME_DRIVE: "as the first", **_DRIVES}
    ),
    "driver.kind": _choice(
        "Parts", "What is between the pin and the load, to be worked out and checked.", {NO_DRIVER: "none", **_DRIVERS}
    ),
}  # fmt: skip
"""Choices on a bench that are several settings in the file."""


def _by_hand(design: Design) -> tuple[Section, ...]:
    """The knob and the button, with their settings where there are any."""
    found: list[Section] = []
    for part in BY_HAND:
        found.append(("Set by hand" if part == "knob" else "", "design", (f"{part}.used",)))
        settings = getattr(design, part)
        if settings is not None:
            found.append(("", part, tuple(type(settings).model_fields)))
    return tuple(found)


def _drive(design: Design) -> tuple[Section, ...]:
    """The drive, that of a second output where there is one, and the parts that drive the load."""
    found: list[Section] = [("", "drive", ())]
    if len(design.outputs) > 1 and design.law.kind != "stages":
        name = design.outputs[1]
        found.append((f"Second output: {name}", "design", ("second_drive.kind",)))
        if design.second_drive is not None:
            found.append(("", "second_drive", keys_of(BLOCK_KINDS["drive"][design.second_drive.kind])))
    found.append(("Driver", "design", ("driver.kind",)))
    if design.driver is not None:
        found.append(("", "driver", keys_of(type(design.driver))))
    return tuple(found)


def _self_tuning(law: Pid) -> tuple[str, ...]:
    """Whether the law tunes itself, and how."""
    own = () if law.autotune is None else tuple(f"autotune.{key}" for key in type(law.autotune).model_fields)
    return ("autotune.used", *own)


def sections_of(design: Design, block: str) -> tuple[Section, ...]:
    """The headings and keys that a block's bench shows."""
    settings = getattr(design, block)
    if block == "probe":
        return probe_sections.sections(settings)
    if block == "drive":
        return _drive(design)
    sections = SECTIONS.get((block, getattr(settings, "kind", "")), (("", block, ()),))
    if block == "setpoint":
        if getattr(design.setpoint, "end", "") not in ("", "fall_to"):
            sections = tuple(
                (head, part, tuple(key for key in keys if key != "end_celsius")) for head, part, keys in sections
            )
        return (*sections, *_by_hand(design))
    if block == "law":
        useless = () if design.law.action == "heat_cool" else ONLY_BOTH_WAYS
        if not getattr(design.law, "manual_mode", False):
            useless = (*useless, "manual_at_fault")
        kept = [
            (heading, part, tuple(key for key in keys if key not in useless)) if keys else (heading, part, keys)
            for heading, part, keys in sections
        ]
        shown = [section for section, whole in zip(kept, sections, strict=True) if section[2] or not whole[2]]
        if isinstance(design.law, Pid):
            shown.insert(-1, ("Self-tuning", "law", _self_tuning(design.law)))
        return tuple(shown)
    return sections


class Setting(NamedTuple):
    """A setting that a bench shows: of the block as it is, or of a `kind` that it might be of."""

    kind: str
    part: str
    key: str
    title: str


def every_setting(design: Design, block: str) -> list[Setting]:
    """All settings of a block's bench, those of the kinds that are not chosen among them."""
    settings: list[Setting] = []
    for _, part, keys in sections_of(design, block):
        owner = design if part == "design" else getattr(design, part)
        titles = {key: field_of(owner, key).title or key for key in keys or keys_of(type(owner))}
        settings += [Setting("", part, key, title) for key, title in titles.items()]
    now = getattr(design, block).kind
    for kind, model in BLOCK_KINDS[block].items():
        if kind in (now, "code"):
            continue
        listed = [key for _, part, keys in SECTIONS.get((block, kind), ()) if part == block for key in keys]
        for key in listed or keys_of(model):
            field = model.model_fields[key]
            if quantity_of(field) or get_args(field.annotation) or field.annotation is bool:
                settings.append(Setting(kind, block, key, field.title or key))
    return settings


def field_of(settings: BaseModel, key: str) -> FieldInfo:
    """A field by its key, which may lead into a part, as in "adc.bits"."""
    if key in _MADE_UP:
        return _MADE_UP[key]
    part: Any = settings
    *path, last = key.split(".")
    for name in path:
        part = getattr(part, name)
    found: FieldInfo = type(part).model_fields[last]
    return found


def value_of(settings: BaseModel, key: str) -> Any:
    """A setting's value by its key."""
    if key == "curve":
        return probe_sections.curve_given(cast("Thermistor", settings))
    if key == "read_by":
        return "amplifier" if getattr(settings, "converter_celsius_per_code", None) is None else "chip"
    if key in ("knob.used", "button.used", "autotune.used"):
        return getattr(settings, key.split(".", maxsplit=1)[0]) is not None
    if key in ("second_drive.kind", "driver.kind"):
        part = getattr(settings, key.split(".", maxsplit=1)[0])
        return getattr(part, "kind", SAME_DRIVE if key.startswith("second") else NO_DRIVER)
    value: Any = settings
    for name in key.split("."):
        value = getattr(value, name)
    return value


def keys_of(model: type[BaseModel]) -> tuple[str, ...]:
    """All keys of a block that a form shows."""
    return tuple(key for key in model.model_fields if key not in HIDDEN)
