"""Error budget: how wrong a reading may be at a temperature, cause by cause, and a draw of all tolerances.

Each cause alone is turned up to its tolerance in the hardware while the firmware goes on believing the nominal value;
what that moves the reading is its contribution. Worst case is their sum, root-sum-square what independent causes come
to (common practice; JCGM 100 combines uncertainties alike). A calibration is made again with the cause in it, so a
budget shows what the calibration takes out.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

import numpy as np

from calor.compiled import Column
from calor.sense import adc, registry, sweep
from calor.sense.mounting import OwnError, Tolerance
from calor.sense.registry import AnyProbe, ProbeNumbers
from calor.sense.rtd import Rtd
from calor.sense.thermistor import Thermistor

REFERENCE, SUPPLY = "reference voltage", "supply of the probe"


class Contribution(NamedTuple):
    """What one cause may move a reading by, °C, at least 0."""

    cause: str
    celsius: float


class Budget(NamedTuple):
    """How wrong a reading at `celsius` may be; the largest contribution first."""

    celsius: float
    contributions: tuple[Contribution, ...]
    worst_case_celsius: float
    rss_celsius: float


class Cause(NamedTuple):
    """One thing that may be off: `change` puts a share of it, −1 to 1 (0 to 1 where it is one-way), into a probe.

    `drawn`: a property of the part, that a draw varies. `calibrated_out`: the same in every reading, so that a
    calibration sees it. `nominal`: the share that the design itself has of it. `of_converter`: not of the probe.
    """

    name: str
    change: Callable[[ProbeNumbers, float], ProbeNumbers]
    one_way: bool = False
    drawn: bool = True
    calibrated_out: bool = True
    nominal: float = 0.0
    of_converter: bool = False


def ideal(settings: AnyProbe) -> ProbeNumbers:
    """The probe with nothing wrong with it and no calibration: hardware and firmware alike."""
    plain = registry.numbers(settings.model_copy(update={"calibration": (), "offset_celsius": 0.0}))
    side = plain.firmware._replace(adc=plain.firmware.adc._replace(divisor=plain.firmware.adc.codes))
    return plain._replace(hardware=side, firmware=side)


def _own(tolerance: Tolerance, kind: str) -> Cause:
    def change(probe: ProbeNumbers, share: float) -> ProbeNumbers:
        own = tolerance.change(getattr(probe.hardware, kind), share)
        return probe._replace(hardware=probe.hardware._replace(**{kind: own}))

    return Cause(tolerance.cause, change, tolerance.one_way)


def _sensor(settings: AnyProbe) -> list[Cause]:
    """The sensor's own tolerance, where its kind has a class."""
    class_error = getattr(registry.module_of(settings), "class_error", None)
    if class_error is None:
        return []
    floor, base, slope = class_error(settings)

    def change(probe: ProbeNumbers, share: float) -> ProbeNumbers:
        return probe._replace(own_error=OwnError(share, floor, base, slope))

    return [Cause("sensor tolerance", change)]


def _converter(settings: AnyProbe) -> list[Cause]:
    """Reference, supply, gain, offset, division and rounding of the converter."""
    converter: adc.Adc = getattr(settings, "adc", adc.Adc())
    voltage = converter.reference_tolerance_fraction
    fed = isinstance(settings, Thermistor) or (isinstance(settings, Rtd) and settings.circuit in ("divider", "bridge"))
    own = settings.kind

    def on_adc(probe: ProbeNumbers, **values: Any) -> ProbeNumbers:
        return probe._replace(hardware=probe.hardware._replace(adc=probe.hardware.adc._replace(**values)))

    def reference(probe: ProbeNumbers, share: float) -> ProbeNumbers:
        return on_adc(probe, reference_volt=probe.hardware.adc.reference_volt * (1.0 + share * voltage))

    def supply(probe: ProbeNumbers, share: float) -> ProbeNumbers:
        block = getattr(probe.hardware, own)
        fed_with = block._replace(supply_volt=block.supply_volt * (1.0 + share * voltage))
        return probe._replace(hardware=probe.hardware._replace(**{own: fed_with}))

    def gain(probe: ProbeNumbers, share: float) -> ProbeNumbers:
        return on_adc(probe, gain=1.0 + share * converter.gain_error_fraction)

    def offset(probe: ProbeNumbers, share: float) -> ProbeNumbers:
        return on_adc(probe, offset_counts=probe.hardware.adc.offset_counts + share * converter.offset_error_counts)

    def rounding(probe: ProbeNumbers, share: float) -> ProbeNumbers:
        lost = share * adc.quantisation_counts(converter)
        return on_adc(probe, offset_counts=probe.hardware.adc.offset_counts - lost)

    def division(probe: ProbeNumbers, share: float) -> ProbeNumbers:
        own_adc = probe.firmware.adc
        return probe._replace(firmware=probe.firmware._replace(adc=own_adc._replace(divisor=own_adc.codes - share)))

    listed = []
    cancels = (fed and converter.ratiometric) or (isinstance(settings, Rtd) and settings.circuit == "ratiometric")
    if voltage and not cancels:
        listed.append(Cause(REFERENCE, reference, of_converter=True))
        if fed:
            listed.append(Cause(SUPPLY, supply, of_converter=True))
    if converter.gain_error_fraction:
        listed.append(Cause("converter gain", gain, nominal=1.0, of_converter=True))
    if converter.offset_error_counts:
        listed.append(Cause("converter offset", offset, nominal=1.0, of_converter=True))
    if converter.divide_by == "2^n-1":
        listed.append(Cause("division by 2^n-1", division, one_way=True, drawn=False))
    listed.append(Cause("quantisation", rounding, one_way=True, drawn=False, calibrated_out=False))
    return listed


def causes(settings: AnyProbe) -> list[Cause]:
    """Everything that may be off with a probe, in the order of the signal."""
    listed = _sensor(settings)
    tolerances: tuple[Tolerance, ...] = registry.module_of(settings).tolerances(settings)
    listed += [_own(tolerance, settings.kind) for tolerance in tolerances]
    if settings.offset_celsius:

        def mounted(probe: ProbeNumbers, share: float) -> ProbeNumbers:
            return probe._replace(offset_celsius=probe.offset_celsius + share * settings.offset_celsius)

        listed.append(Cause("offset of the probe", mounted, nominal=1.0))
    if registry.gives_code(settings):
        half = 0.5 * registry.numbers(settings).code.celsius_per_code

        def step(probe: ProbeNumbers, share: float) -> ProbeNumbers:
            return probe._replace(offset_celsius=probe.offset_celsius + share * half)

        listed.append(Cause("quantisation", step, drawn=False, calibrated_out=False))
    elif registry.has_converter(settings):
        listed += _converter(settings)
    return listed


def calibrated_to(settings: AnyProbe, probe: ProbeNumbers, doubt: float = 0.0) -> ProbeNumbers:
    """`probe` with the firmware calibrated at the design's points as this very probe would have been.

    `doubt` is the share, −1 to 1, by which the other thermometer was off within its stated uncertainty.
    """
    points = settings.calibration
    if not points:
        return probe
    truth = np.array([point.true_celsius for point in points])
    shown = sweep.celsius_of_exact(probe, truth)
    moved = tuple(
        point.model_copy(
            update={
                "reading_celsius": float(value),
                "true_celsius": point.true_celsius + doubt * point.uncertainty_celsius,
            }
        )
        for point, value in zip(points, shown, strict=True)
        if math.isfinite(value)
    )
    firmware, correction = registry.calibrated(settings.model_copy(update={"calibration": moved}), probe.firmware)
    return probe._replace(firmware=firmware, correction=correction)


def contributions_over(settings: AnyProbe, celsius: Column) -> list[tuple[str, Column]]:
    """Each cause with what it may move the reading by at each of many temperatures; NaN where nothing can be read."""
    base = ideal(settings)
    nominal = calibrated_to(settings, base)
    truth = np.where(sweep.inside(base, celsius), sweep.celsius_of_exact(nominal, celsius), np.nan)

    def moved(probe: ProbeNumbers) -> Column:
        return np.asarray(np.abs(sweep.celsius_of_exact(probe, celsius) - truth))

    contributions = []
    for cause in causes(settings):
        most = np.zeros(len(celsius))
        for share in (1.0,) if cause.one_way else (1.0, -1.0):
            if cause.calibrated_out:
                changed = calibrated_to(settings, cause.change(base, share))
            else:
                changed = cause.change(nominal, share)
            most = np.fmax(most, moved(changed))  # where one way leaves the scale, the other still tells
        contributions.append((cause.name, np.where(np.isfinite(truth), most, np.nan)))
    if any(point.uncertainty_celsius for point in settings.calibration):
        most = np.fmax(*(moved(calibrated_to(settings, base, doubt)) for doubt in (-1.0, 1.0)))
        contributions.append(("uncertainty of the calibration", most))
    error_celsius = np.abs(truth - celsius)
    if np.nanmax(error_celsius, initial=0.0) > 1e-6:
        contributions.append(
            ("inverse polynomial" if settings.kind == "thermocouple" else "correction curve", error_celsius)
        )
    return contributions


def budget(settings: AnyProbe, celsius: float) -> Budget | None:
    """The error budget at `celsius`; None where the probe cannot be read there."""
    contributions = [(name, float(most[0])) for name, most in contributions_over(settings, np.array([celsius]))]
    if not all(math.isfinite(most) for _, most in contributions):
        return None
    parts = sorted((Contribution(name, most) for name, most in contributions), key=lambda part: -part.celsius)
    return Budget(
        celsius,
        tuple(parts),
        sum(part.celsius for part in parts),
        math.sqrt(sum(part.celsius**2 for part in parts)),
    )


def drawn_causes(settings: AnyProbe) -> list[Cause]:
    """The causes that are properties of the part, which differ from one to the next."""
    return [cause for cause in causes(settings) if cause.drawn]


def built(settings: AnyProbe, shares: Sequence[float], doubt: float) -> ProbeNumbers:
    """One probe as built: each of drawn_causes with its share of it, calibrated as the design says.

    `doubt` is the share, −1 to 1, by which the other thermometer was off within its stated uncertainty.
    """
    probe = ideal(settings)
    for cause, share in zip(drawn_causes(settings), shares, strict=True):
        probe = cause.change(probe, share)
    nominal = registry.numbers(settings)
    divided = probe.firmware.adc._replace(divisor=nominal.firmware.adc.divisor)
    probe = probe._replace(firmware=probe.firmware._replace(adc=divided))
    return calibrated_to(settings, probe, doubt)


def draw(settings: AnyProbe, chance: np.random.Generator) -> ProbeNumbers:
    """One probe out of the box: every tolerance drawn evenly over its width, calibrated as the design says."""
    shares = [float(chance.uniform(0.0 if cause.one_way else -1.0, 1.0)) for cause in drawn_causes(settings)]
    return built(settings, shares, float(chance.uniform(-1.0, 1.0)))
