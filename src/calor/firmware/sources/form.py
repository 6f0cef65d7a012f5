"""How the C computes: in float or in Q16.16 fixed point, the probe by its formula or by a table."""

from __future__ import annotations

from typing import Any, NamedTuple

from calor.errors import FirmwareError
from calor.sense.registry import AnyProbe, has_converter


class Form(NamedTuple):
    """How the C computes: in fixed point, with a lookup table in place of the probe's formula, and with its settings
    compiled in, so that none can be changed while it runs; and what it has to the outside: its line, and its front with
    so many letters in a line, 0 for none."""

    fixed: bool = False
    table: bool = False
    constant: bool = False
    link: bool = False
    panel: int = 0

    @property
    def is_plain(self) -> bool:
        """Whether it answers as the formula in float does, to the bit."""
        return not self.fixed and not self.table

    @property
    def words(self) -> str:
        """It in words."""
        return f"{'Q16.16 fixed point' if self.fixed else 'float'}, {'a table' if self.table else 'the formula'}" + (
            ", settings compiled in" if self.constant else ""
        )

    def data(self) -> dict[str, Any]:
        """It as plain data; what it has to the outside where it has something."""
        every = self._asdict()
        return every if self.is_outward else {key: every[key] for key in ("fixed", "table", "constant")}

    @property
    def is_outward(self) -> bool:
        """Whether it has something to the outside, by which the output can be set by hand."""
        return self.link or self.panel > 0


PLAIN = Form()
PANEL_WIDTHS = (16, 8)
"""Letters in a line of the front."""


def form_of(
    probe: AnyProbe, fixed: bool, table: bool, constant: bool = False, link: bool = False, panel: int = 0
) -> Form:
    """What was asked for, as this probe can have it: in fixed point a resistance is always looked up.

    Raises FirmwareError where there is nothing to look up.
    """
    if table and not has_converter(probe):
        raise FirmwareError(
            "table", f"a {probe.kind} probe gives degrees by itself and needs no table", "", "leave the table out"
        )
    if table and probe.kind == "thermocouple":
        raise FirmwareError(
            "table", "a thermocouple's cold junction moves, so no table of counts holds", "", "leave the table out"
        )
    looked_up = table or (fixed and has_converter(probe) and probe.kind != "thermocouple")
    return Form(fixed, looked_up, constant, link, panel)
