"""Sensor that gives a current in proportion to the absolute temperature, into a load resistor.

i = slope·T, T in kelvin; 1 µA/K is usual (common practice). 1 kΩ then gives 273.15 mV at 0 °C.
"""

from __future__ import annotations

from typing import Literal, NamedTuple

from calor.compiled import compiled
from calor.sense.adc import AdcNumbers, ScaleEnds
from calor.sense.mounting import CONVERTER, OPEN, SHORT, Mounted, Tolerance, converter
from calor.settings import choice, difference, fraction, number
from calor.units import ABSOLUTE_ZERO_CELSIUS, TemperatureUnit


class AnalogCurrent(Mounted):
    """Sensor whose current follows the absolute temperature."""

    kind: Literal["analog_current"] = choice(
        "analog_current", "Probe", "Sensor that gives a current.", words={"analog_current": "Current"}
    )
    microampere_per_kelvin: float = number(
        1.0,
        "Slope",
        "Current per kelvin of absolute temperature; 1 µA/K is usual.",
        "microampere_per_kelvin",
        0.001,
        1000.0,
    )
    load_ohm: float = number(1000.0, "Load resistor", "The current flows through it.", "ohm", 1.0, 1e7)
    tolerance_celsius: float = difference(1.0, "Tolerance", "Tolerance of the sensor, from its data sheet.", 0.0, 50.0)
    load_tolerance_fraction: float = fraction(0.01, "Resistor tolerance", "Tolerance of the load resistor.", 0.0, 0.5)
    adc: CONVERTER = converter()


class AnalogCurrentNumbers(NamedTuple):
    """The sensor and its load resistor as the kernel sees them."""

    microampere_per_kelvin: float
    load_ohm: float
    supply_volt: float
    kelvin_per_scale: float


def numbers(settings: AnalogCurrent) -> AnalogCurrentNumbers:
    """The settings as plain numbers."""
    supply_volt = max(settings.adc.divider_volt, settings.adc.reference_volt)
    kelvin_per_scale = settings.adc.reference_volt / (settings.load_ohm * settings.microampere_per_kelvin * 1e-6)
    return AnalogCurrentNumbers(settings.microampere_per_kelvin, settings.load_ohm, supply_volt, kelvin_per_scale)


@compiled
def celsius_to_quantity(probe: AnalogCurrentNumbers, celsius: float) -> float:
    """Current in µA at `celsius`."""
    return probe.microampere_per_kelvin * (celsius - ABSOLUTE_ZERO_CELSIUS)


@compiled
def quantity_to_celsius(probe: AnalogCurrentNumbers, microampere: float) -> float:
    """Temperature in °C at which the sensor gives `microampere`."""
    return microampere / probe.microampere_per_kelvin + ABSOLUTE_ZERO_CELSIUS


@compiled
def celsius_to_volt(probe: AnalogCurrentNumbers, celsius: float, wiring: int) -> float:
    """Voltage across the load resistor; nothing flows where a wire is off, the whole supply where it is shorted."""
    if wiring == OPEN:
        return 0.0
    if wiring == SHORT:
        return probe.supply_volt
    return celsius_to_quantity(probe, celsius) * 1e-6 * probe.load_ohm


@compiled
def share_to_celsius(probe: AnalogCurrentNumbers, share: float) -> float:
    """Temperature the firmware reads from a share of the converter's scale."""
    return share * probe.kelvin_per_scale + ABSOLUTE_ZERO_CELSIUS


def open_reads_high(settings: AnalogCurrent) -> bool:
    """Whether a wire that is off drives the code up."""
    del settings
    return False


def fault_ends(
    settings: AnalogCurrent, own: AnalogCurrentNumbers, scale: AdcNumbers, ends: ScaleEnds
) -> tuple[float, float]:
    """Codes below and above which it is taken for open or shorted."""
    del settings, own, scale
    return ends.bottom + ends.margin, ends.top - 1.0


def tolerances(settings: AnalogCurrent) -> tuple[Tolerance, ...]:
    """What may be off beside the sensor's own tolerance: the load resistor."""

    def load(own: AnalogCurrentNumbers, share: float) -> AnalogCurrentNumbers:
        return own._replace(load_ohm=own.load_ohm * (1.0 + share * settings.load_tolerance_fraction))

    return (Tolerance("load resistor", load),)


def class_error(settings: AnalogCurrent) -> tuple[float, float, float]:
    """Floor, base and share of the temperature of the sensor's tolerance, °C."""
    return settings.tolerance_celsius, 0.0, 0.0


def title(settings: AnalogCurrent) -> str:
    """What it is, in a few words."""
    return f"Analog {settings.microampere_per_kelvin:.4g} µA/K"


def consequences(settings: AnalogCurrent, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    del unit
    volt = float(celsius_to_volt(numbers(settings), setpoint_celsius, 0))
    inside = volt <= settings.adc.reference_volt
    return {"load_ohm": f"{volt * 1e3:.1f} mV at the setpoint{'' if inside else ': outside the converter'}."}


QUANTITY = "microampere"
