"""How the parts of one built thermostat are off what its design says: the firmware goes on believing the design."""

from __future__ import annotations

from typing import NamedTuple

from calor.sense.registry import ProbeNumbers


class Deviation(NamedTuple):
    """What is off in a run, beside load and drive, which are settings of the design that is run.

    `probe` is the probe as it was built, None for the design's own. `ambient_celsius` is added to the ambient, also to
    where the trial starts if that is the ambient. The supply has `voltage_share` of its nominal voltage. The
    controller's clock runs fast by `clock_share`: 0.01 for 1 %. `seed` is that of the noise, None for the trial's own.
    """

    probe: ProbeNumbers | None = None
    ambient_celsius: float = 0.0
    voltage_share: float = 1.0
    clock_share: float = 0.0
    seed: int | None = None


AS_DESIGNED = Deviation()
