"""The table that stands for a probe's formula in the generated C: °C at every 2ⁿ counts, in a straight line between.

The error of a straight line over h counts is at most h²/8·|y″| (any textbook of numerical analysis); here it is not
estimated but measured at every code. Corrections by calibration are in the entries.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

from calor.compiled import Column
from calor.design.model import Design
from calor.design.ranges import working_range
from calor.errors import FirmwareError
from calor.sense import registry, sweep

WITHIN_CELSIUS = 0.02
MOST_ENTRIES = 1025
MOST_CODES = 65_536
"""Of more codes so many are looked at, evenly spread."""


class CodeTable(NamedTuple):
    """Entries in 1/`parts` °C at every 2^shift counts, from first_entry·2^shift on.

    `worst_celsius` is its error from low_celsius to high_celsius, what the design works with; the other anywhere.
    """

    shift: int
    first_entry: int
    first_counts: int
    last_counts: int
    parts: int
    entries: tuple[int, ...]
    low_celsius: float
    high_celsius: float
    worst_celsius: float
    worst_anywhere_celsius: float

    @property
    def flash_bytes(self) -> int:
        """What the entries take."""
        return len(self.entries) * (2 if self.parts == 100 else 4)

    def celsius(self, counts: Column) -> Column:
        """What the C finds for counts inside the table."""
        whole = counts.astype(np.int64)
        at, rest = (whole >> self.shift) - self.first_entry, whole & ((1 << self.shift) - 1)
        entries = np.array((*self.entries, 0), np.int64)
        return np.asarray(
            (entries[at] * 2**self.shift + (entries[at + 1] - entries[at]) * rest) / (self.parts * 2.0**self.shift)
        )


def code_table(design: Design) -> CodeTable:
    """The table with the fewest entries that is within 0.02 °C at every code the design works with, or the finest.

    Raises FirmwareError where the probe reads no temperature at all.
    """
    plain = registry.numbers(design.probe)
    many = plain.firmware.adc.oversampling
    top = int(plain.firmware.adc.codes - 1.0) * many
    codes = np.unique(np.round(np.linspace(0, top, min(top + 1, MOST_CODES))))
    truth = sweep.celsius_over(plain, codes / many)
    read = np.flatnonzero(np.isfinite(truth))
    if len(read) < 3:
        raise FirmwareError("table", "the probe reads no temperature at any code", "", "mend its circuit")
    codes, truth = codes[read[0] : read[-1] + 1], truth[read[0] : read[-1] + 1]
    low, high = working_range(design)
    works = (truth >= low) & (truth <= high)
    works = works if works.any() else np.ones(len(codes), bool)
    parts = 100 if np.abs(truth).max() <= 327.0 else 1000
    best = None
    for shift in range(max(int(top).bit_length() - 2, 0), -1, -1):
        if (top >> shift) + 2 > MOST_ENTRIES:
            break
        best = _made(plain, many, codes, truth, works, shift, parts)._replace(low_celsius=low, high_celsius=high)
        if best.worst_celsius <= WITHIN_CELSIUS:
            break
    if best is None:  # a range of so few codes always has a table
        raise FirmwareError("table", "the converter has too many codes for a table")
    return best


def _made(plain: Any, many: int, codes: Column, truth: Column, works: Any, shift: int, parts: int) -> CodeTable:
    """The table of one spacing."""
    first, last = int(codes[0]), int(codes[-1])
    begin, end = first >> shift, (last >> shift) + (1 if shift else 0)
    places = np.arange(begin, end + 1, dtype=np.float64) * 2**shift
    held = np.clip(places, first, last)
    values = sweep.celsius_over(plain, held / many)
    if len(places) > 1:
        # an entry beyond the codes that are read lies where the straight line meets the last of them
        for at, beside, edge in ((0, 1, first), (-1, -2, last)):
            if held[at] != places[at] and places[beside] != edge:
                slope = (values[at] - values[beside]) / (edge - places[beside])
                values[at] = values[beside] + slope * (places[at] - places[beside])
    largest = 32_767 if parts == 100 else 2_000_000
    entries = tuple(int(value) for value in np.clip(np.round(values * parts), -largest, largest))
    table = CodeTable(shift, begin, first, last, parts, entries, 0.0, 0.0, 0.0, 0.0)
    away = np.abs(table.celsius(codes) - truth)
    return table._replace(worst_celsius=float(away[works].max()), worst_anywhere_celsius=float(away.max()))
