"""C99 of a probe's scaling: what the templates of a whole thermostat and of the scaling alone have in common."""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np
from numpy.polynomial import Chebyshev, Polynomial

from calor.design.model import Design
from calor.firmware.templating import Sources, c_name, plain_text, render
from calor.sense import calibration, filters, its90, registry
from calor.sense.its90_tables import INVERSE
from calor.sense.registry import AnyProbe
from calor.sense.rtd import Rtd
from calor.sense.table import Table
from calor.sense.thermocouple import Thermocouple

JUNCTION_CELSIUS = (-55.0, 125.0)
"""Where the cold junction of a thermocouple may be."""
JUNCTION_DEGREE = 9


class Piece(NamedTuple):
    """One piece of an inverse polynomial."""

    high: float
    middle: float
    half: float
    a: tuple[float, ...]


class Junction(NamedTuple):
    """A polynomial for the cold junction's voltage in mV, in x = (t − middle)/half."""

    low: float
    high: float
    middle: float
    half: float
    a: tuple[float, ...]
    error_microvolt: float


def junction(letter: its90.Letter) -> Junction:
    """The voltage of a cold junction as one short polynomial, and how far it is from the reference function."""
    low, high = JUNCTION_CELSIUS
    low = max(low, its90.celsius_range(letter)[0])
    number = its90.LETTERS.index(letter)
    middle, half = 0.5 * (low + high), 0.5 * (high - low)
    x = np.cos(np.pi * (np.arange(400) + 0.5) / 400)
    truth = np.array([its90.celsius_to_millivolt(number, middle + half * at) for at in x])
    found = Chebyshev.fit(x, truth, JUNCTION_DEGREE, domain=[-1, 1])
    error = float(np.abs(found(x) - truth).max()) * 1e3
    return Junction(
        low, high, middle, half, tuple(float(a) for a in found.convert(kind=Polynomial).coef), max(error, 0.001)
    )


def _thermocouple(settings: Thermocouple) -> dict[str, Any]:
    pieces = INVERSE[settings.letter]
    most = max(len(piece[4]) for piece in pieces)
    return {
        "letter": settings.letter,
        "pieces": [Piece(p[1], p[2], p[3], p[4] + (0.0,) * (most - len(p[4]))) for p in pieces],
        "low_millivolt": pieces[0][0] - its90.SLACK_MILLIVOLT,
        "high_millivolt": pieces[-1][1] + its90.SLACK_MILLIVOLT,
        "junction": junction(settings.letter),
    }


def probe_context(settings: AnyProbe, prefix: str) -> dict[str, Any]:
    """What the probe's templates are filled with."""
    probe = registry.numbers(settings)
    converter = registry.has_converter(settings)
    checks = probe.checks
    of_range = (checks.low_celsius, checks.high_celsius, checks.reversed_below_celsius)
    given = "counts" if converter else "celsius" if settings.kind == "ideal" else "word"
    conversions = probe.firmware.adc.oversampling
    given_is = {
        "counts": "counts is a code of the converter."
        if conversions == 1
        else f"counts is the sum of {conversions} conversions.",
        "word": "word is what the sensor sent, its unused upper bits 0; all ones where it does not answer.",
        "celsius": "celsius is not a number where the probe has failed.",
    }[given]
    ends = (probe.fault_below_counts, probe.fault_above_counts)
    bare = settings.kind == "thermocouple" and converter and conversions == 1 and not any(map(math.isfinite, ends))
    corrected = probe.correction != calibration.NOTHING
    context: dict[str, Any] = {
        "prefix": prefix,
        "kind": settings.kind,
        "converter": converter,
        "probe": probe,
        "design_probe": settings,
        "nothing": calibration.NOTHING,
        "reading": "float" if settings.kind == "ideal" else "uint32_t",
        "given": given,
        "given_is": given_is,
        "filter": list(filters.KINDS)[probe.filter.kind],
        "checks_range": any(map(math.isfinite, of_range)),
        "checks_rate": math.isfinite(checks.fastest_celsius_per_s),
        "checks_stuck": math.isfinite(checks.stuck_s),
        "reversed_celsius": settings.checks.reversed_celsius,
        "by_beta": probe.firmware.thermistor.a2 == 0.0 and probe.firmware.thermistor.a3 == 0.0,
        "circuit": settings.circuit if isinstance(settings, Rtd) else "",
        "uses_bits": settings.kind == "thermistor",
        "scaled_with": "state" if settings.kind == "thermocouple" else "settings",
        "read_uses_settings": corrected if settings.kind == "ideal" else corrected or not bare,
    }
    if registry.gives_code(settings):
        chip = isinstance(settings, Thermocouple)
        context |= {
            "bits": getattr(settings, "converter_bits" if chip else "bits"),
            "signed": chip or bool(getattr(settings, "signed", True)),
        }
    if isinstance(settings, Thermocouple) and converter:
        context |= _thermocouple(settings)
    return context


def scaling(design: Design) -> Sources:
    """The C99 of the probe's scaling alone, checks and filter with it: a header and one C file."""
    prefix = f"{c_name(design.name)}_probe"
    context = probe_context(design.probe, prefix) | {
        "design_name": plain_text(design.name),
        "period_s": design.law.period_s,
    }
    files = {f"{prefix}{end}": render(f"probe_only{end}.j2", context) for end in (".h", ".c")}
    return Sources(prefix, files, f"{prefix}.h", f"{prefix}.c")


def lookup(design: Design, table: Table) -> Sources:
    """The C99 of a lookup table: a header and one C file."""
    prefix = c_name(design.name)
    rises = np.abs(np.diff(table.stored))
    context = {
        "prefix": prefix,
        "design_name": plain_text(design.name),
        "table": table,
        "most_rise": int(rises.max()) if table.number == "integer" else 0,
    }
    files = {f"{prefix}_table{end}": render(f"table{end}.j2", context) for end in (".h", ".c")}
    return Sources(prefix, files, f"{prefix}_table.h", f"{prefix}_table.c")
