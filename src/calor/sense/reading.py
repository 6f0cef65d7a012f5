"""One reading of any probe: from temperature to code by the hardware, back by the firmware, checked, filtered."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from calor.compiled import Column, compiled, family
from calor.sense import (
    adc,
    calibration,
    checks,
    digital,
    filters,
    thermocouple,
)
from calor.sense.checks import FAULT_OPEN, FAULT_RANGE, FAULT_SHORT, NO_FAULT
from calor.sense.mounting import OPEN, SHORT, STUCK, own_error_celsius
from calor.sense.registry import ANALOG, IDEAL, KINDS, THERMOCOUPLE, ProbeNumbers, Side


def _dispatch(call: str) -> list[str]:
    """A branch for each analog probe, the last one without a question."""
    *others, last = ANALOG
    lines = []
    for kind in others:
        lines += [f"    if kind == {kind.upper()}:", f"        return {kind}.{call.format(kind=kind)}"]
    return [*lines, f"    return {last}.{call.format(kind=last)}"]


def _celsius_to_volt() -> list[str]:
    return [
        "def celsius_to_volt(kind: int, side: Side, celsius: float, wiring: int) -> float:",
        '    """Voltage at the converter of a probe at `celsius`."""',
        *_dispatch("celsius_to_volt(side.{kind}, celsius, wiring)"),
    ]


def _share_to_celsius() -> list[str]:
    return [
        "def share_to_celsius(kind: int, side: Side, share: float) -> float:",
        '    """Temperature the firmware works out from a share of the scale, before its correction."""',
        *_dispatch("share_to_celsius(side.{kind}, share)"),
    ]


if TYPE_CHECKING:

    def celsius_to_volt(kind: int, side: Side, celsius: float, wiring: int) -> float:
        """Voltage at the converter of a probe at `celsius`."""

    def share_to_celsius(kind: int, side: Side, share: float) -> float:
        """Temperature the firmware works out from a share of the scale, before its correction; not a number without
        one."""

else:
    _names = {**ANALOG, **{kind.upper(): number for number, kind in enumerate(KINDS)}}
    celsius_to_volt = family.step_of("celsius_to_volt", __name__, _celsius_to_volt(), **_names)
    share_to_celsius = family.step_of("share_to_celsius", __name__, _share_to_celsius())


@compiled
def _chip_celsius(probe: ProbeNumbers, celsius: float, wiring: int) -> float:
    """What a chip or a digital sensor takes the temperature for, before it is rounded to a code."""
    if probe.kind != THERMOCOUPLE:
        return celsius
    measured = thermocouple.measured_millivolt(probe.hardware.thermocouple, celsius, wiring)
    thermocouple_side = probe.firmware.thermocouple
    return thermocouple.quantity_to_celsius(thermocouple_side, measured + thermocouple_side.cold_millivolt)


@compiled
def counts_to_celsius(probe: ProbeNumbers, counts: float) -> float:
    """Temperature the firmware reads from a code; not a number where it has none."""
    if probe.gives_code:
        celsius = counts * probe.code.celsius_per_code
    else:
        celsius = share_to_celsius(probe.kind, probe.firmware, counts / probe.firmware.adc.divisor)
    return calibration.apply(probe.correction, celsius)


@compiled
def exact_counts(probe: ProbeNumbers, celsius: float, wiring: int) -> float:
    """The code before it is rounded, of a probe whose own part is at `celsius`; not a number where there is none."""
    seen = celsius + probe.offset_celsius + own_error_celsius(probe.own_error, celsius)
    if probe.gives_code:
        return _chip_celsius(probe, seen, wiring) / probe.code.celsius_per_code
    return adc.exact_counts(probe.hardware.adc, celsius_to_volt(probe.kind, probe.hardware, seen, wiring))


@compiled
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


@compiled
def scaled(probe: ProbeNumbers, counts: float) -> tuple[float, int]:
    """°C as the firmware has it from a code, before checks and filter, and the fault the code itself tells of."""
    if counts < probe.fault_below_counts:
        return np.nan, FAULT_SHORT if probe.open_reads_high else FAULT_OPEN
    if counts > probe.fault_above_counts:
        return np.nan, FAULT_OPEN if probe.open_reads_high else FAULT_SHORT
    celsius = counts_to_celsius(probe, counts)
    return celsius, FAULT_RANGE if np.isnan(celsius) else NO_FAULT


MOST_CELSIUS = 30_000.0
"""A reading beyond this is none."""


def new_memory(probe: ProbeNumbers) -> Column:
    """What checks and filter remember between readings, as it is at the start."""
    return np.zeros(checks.SIZE + filters.memory_size(probe.filter))


@compiled
def sample(probe: ProbeNumbers, memory: Column, celsius: float, wiring: int) -> float:
    """What the firmware is given of a probe at `celsius`: a code, or °C where it is ideal; NaN where nothing comes."""
    if wiring == STUCK and memory[checks.HAS_CODE] != 0.0:
        return float(memory[checks.CODE])
    if probe.kind != IDEAL:
        return counts_of(probe, celsius, wiring, True)
    return np.nan if wiring in (OPEN, SHORT) else celsius + probe.offset_celsius


@compiled
def step(probe: ProbeNumbers, memory: Column, given: float, dt_s: float) -> tuple[float, int]:
    """The firmware's side of one reading, `dt_s` after the last: (°C as the law sees it, fault or NO_FAULT).

    `given` is what `sample` gave. `memory` begins as new_memory and is kept between calls; a fault empties the filter.
    """
    if np.isnan(given) or (probe.kind == IDEAL and abs(given) > MOST_CELSIUS):
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
