"""All probes in one place: the settings of a design's [probe], and their numbers as the kernel takes them.

A probe has two sides. The hardware turns a temperature into a code; the firmware turns the code back, by the numbers
it believes in. Both sides are numbers of one shape, so that either can be changed alone: a tolerance on the hardware's
side, a calibration on the firmware's.
"""

from __future__ import annotations

import math
from functools import lru_cache
from types import ModuleType
from typing import TYPE_CHECKING, Annotated, Any, NamedTuple, Union

import numpy as np
from pydantic import Field

from calor.compiled import family
from calor.sense import (
    adc,
    analog_current,
    analog_voltage,
    calibration,
    checks,
    digital,
    filters,
    ideal,
    rtd,
    steinhart_hart,
    thermistor,
    thermocouple,
)
from calor.sense.adc import AdcNumbers
from calor.sense.calibration import CorrectionNumbers
from calor.sense.checks import CheckNumbers
from calor.sense.digital import CodeNumbers, Digital
from calor.sense.filters import FilterNumbers
from calor.sense.mounting import NO_ERROR, OwnError
from calor.sense.rtd import Rtd
from calor.sense.thermistor import Thermistor
from calor.sense.thermocouple import Thermocouple
from calor.settings import kinds_of

PROBES: tuple[ModuleType, ...] = (
    thermistor, rtd, thermocouple, analog_voltage, analog_current, digital, ideal,
)  # fmt: skip
"""All probes, in the order in which they are offered."""
KINDS = kinds_of(PROBES)
ANALOG: dict[str, ModuleType] = {
    kind: module for kind, (_, module) in KINDS.items() if hasattr(module, "celsius_to_volt")
}
"""Probes that give a voltage, which a converter reads."""
IDEAL, THERMOCOUPLE = list(KINDS).index("ideal"), list(KINDS).index("thermocouple")

if TYPE_CHECKING:
    from calor.sense.analog_current import AnalogCurrent
    from calor.sense.analog_voltage import AnalogVoltage
    from calor.sense.ideal import IdealProbe

    AnyProbe = Thermistor | Rtd | Thermocouple | AnalogVoltage | AnalogCurrent | Digital | IdealProbe

    class Side(NamedTuple):
        """One side of a probe: what it is, or what the firmware takes it for. Only its kind's numbers are looked at:
        those of each, by its name."""

        adc: AdcNumbers

        def __getattr__(self, name: str) -> Any: ...

else:
    AnyProbe = Union[tuple(settings for settings, _ in KINDS.values())]  # noqa: UP007 - of a list that is written once
    Side = family.record(
        "Side", __name__, {**{kind: family.made_by(m.numbers) for kind, m in ANALOG.items()}, "adc": AdcNumbers}
    )
Probe = Annotated[AnyProbe, Field(discriminator="kind")]


class ProbeNumbers(NamedTuple):
    """Any probe as the kernel sees it."""

    kind: int
    time_constant_s: float
    offset_celsius: float
    own_error: OwnError
    hardware: Side
    firmware: Side
    gives_code: bool
    code: CodeNumbers
    open_reads_high: bool
    fault_below_counts: float
    fault_above_counts: float
    correction: CorrectionNumbers
    checks: CheckNumbers
    filter: FilterNumbers


def with_own(side: Side, kind: str, own: Any) -> Side:
    """A side with other numbers of one kind of probe."""
    return side._replace(**{kind: own})


def module_of(settings: AnyProbe) -> Any:
    """The module of a probe's kind."""
    return KINDS[settings.kind][1]


def has_converter(settings: AnyProbe) -> bool:
    """Whether an analog to digital converter reads it."""
    return settings.kind in ANALOG and not gives_code(settings)


def gives_code(settings: AnyProbe) -> bool:
    """Whether it gives its temperature as a number, without volts that matter here."""
    chip = isinstance(settings, Thermocouple) and settings.converter_celsius_per_code is not None
    return chip or isinstance(settings, Digital)


def _side(settings: AnyProbe) -> Side:
    every: dict[str, Any] = {
        kind: module.numbers(settings if settings.kind == kind else KINDS[kind][0]()) for kind, module in ANALOG.items()
    }
    return Side(adc=adc.numbers(getattr(settings, "adc", adc.Adc())), **every)


def _code(settings: AnyProbe) -> CodeNumbers:
    if isinstance(settings, Thermocouple) and settings.converter_celsius_per_code is not None:
        return digital.code_numbers(settings.converter_celsius_per_code, settings.converter_bits, True)
    return digital.numbers(settings if isinstance(settings, Digital) else Digital())


@lru_cache(maxsize=64)
def numbers(settings: AnyProbe) -> ProbeNumbers:
    """The settings of any probe as plain numbers: the hardware without tolerances, the firmware calibrated."""
    firmware = _side(settings)
    # what the firmware does not know of: errors of the converter, and the leads
    firmware = firmware._replace(adc=firmware.adc._replace(gain=1.0, offset_counts=0.0))
    hardware = _side(settings)
    if isinstance(settings, Rtd):
        hardware = with_own(hardware, "rtd", rtd.with_leads(settings, hardware.rtd))
    kind = list(KINDS).index(settings.kind)
    below, above = _fault_ends(settings, firmware)
    junction = settings.cold_junction_celsius if isinstance(settings, Thermocouple) else None
    firmware, correction = calibrated(settings, firmware)
    high = getattr(module_of(settings), "open_reads_high", None)
    return ProbeNumbers(
        kind,
        settings.time_constant_s,
        settings.offset_celsius,
        NO_ERROR,
        hardware,
        firmware,
        gives_code(settings),
        _code(settings),
        high is not None and bool(high(settings)),
        below,
        above,
        correction,
        checks.numbers(settings.checks, junction),
        filters.numbers(settings.filter),
    )


def _fault_ends(settings: AnyProbe, side: Side) -> tuple[float, float]:
    """Codes below and above which the probe is taken for open or shorted."""
    if not has_converter(settings):
        return -np.inf, np.inf
    module = module_of(settings)
    codes, volt = side.adc.codes, side.adc.reference_volt
    # an input that clips, or a divider fed from less than the reference, never reaches the last codes
    ceiling = min(side.adc.input_high_volt, getattr(module, "ceiling_volt", lambda _: np.inf)(settings))
    top = min(codes - 1.0, float(math.floor(codes * ceiling / volt)))
    bottom = float(math.floor(codes * side.adc.input_low_volt / volt))
    margin = float(max(1, int((top + 1.0) * adc.FAULT_SHARE)))
    ends = getattr(module, "fault_ends", None)
    if ends is None:
        return bottom + margin, top - margin
    below, above = ends(settings, getattr(side, settings.kind), side.adc, adc.ScaleEnds(bottom, top, margin))
    return float(below), float(above)


def celsius_range(settings: AnyProbe) -> tuple[float, float]:
    """Temperatures that the kind of probe can be read back over, °C."""
    module = module_of(settings)
    limits = getattr(module, "celsius_range", None)
    low, high = limits(settings) if limits is not None else (
        getattr(module, "LOW_CELSIUS", -273.0), getattr(module, "HIGH_CELSIUS", 2000.0)
    )  # fmt: skip
    return float(low), float(high)


def calibrated(settings: AnyProbe, firmware: Side) -> tuple[Side, CorrectionNumbers]:
    """The firmware with the calibration in it: a curve of its own for a thermistor, else a correction."""
    points = settings.calibration
    kind = calibration.kind_of(settings.correction, len(points))
    if kind == "none":
        return firmware, calibration.NOTHING
    readings = np.array([point.reading_celsius for point in points])
    truth = np.array([point.true_celsius for point in points])
    if kind == "curve" and isinstance(settings, Thermistor):
        own = firmware.thermistor
        ohm = np.array([float(thermistor.celsius_to_quantity(own, reading)) for reading in readings])
        try:
            fitted = steinhart_hart.coefficients(truth, ohm)
        except ValueError:
            # points that no thermistor's curve goes through are corrected by a parabola, as any other probe's
            return firmware, calibration.fit(readings, truth, kind)
        a0, a1, a2, a3 = thermistor.about(fitted, own.reference_ohm)
        return with_own(firmware, "thermistor", own._replace(a0=a0, a1=a1, a2=a2, a3=a3)), calibration.NOTHING
    return firmware, calibration.fit(readings, truth, kind)
