"""One reading of any probe: from temperature to code by the hardware, back by the firmware, checked, filtered."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from calor.compiled import Column, compiled
from calor.sense import (
    adc,
    analog_current,
    analog_voltage,
    calibration,
    checks,
    digital,
    filters,
    rtd,
    thermistor,
    thermocouple,
)
from calor.sense.checks import FAULT_OPEN, FAULT_RANGE, FAULT_SHORT, NO_FAULT
from calor.sense.mounting import OPEN, SHORT, STUCK, own_error_celsius
from calor.sense.registry import ANALOG_VOLTAGE, IDEAL, RTD, THERMISTOR, THERMOCOUPLE, ProbeNumbers, Side


@compiled(inline=True, inner=True)
def celsius_to_volt(kind: int, side: Side, celsius: float, wiring: int) -> float:
    """Voltage at the converter of a probe at `celsius`."""
    if kind == THERMISTOR:
        return thermistor.celsius_to_volt(side.thermistor, celsius, wiring)
    if kind == RTD:
        return rtd.celsius_to_volt(side.rtd, celsius, wiring)
    if kind == THERMOCOUPLE:
        return thermocouple.celsius_to_volt(side.thermocouple, celsius, wiring)
    if kind == ANALOG_VOLTAGE:
        return analog_voltage.celsius_to_volt(side.analog_voltage, celsius, wiring)
    return analog_current.celsius_to_volt(side.analog_current, celsius, wiring)


@compiled(inline=True, inner=True)
def share_to_celsius(kind: int, side: Side, share: float) -> float:
    """Temperature the firmware works out from a share of the scale, before its correction; not a number without one."""
    if kind == THERMISTOR:
        return thermistor.share_to_celsius(side.thermistor, share)
    if kind == RTD:
        return rtd.share_to_celsius(side.rtd, share)
    if kind == THERMOCOUPLE:
        return thermocouple.share_to_celsius(side.thermocouple, share)
    if kind == ANALOG_VOLTAGE:
        return analog_voltage.share_to_celsius(side.analog_voltage, share)
    return analog_current.share_to_celsius(side.analog_current, share)


@compiled(inline=True, inner=True)
def _chip_celsius(probe: ProbeNumbers, celsius: float, wiring: int) -> float:
    """What a chip or a digital sensor takes the temperature for, before it is rounded to a code."""
    if probe.kind != THERMOCOUPLE:
        return celsius
    measured = thermocouple.measured_millivolt(probe.hardware.thermocouple, celsius, wiring)
    own = probe.firmware.thermocouple
    return thermocouple.quantity_to_celsius(own, measured + own.cold_millivolt)


@compiled(inline=True, inner=True)
def counts_to_celsius(probe: ProbeNumbers, counts: float) -> float:
    """Temperature the firmware reads from a code; not a number where it has none."""
    if probe.gives_code:
        celsius = counts * probe.code.celsius_per_code
    else:
        celsius = share_to_celsius(probe.kind, probe.firmware, counts / probe.firmware.adc.divisor)
    return calibration.apply(probe.correction, celsius)


@compiled(inline=True, inner=True)
def exact_counts(probe: ProbeNumbers, celsius: float, wiring: int) -> float:
    """The code before it is rounded, of a probe whose own part is at `celsius`; not a number where there is none."""
    seen = celsius + probe.offset_celsius + own_error_celsius(probe.own_error, celsius)
    if probe.gives_code:
        return _chip_celsius(probe, seen, wiring) / probe.code.celsius_per_code
    return adc.exact_counts(probe.hardware.adc, celsius_to_volt(probe.kind, probe.hardware, seen, wiring))


@compiled(inline=True, inner=True)
def counts_of(probe: ProbeNumbers, celsius: float, wiring: int, noisy: bool) -> float:
    """The code of one reading; not a number where the sensor gives none, as an ideal one or a chip with a fault."""
    if probe.kind == IDEAL:
        return np.nan
    if probe.gives_code:
        if wiring in (OPEN, SHORT):
            return np.nan
        exact = exact_counts(probe, celsius, wiring) * probe.code.celsius_per_code
        return np.nan if np.isnan(exact) else digital.celsius_to_code(probe.code, exact)
    if noisy and probe.hardware.adc.noise_counts > 0.0:
        seen = celsius + probe.offset_celsius + own_error_celsius(probe.own_error, celsius)
        return adc.noisy_counts(probe.hardware.adc, celsius_to_volt(probe.kind, probe.hardware, seen, wiring))
    return adc.code(probe.hardware.adc, exact_counts(probe, celsius, wiring))


@compiled(inline=True, inner=True)
def scaled(probe: ProbeNumbers, counts: float) -> tuple[float, int]:
    """°C as the firmware has it from a code, before checks and filter, and the fault the code itself tells of."""
    if counts < probe.fault_below_counts:
        return np.nan, FAULT_SHORT if probe.open_reads_high else FAULT_OPEN
    if counts > probe.fault_above_counts:
        return np.nan, FAULT_OPEN if probe.open_reads_high else FAULT_SHORT
    celsius = counts_to_celsius(probe, counts)
    return celsius, FAULT_RANGE if np.isnan(celsius) else NO_FAULT


def new_memory(probe: ProbeNumbers) -> Column:
    """What checks and filter remember between readings, as it is at the start."""
    return np.zeros(checks.SIZE + filters.memory_size(probe.filter))


@compiled(inline=True, inner=True)
def sample(probe: ProbeNumbers, memory: Column, celsius: float, wiring: int) -> float:
    """What the firmware is given of a probe at `celsius`: a code, or °C where it is ideal; NaN where nothing comes."""
    if wiring == STUCK and memory[checks.HAS_CODE] != 0.0:
        return float(memory[checks.CODE])
    if probe.kind != IDEAL:
        return counts_of(probe, celsius, wiring, True)
    return np.nan if wiring in (OPEN, SHORT) else celsius + probe.offset_celsius


@compiled(inline=True, inner=True)
def step(probe: ProbeNumbers, memory: Column, given: float, dt_s: float) -> tuple[float, int]:
    """The firmware's side of one reading, `dt_s` after the last: (°C as the law sees it, fault or NO_FAULT).

    `given` is what `sample` gave. `memory` begins as new_memory and is kept between calls; a fault empties the filter.
    """
    if np.isnan(given):
        measured, fault = np.nan, FAULT_OPEN
    elif probe.kind == IDEAL:
        measured, fault = calibration.apply(probe.correction, given), NO_FAULT
    else:
        measured, fault = scaled(probe, given)
    if fault == NO_FAULT:
        fault = checks.step(probe.checks, memory, given, measured, dt_s)
    if fault != NO_FAULT:
        if probe.filter.kind != filters.NONE:
            memory[checks.SIZE :] = 0.0
        return measured, fault
    if probe.filter.kind == filters.NONE:
        return measured, fault
    return filters.step(probe.filter, memory[checks.SIZE :], measured, dt_s), fault


@compiled()
def volt_over(probe: ProbeNumbers, celsius: Column) -> Column:
    """Voltages at the converter at many temperatures."""
    volt = np.empty(len(celsius))
    for k in range(len(celsius)):
        volt[k] = celsius_to_volt(probe.kind, probe.hardware, celsius[k], 0)
    return volt


@compiled()
def counts_over(probe: ProbeNumbers, celsius: Column) -> Column:
    """The codes at many temperatures, without noise."""
    counts = np.empty(len(celsius))
    for k in range(len(celsius)):
        counts[k] = counts_of(probe, celsius[k], 0, False)
    return counts


@compiled()
def exact_counts_over(probe: ProbeNumbers, celsius: Column) -> Column:
    """The codes at many temperatures before they are rounded."""
    counts = np.empty(len(celsius))
    for k in range(len(celsius)):
        counts[k] = exact_counts(probe, celsius[k], 0)
    return counts


@compiled()
def celsius_over(probe: ProbeNumbers, counts: Column) -> Column:
    """The temperatures the firmware reads from many codes; not a number at the ends and where it has none."""
    celsius = np.empty(len(counts))
    for k in range(len(counts)):
        celsius[k] = scaled(probe, counts[k])[0]
    return celsius


@compiled()
def celsius_of_exact(probe: ProbeNumbers, celsius: Column) -> Column:
    """What would be read at many temperatures if codes were not whole; not a number where nothing can be."""
    read = np.empty(len(celsius))
    for k in range(len(celsius)):
        read[k] = (
            calibration.apply(probe.correction, celsius[k] + probe.offset_celsius)
            if probe.kind == IDEAL
            else counts_to_celsius(probe, exact_counts(probe, celsius[k], 0))
        )
    return read


@compiled()
def inside(probe: ProbeNumbers, celsius: Column) -> npt.NDArray[np.bool_]:
    """Whether the signal at each of many temperatures is one that is read: in the converter's range and no fault."""
    found = np.empty(len(celsius), np.bool_)
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
        found[k] = held and scaled(probe, adc.code(probe.hardware.adc, exact))[1] == NO_FAULT
    return found


@compiled()
def samples(probe: ProbeNumbers, memory: Column, celsius: Column, wiring: int) -> Column:
    """What the firmware is given of a probe at many temperatures, as `sample` says it."""
    given = np.empty(len(celsius))
    for k in range(len(celsius)):
        given[k] = sample(probe, memory, celsius[k], wiring)
    return given


@compiled()
def steps(probe: ProbeNumbers, memory: Column, given: Column, dt_s: float) -> tuple[Column, Column]:
    """(°C as the law sees it, faults) of many readings, one every `dt_s`, as `step` says it."""
    measured, faults = np.empty(len(given)), np.empty(len(given))
    for k in range(len(given)):
        measured[k], faults[k] = step(probe, memory, given[k], dt_s)
    return measured, faults
