"""What every probe has: how it is mounted, filtered, checked and calibrated; and how its tolerances are told."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any, NamedTuple, Self

from pydantic import Field, Strict, model_validator

from calor.compiled import compiled
from calor.sense import calibration as calibrations
from calor.sense.adc import Adc
from calor.sense.calibration import CalibrationPoint, Correction
from calor.sense.checks import Checks
from calor.sense.filters import Filter, NoFilter
from calor.settings import Settings, choice, difference, duration

WHOLE, OPEN, SHORT, REVERSED, STUCK = range(5)
"""How the probe is wired at the moment."""

CONVERTER = Annotated[Adc, Strict(False)]


def converter(hint: str = "The converter.") -> Any:
    """The field of a probe that is read by an analog to digital converter, or might be."""
    return Field(default=Adc(), title="Converter", description=hint)


class Mounted(Settings):
    """What every probe has, whatever its kind."""

    time_constant_s: float = duration(
        0.0, "Time constant", "How long the probe takes to come 63 % closer to what it touches.", 0.0, 1e5
    )
    noise_celsius: float = difference(0.0, "Noise", "Standard deviation of one reading.", 0.0, 50.0)
    offset_celsius: float = difference(
        0.0, "Probe offset", "Error of the probe: it reads this much too warm.", -100.0, 100.0
    )
    filter: Filter = Field(default=NoFilter(), title="Filter", description="What smooths the readings.")
    checks: Checks = Field(default=Checks(), title="Checks", description="When a reading is taken for a fault.")
    correction: Correction = choice(
        "auto", "Correction", "auto: an offset from one point, offset and gain from two, a curve from three and more."
    )
    calibration: Annotated[tuple[CalibrationPoint, ...], Strict(False)] = Field(
        default=(), title="Calibration", description="What it showed beside another thermometer."
    )

    @model_validator(mode="after")
    def _calibration_fits(self) -> Self:
        problem = calibrations.problem_with(self.calibration, self.correction)
        if problem:
            raise ValueError(problem)
        return self


class Tolerance(NamedTuple):
    """One thing that may be off: its name, and its numbers with a share (−1 to 1) of its tolerance in them.

    `one_way` where it only ever errs to one side, as warming by its own current does.
    """

    cause: str
    change: Callable[[Any, float], Any]
    one_way: bool = False


class OwnError(NamedTuple):
    """The sensor's own error at a temperature: share·max(floor, base + slope·|t|), as tolerance classes are written."""

    share: float
    floor_celsius: float
    base_celsius: float
    slope: float


NO_ERROR = OwnError(0.0, 0.0, 0.0, 0.0)


@compiled
def own_error_celsius(error: OwnError, celsius: float) -> float:
    """How far the sensor itself is off at `celsius`."""
    return error.share * max(error.floor_celsius, error.base_celsius + error.slope * abs(celsius))


def shown_ohm(ohm: float) -> str:
    """A resistance in a few characters: 10 k, 4.7 k, 100 Ω."""
    if ohm >= 999_500.0:
        return f"{ohm / 1e6:.3g} M"
    return f"{ohm / 1e3:.3g} k" if ohm >= 999.5 else f"{ohm:.3g} Ω"
