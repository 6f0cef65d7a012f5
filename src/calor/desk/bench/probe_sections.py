"""Which settings of a probe its bench shows: those of its kind, its circuit, its filter, and no others."""

from __future__ import annotations

from typing import Any

from calor.sense.filters import MeanFilter, MedianFilter
from calor.sense.mounting import Mounted
from calor.sense.registry import AnyProbe, has_converter
from calor.sense.rtd import Rtd
from calor.sense.thermistor import Thermistor
from calor.sense.thermocouple import Thermocouple

Section = tuple[str, str, tuple[str, ...]]
"""Heading, the part of the design, and the keys shown (all of its own where empty)."""

_CIRCUIT = {
    "divider": ("series_ohm", "placed"),
    "current": ("excitation_microampere", "amplifier_gain"),
    "bridge": ("series_ohm", "reference_ohm", "amplifier_gain"),
    "ratiometric": ("reference_ohm", "amplifier_gain"),
}
_OWN: dict[str, tuple[str, ...]] = {
    "analog_voltage": ("volt_at_0_celsius", "volt_per_celsius"),
    "analog_current": ("microampere_per_kelvin", "load_ohm"),
    "digital": ("celsius_per_code", "bits", "signed", "word_shift", "fault_mask"),
}
_TOLERANCES: dict[str, tuple[str, ...]] = {
    "thermistor": (
        "r25_tolerance_fraction",
        "beta_tolerance_fraction",
        "series_tolerance_fraction",
        "dissipation_w_per_k",
    ),
    "analog_voltage": ("tolerance_celsius",),
    "analog_current": ("tolerance_celsius", "load_tolerance_fraction"),
    "digital": ("tolerance_celsius",),
}


def curve_given(probe: Thermistor) -> str:
    """How a thermistor's curve is given."""
    return "steinhart_hart" if probe.steinhart_hart is not None else "points" if probe.points is not None else "beta"


def _own(probe: AnyProbe) -> tuple[str, ...]:
    if isinstance(probe, Thermistor):
        curve = {"beta": ("r25_ohm", "beta_kelvin"), "steinhart_hart": ("steinhart_hart",), "points": ("points",)}
        return ("curve", *curve[curve_given(probe)], "series_ohm", "placed")
    if isinstance(probe, Rtd):
        return ("r0_ohm", "circuit", *_CIRCUIT[probe.circuit], "wires", "lead_ohm")
    if isinstance(probe, Thermocouple):
        if probe.converter_celsius_per_code is not None:
            chip = ("converter_celsius_per_code", "converter_bits", "word_shift", "fault_mask")
            return ("letter", "read_by", "cold_junction_celsius", *chip)
        return ("letter", "read_by", "cold_junction_celsius", "amplifier_gain", "amplifier_offset_volt")
    shared = {*Mounted.model_fields, "kind", "adc"}
    return _OWN.get(probe.kind, tuple(key for key in type(probe).model_fields if key not in shared))


def _tolerances(probe: AnyProbe) -> tuple[str, ...]:
    if isinstance(probe, Rtd):
        keys: tuple[str, ...] = ("tolerance_class",)
        keys += ("excitation_tolerance_fraction",) if probe.circuit == "current" else ("series_tolerance_fraction",)
        keys += ("amplifier_gain_tolerance_fraction",) if probe.circuit != "divider" else ()
        keys += ("lead_mismatch_fraction",) if probe.wires == 3 else ()
        return (*keys, "dissipation_w_per_k")
    if isinstance(probe, Thermocouple):
        keys = ("tolerance_class", "cold_junction_tolerance_celsius")
        chip = probe.converter_celsius_per_code is not None
        return keys if chip else (*keys, "amplifier_gain_tolerance_fraction", "amplifier_drift_microvolt")
    return _TOLERANCES.get(probe.kind, ())


def sections(probe: AnyProbe) -> tuple[Section, ...]:
    """The headings and keys of a probe's bench."""
    filter_keys: tuple[str, ...] = ("filter.kind",)
    if isinstance(probe.filter, MeanFilter | MedianFilter):
        filter_keys += ("filter.readings",)
    elif probe.filter.kind == "exponential":
        filter_keys += ("filter.time_constant_s",)
    found: list[Section] = []
    own = _own(probe)
    if own:
        found.append(("", "probe", own))
    if has_converter(probe):
        voltage = ("adc.bits", "adc.reference_volt", "adc.divider_volt", "adc.divide_by", "adc.oversampling")
        found.append(("Converter", "probe", voltage))
    found += [
        ("Mounting", "probe", ("time_constant_s", "noise_celsius", "offset_celsius")),
        ("Filter", "probe", filter_keys),
    ]
    tolerances = _tolerances(probe)
    if tolerances:
        found.append(("Tolerances", "probe", tolerances))
    if has_converter(probe):
        errors = (
            "adc.gain_error_fraction", "adc.offset_error_counts", "adc.noise_counts", "adc.input_low_volt",
            "adc.input_high_volt", "adc.reference_tolerance_fraction",
        )  # fmt: skip
        found.append(("What the converter does wrong", "probe", errors))
    watched: tuple[str, ...] = (
        "checks.low_celsius",
        "checks.high_celsius",
        "checks.fastest_celsius_per_s",
        "checks.stuck_s",
    )
    if isinstance(probe, Thermocouple):
        watched += ("checks.reversed_celsius",)
    found += [("Taken for a fault", "probe", watched), ("Calibration", "probe", ("correction",))]
    return tuple(found)


def choices_made(probe: AnyProbe) -> tuple[Any, ...]:
    """What decides which settings are shown: where it changes, the bench is made anew."""
    return tuple(sections(probe))
