"""C99 of a probe's scaling: what the templates of a whole thermostat and of the scaling alone have in common."""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np
from numpy.polynomial import Chebyshev, Polynomial

from calor.design.model import Design
from calor.firmware.sources.code_table import CodeTable
from calor.firmware.sources.form import PLAIN, Form
from calor.firmware.sources.templating import Sources, c_float, c_name, plain_text, render
from calor.sense import calibration, filters, its90, registry
from calor.sense.its90_tables import INVERSE
from calor.sense.registry import AnyProbe
from calor.sense.rtd import Rtd
from calor.sense.table import Table
from calor.sense.thermocouple import Thermocouple

JUNCTION_CELSIUS = (-55.0, 125.0)
"""Where the cold junction of a thermocouple may be."""
JUNCTION_DEGREE = 6


class Piece(NamedTuple):
    """A polynomial up to `high`, in x = (value − middle)/half."""

    high: float
    middle: float
    half: float
    a: tuple[float, ...]


def junction_pieces(letter: its90.Letter) -> tuple[list[Piece], float]:
    """The voltage of a cold junction in mV, below and above 0 °C, and how far it is off at most, µV."""
    low, high = JUNCTION_CELSIUS
    low = max(low, its90.celsius_range(letter)[0])
    number = its90.LETTERS.index(letter)
    x = np.cos(np.pi * (np.arange(200) + 0.5) / 200)
    pieces, worst = [], 0.0
    for begin, end in ((low, 0.0), (0.0, high)):
        if begin < end:
            middle, half = 0.5 * (begin + end), 0.5 * (end - begin)
            truth = np.array([its90.celsius_to_millivolt(number, middle + half * at) for at in x])
            polynomial = Chebyshev.fit(x, truth, JUNCTION_DEGREE, domain=[-1, 1])
            worst = max(worst, float(np.abs(polynomial(x) - truth).max()) * 1e3)
            pieces.append(Piece(end, middle, half, tuple(float(a) for a in polynomial.convert(kind=Polynomial).coef)))
    return pieces, worst


def _thermocouple(settings: Thermocouple) -> dict[str, Any]:
    own = INVERSE[settings.letter]
    # where two pieces overlap the later one begins, as in the reference
    ends = [piece[0] for piece in own[1:]] + [own[-1][1]]
    inverse = [Piece(end, piece[2], piece[3], piece[4]) for end, piece in zip(ends, own, strict=True)]
    junction, worst = junction_pieces(settings.letter)
    most = max(len(piece.a) for piece in (*inverse, *junction))

    def padded(pieces: list[Piece]) -> list[Piece]:
        return [piece._replace(a=piece.a + (0.0,) * (most - len(piece.a))) for piece in pieces]

    return {
        "letter": settings.letter,
        "inverse": padded(inverse),
        "junction": padded(junction),
        "junction_celsius": (max(JUNCTION_CELSIUS[0], its90.celsius_range(settings.letter)[0]), JUNCTION_CELSIUS[1]),
        "junction_microvolt": max(worst, 0.001),
        "terms": most,
        "low_millivolt": own[0][0] - its90.SLACK_MILLIVOLT,
        "high_millivolt": own[-1][1] + its90.SLACK_MILLIVOLT,
    }


def probe_context(
    settings: AnyProbe, prefix: str, form: Form = PLAIN, table: CodeTable | None = None
) -> dict[str, Any]:
    """What the probe's templates are filled with."""
    probe = registry.numbers(settings)
    converter = registry.has_converter(settings)
    checks = probe.checks
    of_range = (checks.low_celsius, checks.high_celsius, checks.reversed_below_celsius)
    given = "counts" if converter else "reading" if settings.kind == "ideal" else "word"
    conversions = probe.firmware.adc.oversampling
    failed = "the lowest number" if form.fixed else "not a number"
    given_is = {
        "counts": "counts is a code of the converter."
        if conversions == 1
        else f"counts is the sum of {conversions} conversions.",
        "word": "word is what the sensor sent, its unused upper bits 0; all ones where it does not answer.",
        "reading": f"reading is in degrees Celsius, {failed} where the probe has failed.",
    }[given]
    ends = (probe.fault_below_counts, probe.fault_above_counts)
    bare = settings.kind == "thermocouple" and converter and conversions == 1 and not any(map(math.isfinite, ends))
    corrected = probe.correction != calibration.NOTHING and table is None
    by_counts = converter and (table is not None or form.fixed)
    if by_counts:
        bare = not any(map(math.isfinite, ends))
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
        "uses_bits": settings.kind == "thermistor" and table is None,
        "scaled_with": "" if table is not None else "state, " if settings.kind == "thermocouple" else "settings, ",
        "scaled_by": "table" if table is not None else settings.kind,
        "table": table,
        "fixed": form.fixed,
        "uses_flash": table is not None or (settings.kind == "thermocouple" and converter),
        "by_counts": by_counts,
        "seen": "counts" if by_counts else "code",
        "lowest_counts": math.ceil(ends[0] * conversions) if math.isfinite(ends[0]) else 0,
        "highest_counts": math.floor(ends[1] * conversions) if math.isfinite(ends[1]) else 0,
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
        scale = probe.firmware.thermocouple.millivolt_per_scale / (probe.firmware.adc.divisor * conversions)
        context["millivolt_per_65536"] = scale * 65_536.0
    return context


def scaling(design: Design) -> Sources:
    """The C99 of the probe's scaling alone, checks and filter with it: a header and one C file."""
    prefix = f"{c_name(design.name)}_probe"
    context = probe_context(design.probe, prefix) | {
        "alone": True,
        "design_name": plain_text(design.name),
        "period_s": design.law.period_s,
    }
    files = {f"{prefix}{end}": render(f"probe_only{end}.j2", context) for end in (".h", ".c")}
    return Sources(prefix, files, f"{prefix}.h")


def lookup(design: Design, table: Table) -> Sources:
    """The C99 of a lookup table: a header and one C file."""
    prefix = c_name(design.name)
    rises = np.abs(np.diff(table.stored))
    context = {
        "prefix": prefix,
        "design_name": plain_text(design.name),
        "table": table,
        "entries": [f"{value:.0f}" if table.number == "integer" else c_float(value) for value in table.stored],
        "most_rise": int(rises.max()) if table.number == "integer" else 0,
    }
    files = {f"{prefix}_table{end}": render(f"table{end}.j2", context) for end in (".h", ".c")}
    return Sources(prefix, files, f"{prefix}_table.h")
