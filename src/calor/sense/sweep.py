"""A probe over many temperatures or readings at once, as `reading` has it for one."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from calor.compiled import Column, Flags, entry
from calor.sense import adc, calibration
from calor.sense.checks import NO_FAULT
from calor.sense.reading import celsius_to_volt, counts_of, counts_to_celsius, exact_counts, sample, scaled, step
from calor.sense.registry import IDEAL, ProbeNumbers


@entry
def fill_volt(probe: ProbeNumbers, celsius: Column, volt: Column) -> None:
    """Voltages at the converter."""
    for k in range(len(celsius)):
        volt[k] = celsius_to_volt(probe.kind, probe.hardware, celsius[k], 0)


@entry
def fill_counts(probe: ProbeNumbers, celsius: Column, counts: Column) -> None:
    """Codes without noise."""
    for k in range(len(celsius)):
        counts[k] = counts_of(probe, celsius[k], 0, False)


@entry
def fill_exact_counts(probe: ProbeNumbers, celsius: Column, counts: Column) -> None:
    """Codes before they are rounded."""
    for k in range(len(celsius)):
        counts[k] = exact_counts(probe, celsius[k], 0)


@entry
def fill_celsius(probe: ProbeNumbers, counts: Column, celsius: Column) -> None:
    """Temperatures read from codes."""
    for k in range(len(counts)):
        celsius[k], _ = scaled(probe, counts[k])


@entry
def fill_celsius_of_exact(probe: ProbeNumbers, celsius: Column, read: Column) -> None:
    """What would be read if codes were not whole."""
    for k in range(len(celsius)):
        read[k] = (
            calibration.apply(probe.correction, celsius[k] + probe.offset_celsius)
            if probe.kind == IDEAL
            else counts_to_celsius(probe, exact_counts(probe, celsius[k], 0))
        )


@entry
def fill_inside(probe: ProbeNumbers, celsius: Column, found: Flags) -> None:
    """Whether the signal is one that is read."""
    for k in range(len(celsius)):
        if probe.kind == IDEAL:
            found[k] = True
            continue
        exact = exact_counts(probe, celsius[k], 0)
        if probe.gives_code:
            found[k] = probe.code.lowest <= exact <= probe.code.highest
            continue
        volt = celsius_to_volt(probe.kind, probe.hardware, celsius[k], 0)
        held = probe.hardware.adc.input_low_volt <= volt <= probe.hardware.adc.input_high_volt
        _, fault = scaled(probe, adc.code(probe.hardware.adc, exact))
        found[k] = held and fault == NO_FAULT


@entry
def fill_samples(probe: ProbeNumbers, memory: Column, celsius: Column, wiring: int, given: Column) -> None:
    """What the firmware is given."""
    for k in range(len(celsius)):
        given[k] = sample(probe, memory, celsius[k], wiring)


@entry
def fill_steps(
    probe: ProbeNumbers, memory: Column, given: Column, dt_s: float, measured: Column, faults: Column
) -> None:
    """Readings and faults."""
    for k in range(len(given)):
        celsius, fault = step(probe, memory, given[k], dt_s)
        measured[k], faults[k] = celsius, fault


def _column(values: npt.ArrayLike) -> Column:
    return np.ascontiguousarray(values, np.float64)


def _over(fill: Callable[[ProbeNumbers, Column, Column], None], probe: ProbeNumbers, values: npt.ArrayLike) -> Column:
    """A column as long as the one given, filled."""
    given = _column(values)
    found = np.empty_like(given)
    fill(probe, given, found)
    return found


def volt_over(probe: ProbeNumbers, celsius: npt.ArrayLike) -> Column:
    """Voltages at the converter at many temperatures."""
    return _over(fill_volt, probe, celsius)


def counts_over(probe: ProbeNumbers, celsius: npt.ArrayLike) -> Column:
    """The codes at many temperatures, without noise."""
    return _over(fill_counts, probe, celsius)


def exact_counts_over(probe: ProbeNumbers, celsius: npt.ArrayLike) -> Column:
    """The codes at many temperatures before they are rounded."""
    return _over(fill_exact_counts, probe, celsius)


def celsius_over(probe: ProbeNumbers, counts: npt.ArrayLike) -> Column:
    """The temperatures the firmware reads from many codes; not a number at the ends and where it has none."""
    return _over(fill_celsius, probe, counts)


def celsius_of_exact(probe: ProbeNumbers, celsius: npt.ArrayLike) -> Column:
    """What would be read at many temperatures if codes were not whole; not a number where nothing can be."""
    return _over(fill_celsius_of_exact, probe, celsius)


def inside(probe: ProbeNumbers, celsius: npt.ArrayLike) -> npt.NDArray[np.bool_]:
    """Whether the signal at each of many temperatures is one that is read: in the converter's range and no fault."""
    given = _column(celsius)
    found = np.empty(given.shape, np.bool_)
    fill_inside(probe, given, found)
    return found


def samples(probe: ProbeNumbers, memory: Column, celsius: npt.ArrayLike, wiring: int) -> Column:
    """What the firmware is given of a probe at many temperatures, as `sample` says it."""
    at = _column(celsius)
    given = np.empty_like(at)
    fill_samples(probe, memory, at, wiring, given)
    return given


def steps(probe: ProbeNumbers, memory: Column, given: npt.ArrayLike, dt_s: float) -> tuple[Column, Column]:
    """(°C as the law sees it, faults) of many readings, one every `dt_s`, as `step` says it."""
    readings = _column(given)
    measured, faults = np.empty_like(readings), np.empty_like(readings)
    fill_steps(probe, memory, readings, dt_s, measured, faults)
    return measured, faults
