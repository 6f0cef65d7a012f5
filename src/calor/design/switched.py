"""What one driver of a design switches: its share of the load's power, and the current where that is set."""

from __future__ import annotations

from typing import NamedTuple

from calor.design.model import Design
from calor.law.stages import Stages, shares
from calor.load import registry as loads
from calor.load.thermoelectric import Thermoelectric


class Switched(NamedTuple):
    """Power at full output, W, None where the model knows none; a current that does not follow from it, A, or None."""

    watt: float | None
    ampere: float | None


def switched(design: Design) -> Switched:
    """What each driver of a design has to switch; of stages the largest one."""
    watt = loads.electric_watt(design.load)
    if isinstance(design.law, Stages) and watt is not None:
        watt *= max(shares(design.law))
    # modules in parallel carry their current each
    ampere = design.load.max_ampere * design.load.parallel if isinstance(design.load, Thermoelectric) else None
    return Switched(watt, ampere)
