"""Sensor that gives a voltage in a straight line: v = volt_at_0_celsius + volt_per_celsius·t.

10 mV/°C is usual, with 0.5 V at 0 °C where it is to read below it (common practice).
"""

from __future__ import annotations

import math
from typing import Literal, NamedTuple, Self

from pydantic import model_validator

from calor.compiled import compiled
from calor.sense.adc import AdcNumbers, ScaleEnds
from calor.sense.mounting import CONVERTER, OPEN, SHORT, Mounted, Tolerance, converter
from calor.settings import choice, difference, number
from calor.units import TemperatureUnit


class AnalogVoltage(Mounted):
    """Sensor whose voltage follows the temperature."""

    kind: Literal["analog_voltage"] = choice(
        "analog_voltage", "Probe", "Sensor that gives a voltage.", words={"analog_voltage": "Voltage"}
    )
    volt_at_0_celsius: float = number(0.5, "Voltage at 0 °C", "0 and 0.5 V are usual.", "volt", -30.0, 30.0)
    volt_per_celsius: float = number(
        0.01, "Slope", "Voltage per °C; 0.01 is usual, below 0 where it falls.", "volt_per_celsius", -1.0, 1.0
    )
    tolerance_celsius: float = difference(1.0, "Tolerance", "Tolerance of the sensor, from its data sheet.", 0.0, 50.0)
    adc: CONVERTER = converter()

    @model_validator(mode="after")
    def _slope(self) -> Self:
        if abs(self.volt_per_celsius) < 1e-6:
            raise ValueError(
                f"volt_per_celsius must be at least 1e-6 above or below 0 (received {self.volt_per_celsius:g});"
                " 0.01 is usual"
            )
        return self


class AnalogVoltageNumbers(NamedTuple):
    """The sensor as the kernel sees it."""

    volt_at_0_celsius: float
    volt_per_celsius: float
    supply_volt: float
    reference_volt: float


def numbers(settings: AnalogVoltage) -> AnalogVoltageNumbers:
    """The settings as plain numbers."""
    supply_volt = max(settings.adc.divider_volt, settings.adc.reference_volt)
    return AnalogVoltageNumbers(
        settings.volt_at_0_celsius, settings.volt_per_celsius, supply_volt, settings.adc.reference_volt
    )


@compiled
def celsius_to_quantity(probe: AnalogVoltageNumbers, celsius: float) -> float:
    """Voltage in V at `celsius`."""
    return probe.volt_at_0_celsius + probe.volt_per_celsius * celsius


@compiled
def quantity_to_celsius(probe: AnalogVoltageNumbers, volt: float) -> float:
    """Temperature in °C at which the sensor gives `volt`."""
    return (volt - probe.volt_at_0_celsius) / probe.volt_per_celsius


@compiled
def celsius_to_volt(probe: AnalogVoltageNumbers, celsius: float, wiring: int) -> float:
    """Voltage at the converter; pulled to ground where a wire is off, to the supply where it is shorted to it."""
    if wiring == OPEN:
        return 0.0
    if wiring == SHORT:
        return probe.supply_volt
    return celsius_to_quantity(probe, celsius)


@compiled
def share_to_celsius(probe: AnalogVoltageNumbers, share: float) -> float:
    """Temperature the firmware reads from a share of the converter's scale."""
    return quantity_to_celsius(probe, share * probe.reference_volt)


def open_reads_high(settings: AnalogVoltage) -> bool:
    """Whether a wire that is off drives the code up."""
    del settings
    return False


def fault_ends(
    settings: AnalogVoltage, own: AnalogVoltageNumbers, scale: AdcNumbers, ends: ScaleEnds
) -> tuple[float, float]:
    """Codes below and above which it is taken for open or shorted."""
    del own, scale
    low = ends.bottom + ends.margin if settings.volt_at_0_celsius > 0.0 else -math.inf
    return low, ends.top - 1.0


def tolerances(settings: AnalogVoltage) -> tuple[Tolerance, ...]:
    """What may be off beside the sensor's own tolerance: nothing."""
    del settings
    return ()


def class_error(settings: AnalogVoltage) -> tuple[float, float, float]:
    """Floor, base and share of the temperature of the sensor's tolerance, °C."""
    return settings.tolerance_celsius, 0.0, 0.0


def title(settings: AnalogVoltage) -> str:
    """What it is, in a few words."""
    return f"Analog {settings.volt_per_celsius * 1e3:.4g} mV/°C"


def consequences(settings: AnalogVoltage, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    del unit
    volt = float(celsius_to_quantity(numbers(settings), setpoint_celsius))
    inside = 0.0 <= volt <= settings.adc.reference_volt
    return {"volt_per_celsius": f"{volt:.3f} V at the setpoint{'' if inside else ': outside the converter'}."}


QUANTITY = "volt"
