"""Thermistor (NTC) in a divider, read by a converter: by beta, by Steinhart–Hart, or by points.

R = R25·exp(B·(1/T − 1/298.15)), T in kelvin, or 1/T = A + B·ln R + C·(ln R)³. Source: the definition of beta used
in data sheets (common practice; IEC 60539-1 defines B from two points); Steinhart & Hart 1968.
"""

from __future__ import annotations

import math
from typing import Annotated, Any, Literal, NamedTuple, Self

import numpy as np
from pydantic import Field, Strict, model_validator

from calor import logarithm
from calor.compiled import compiled
from calor.sense import divider, steinhart_hart
from calor.sense.mounting import CONVERTER, OPEN, SHORT, Mounted, Tolerance, converter, shown_ohm
from calor.sense.steinhart_hart import KELVIN_AT_0_CELSIUS, KELVIN_AT_25_CELSIUS, Coefficients
from calor.settings import choice, fraction, number
from calor.units import TemperatureUnit

R25_OHM, BETA_KELVIN = 10_000.0, 3950.0
LOW_CELSIUS, HIGH_CELSIUS = -100.0, 400.0
"""No thermistor is used beyond (common practice)."""
Point = tuple[float, float]


class Thermistor(Mounted):
    """NTC thermistor on a divider."""

    kind: Literal["thermistor"] = choice(
        "thermistor", "Probe", "NTC thermistor on a divider and converter.", words={"thermistor": "Thermistor"}
    )
    r25_ohm: float = number(R25_OHM, "Resistance at 25 °C", "Nominal resistance of the thermistor.", "ohm", 10.0, 1e7)
    beta_kelvin: float = number(
        BETA_KELVIN, "Beta", "How fast the resistance falls as it warms, from its data sheet.", "kelvin", 1000.0, 8000.0
    )
    steinhart_hart: Annotated[tuple[float, float, float], Strict(False)] | None = Field(
        default=None, title="Steinhart–Hart A, B, C", description="In place of r25_ohm and beta_kelvin, R in ohm."
    )  # fmt: skip
    points: Annotated[tuple[Annotated[Point, Strict(False)], ...], Strict(False)] | None = Field(
        default=None,
        title="Points",
        description="In place of r25_ohm and beta_kelvin: [[celsius, ohm], …]; three or more give Steinhart–Hart.",
    )
    series_ohm: float = number(
        10_000.0, "Series resistor", "The other resistor of the divider; finest near its own value.", "ohm", 10.0, 1e7
    )
    placed: Literal["low_side", "high_side"] = choice(
        "low_side",
        "Thermistor placed",
        "low_side: between the pin and ground; high_side: between supply and the pin.",
        words={"low_side": "Low side", "high_side": "High side"},
    )
    r25_tolerance_fraction: float = fraction(0.01, "R25 tolerance", "Tolerance of the resistance at 25 °C.", 0.0, 0.5)
    beta_tolerance_fraction: float = fraction(
        0.01, "Beta tolerance", "Tolerance of beta, or of the curve's slope.", 0.0, 0.2
    )
    series_tolerance_fraction: float = fraction(
        0.01, "Resistor tolerance", "Tolerance of the series resistor.", 0.0, 0.5
    )
    dissipation_w_per_k: float = number(
        0.002, "Dissipation", "Power that warms it by 1 K; 2 mW/K for a bead in air.", "w_per_k", 1e-5, 10.0
    )  # fmt: skip
    adc: CONVERTER = converter()

    @model_validator(mode="after")
    def _one_curve(self) -> Self:
        if self.steinhart_hart is not None and self.points is not None:
            raise ValueError("takes either steinhart_hart or points, not both; take one of them away")
        given = "steinhart_hart" if self.steinhart_hart is not None else "points" if self.points is not None else ""
        for key, usual in (("r25_ohm", R25_OHM), ("beta_kelvin", BETA_KELVIN)):
            if given and getattr(self, key) != usual:
                raise ValueError(f"{key} is not used where {given} is given; take one of them away")
        if given:
            curve_of(self)
        return self


def curve_of(settings: Thermistor) -> Coefficients | None:
    """Steinhart–Hart coefficients in use; None where beta is. Raises ValueError where they make no thermistor."""
    if settings.points is not None:
        celsius, ohm = np.array(settings.points, dtype=np.float64).reshape(-1, 2).T
        try:
            return steinhart_hart.coefficients(celsius, ohm)
        except ValueError as error:
            raise ValueError(f"points: {error}") from None
    if settings.steinhart_hart is None:
        return None
    given_coefficients = Coefficients(*settings.steinhart_hart)
    ohm_25 = steinhart_hart.ohm_at(given_coefficients, 25.0)
    x = math.log(ohm_25) if 0.0 < ohm_25 < math.inf else math.nan
    # from a hundredth to a hundredfold of its resistance at 25 °C it must fall as it warms
    span = x + np.linspace(-4.6, 4.6, 101)
    back = given_coefficients.a + given_coefficients.b * x + given_coefficients.c * x**3
    slopes = given_coefficients.b + 3.0 * given_coefficients.c * span**2
    # the beta that this slope is at 25 °C: that of parts on sale is 2500 to 5000 K (common practice)
    steep = 1.0 / float(given_coefficients.b + 3.0 * given_coefficients.c * x**2)
    fits = abs(back * KELVIN_AT_25_CELSIUS - 1.0) < 1e-6 and 0.1 < ohm_25 < 1e9 and 500.0 < steep < 20_000.0
    if not (fits and (slopes > 0.0).all()):
        raise ValueError(
            f"steinhart_hart {list(settings.steinhart_hart)} is no thermistor: its resistance must fall as it warms;"
            " usual are about [1e-3, 2e-4, 1e-7] with R in ohm"
        )
    return given_coefficients


def rewritten(settings: Thermistor, given: str) -> dict[str, object]:
    """The settings that write a thermistor's curve another way: "beta", "steinhart_hart" or "points".

    By beta it goes through the curve at 25 and 85 °C, by the others through 0, 25 and 50 °C (common practice).
    """
    constants = numbers(settings)
    plain: dict[str, object] = {
        "r25_ohm": R25_OHM, "beta_kelvin": BETA_KELVIN, "steinhart_hart": None, "points": None
    }  # fmt: skip
    if given == "beta":
        cold, warm = (float(celsius_to_quantity(constants, at)) for at in (25.0, 85.0))
        slope = math.log(cold / warm) / (1.0 / KELVIN_AT_25_CELSIUS - 1.0 / (85.0 + KELVIN_AT_0_CELSIUS))
        return plain | {"r25_ohm": float(f"{cold:.5g}"), "beta_kelvin": float(f"{slope:.5g}")}
    at = np.array([0.0, 25.0, 50.0])
    ohm = np.array([float(f"{celsius_to_quantity(constants, celsius):.6g}") for celsius in at])
    if given == "points":
        return plain | {"points": tuple(zip(at.tolist(), ohm.tolist(), strict=True))}
    fitted = steinhart_hart.coefficients(at, ohm)
    return plain | {"steinhart_hart": tuple(float(f"{value:.9g}") for value in fitted)}


def ceiling_volt(settings: Thermistor) -> float:
    """The most that the divider gives."""
    return settings.adc.divider_volt


def along_with(settings: Thermistor, key: str, value: Any) -> dict[str, Any]:
    """All that changes with one setting; "curve" says how the curve is written, the same curve as before."""
    return rewritten(settings, str(value)) if key == "curve" else {key: value}


class ThermistorNumbers(NamedTuple):
    """The thermistor and its divider as the kernel sees them: 1/T = a0 + a1·x + a2·x² + a3·x³, x = ln(R/reference)."""

    reference_ohm: float
    a0: float
    a1: float
    a2: float
    a3: float
    series_ohm: float
    high_side: bool
    supply_volt: float
    dissipation_w_per_k: float
    reference_per_divider: float


def about(found: Coefficients, reference_ohm: float) -> tuple[float, float, float, float]:
    """Steinhart–Hart written in x = ln(R/reference_ohm): a0, a1, a2, a3."""
    log = math.log(reference_ohm)
    return (
        found.a + found.b * log + found.c * log**3, found.b + 3.0 * found.c * log**2, 3.0 * found.c * log, found.c
    )  # fmt: skip


def numbers(settings: Thermistor) -> ThermistorNumbers:
    """The settings as plain numbers, nothing of it self-heated."""
    curve = curve_of(settings)
    if curve is None:
        reference_ohm = settings.r25_ohm
        powers = (1.0 / KELVIN_AT_25_CELSIUS, 1.0 / settings.beta_kelvin, 0.0, 0.0)
    else:
        reference_ohm = steinhart_hart.ohm_at(curve, 25.0)
        powers = about(curve, reference_ohm)
    return ThermistorNumbers(
        reference_ohm, *powers, settings.series_ohm, settings.placed == "high_side", settings.adc.divider_volt, np.inf,
        settings.adc.reference_volt / settings.adc.divider_volt,
    )  # fmt: skip


@compiled
def celsius_to_quantity(probe: ThermistorNumbers, celsius: float) -> float:
    """Resistance in Ω at `celsius`."""
    target = 1.0 / max(celsius + KELVIN_AT_0_CELSIUS, 1.0) - probe.a0
    # by the reciprocal, which does not wait for the temperature: a quicker chain
    x = target * (1.0 / probe.a1)
    if probe.a3 != 0.0 or probe.a2 != 0.0:
        for _ in range(40):
            slope = probe.a1 + x * (2.0 * probe.a2 + x * 3.0 * probe.a3)
            change = (x * (probe.a1 + x * (probe.a2 + x * probe.a3)) - target) / max(slope, 0.1 * probe.a1)
            x -= min(max(change, -2.0), 2.0)
            if abs(change) < 1e-13:
                break
    return probe.reference_ohm * math.exp(min(max(x, -60.0), 60.0))


@compiled
def quantity_to_celsius(probe: ThermistorNumbers, ohm: float) -> float:
    """Temperature in °C at which the thermistor has `ohm`; not a number where that is 0 or infinite."""
    if ohm <= 0.0 or ohm == np.inf:
        return np.nan
    x = logarithm.natural(ohm / probe.reference_ohm)
    inverse_kelvin = probe.a0 + x * (probe.a1 + x * (probe.a2 + x * probe.a3))
    return 1.0 / inverse_kelvin - KELVIN_AT_0_CELSIUS if inverse_kelvin > 0.0 else np.nan


@compiled
def quantity_to_volt(probe: ThermistorNumbers, ohm: float) -> float:
    """Voltage at the pin of the divider."""
    return probe.supply_volt * divider.share(ohm, probe.series_ohm, probe.high_side)


@compiled
def share_to_quantity(probe: ThermistorNumbers, share: float) -> float:
    """Resistance the firmware works out from a share of the scale; 0 or infinite at the ends of the divider."""
    return divider.ohm(share * probe.reference_per_divider, probe.series_ohm, probe.high_side)


@compiled
def celsius_to_volt(probe: ThermistorNumbers, celsius: float, wiring: int) -> float:
    """Voltage at the pin; warmed by its own current where a dissipation is given."""
    if wiring == OPEN:
        return 0.0 if probe.high_side else probe.supply_volt
    if wiring == SHORT:
        return probe.supply_volt if probe.high_side else 0.0
    ohm = celsius_to_quantity(probe, celsius)
    if probe.dissipation_w_per_k != np.inf:
        ampere = probe.supply_volt / (ohm + probe.series_ohm)
        ohm = celsius_to_quantity(probe, celsius + ampere * ampere * ohm / probe.dissipation_w_per_k)
    return quantity_to_volt(probe, ohm)


@compiled
def share_to_celsius(probe: ThermistorNumbers, share: float) -> float:
    """Temperature the firmware reads from a share of the scale; not a number at its ends."""
    return quantity_to_celsius(probe, share_to_quantity(probe, share))


def open_reads_high(settings: Thermistor) -> bool:
    """Whether a wire that is off drives the code up."""
    return settings.placed == "low_side"


def tolerances(settings: Thermistor) -> tuple[Tolerance, ...]:
    """What may be off, each as a change of the hardware's numbers."""

    def resistance(own: ThermistorNumbers, share: float) -> ThermistorNumbers:
        return own._replace(reference_ohm=own.reference_ohm * (1.0 + share * settings.r25_tolerance_fraction))

    def slope(own: ThermistorNumbers, share: float) -> ThermistorNumbers:
        # a beta higher by so much: the same resistance at 25 °C, ln R further from it by the same share
        factor = 1.0 + share * settings.beta_tolerance_fraction
        return own._replace(a1=own.a1 / factor, a2=own.a2 / factor**2, a3=own.a3 / factor**3)

    def series(own: ThermistorNumbers, share: float) -> ThermistorNumbers:
        return own._replace(series_ohm=own.series_ohm * (1.0 + share * settings.series_tolerance_fraction))

    def warmed(own: ThermistorNumbers, share: float) -> ThermistorNumbers:
        return own._replace(dissipation_w_per_k=settings.dissipation_w_per_k / max(share, 1e-9))

    return (
        Tolerance("resistance at 25 °C", resistance),
        Tolerance("beta", slope),
        Tolerance("series resistor", series),
        Tolerance("self-heating", warmed, one_way=True),
    )


def title(settings: Thermistor) -> str:
    """What it is, in a few words."""
    return f"NTC {shown_ohm(numbers(settings).reference_ohm)}"


def consequences(settings: Thermistor, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    del unit
    ohm = float(celsius_to_quantity(numbers(settings), setpoint_celsius))
    return {"series_ohm": f"The thermistor has {ohm:,.0f} Ω at the setpoint.".replace(",", " ")}


QUANTITY = "ohm"
