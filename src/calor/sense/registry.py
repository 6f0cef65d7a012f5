"""All probes in one place: the settings of a design's [probe], and the one step the kernel calls."""

from __future__ import annotations

from types import ModuleType
from typing import Annotated, NamedTuple

from pydantic import Field

from calor.compiled import compiled
from calor.sense import ideal, thermistor
from calor.sense.ideal import IdealProbe
from calor.sense.thermistor import Thermistor, ThermistorNumbers

Probe = Annotated[Thermistor | IdealProbe, Field(discriminator="kind")]

KINDS: dict[str, tuple[type[Thermistor] | type[IdealProbe], ModuleType]] = {
    "thermistor": (Thermistor, thermistor),
    "ideal": (IdealProbe, ideal),
}
THERMISTOR, IDEAL = range(len(KINDS))


class ProbeNumbers(NamedTuple):
    """Any probe as the kernel sees it: which kind, what all have in common, and each kind's own."""

    kind: int
    time_constant_s: float
    offset_celsius: float
    thermistor: ThermistorNumbers


def numbers(settings: Thermistor | IdealProbe) -> ProbeNumbers:
    """The settings of any probe as plain numbers."""
    own = settings if isinstance(settings, Thermistor) else Thermistor()
    kind = list(KINDS).index(settings.kind)
    return ProbeNumbers(kind, settings.time_constant_s, settings.offset_celsius, thermistor.numbers(own))


@compiled(inline=True)
def step(probe: ProbeNumbers, celsius: float, wiring: int) -> tuple[float, float, bool]:
    """One reading of any probe at `celsius`: (counts, °C as the firmware has it, whether it is a fault)."""
    seen = celsius + probe.offset_celsius
    if probe.kind == THERMISTOR:
        return thermistor.step(probe.thermistor, seen, wiring)
    return ideal.step(seen, wiring)
