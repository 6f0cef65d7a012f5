"""Platinum resistance thermometer after IEC 60751, read in a divider, with a current, in a bridge or ratiometrically.

R = R0·(1 + A·t + B·t² + C·(t − 100)·t³), the last term below 0 °C only. Source: IEC 60751:2008, with its tolerance
classes; that a lead counts twice on two wires, only by its mismatch on three and not at all on four: common practice.
"""

from __future__ import annotations

import math
from typing import Literal, NamedTuple

import numpy as np

from calor.compiled import compiled
from calor.sense import adc, divider
from calor.sense.adc import AdcNumbers, ScaleEnds
from calor.sense.mounting import CONVERTER, OPEN, SHORT, Mounted, Tolerance, converter, shown_ohm
from calor.settings import choice, fraction, number
from calor.units import TemperatureUnit, difference_to

A, B, C = 3.9083e-3, -5.775e-7, -4.183e-12
LOW_CELSIUS, HIGH_CELSIUS = -200.0, 850.0
_OVER = 5.0
"""How far beyond the standard's range a reading still counts as its end, so that noise there is no fault, °C."""
CLASSES = {"AA": (0.10, 0.0017), "A": (0.15, 0.002), "B": (0.30, 0.005), "C": (0.60, 0.010)}
"""Tolerance class of IEC 60751: base in °C, and share of the temperature."""
DIVIDER, CURRENT, BRIDGE, RATIOMETRIC = range(4)
_CIRCUITS = ("divider", "current", "bridge", "ratiometric")


class Rtd(Mounted):
    """Platinum resistance thermometer."""

    kind: Literal["rtd"] = choice("rtd", "Probe", "Platinum resistance thermometer, IEC 60751.", words={"rtd": "RTD"})
    r0_ohm: float = number(100.0, "Resistance at 0 °C", "100 and 1000 Ω are usual.", "ohm", 1.0, 1e5)
    circuit: Literal["divider", "current", "bridge", "ratiometric"] = choice(
        "divider",
        "Circuit",
        "divider; current: a current source; bridge; ratiometric: against a reference resistor.",
        words={"divider": "Divider", "current": "Current source", "bridge": "Bridge", "ratiometric": "Ratiometric"},
    )
    series_ohm: float = number(
        1_000.0, "Series resistor", "The other resistor of the divider, and of each arm of the bridge.", "ohm", 1.0, 1e7
    )
    placed: Literal["low_side", "high_side"] = choice(
        "low_side",
        "RTD placement",
        "low_side: between the pin and ground; high_side: between supply and the pin (divider).",
        words={"low_side": "Low side", "high_side": "High side"},
    )
    excitation_microampere: float = number(
        1_000.0, "Excitation current", "Through the RTD; 1 mA at most is usual.", "microampere", 1.0, 20_000.0
    )  # fmt: skip
    reference_ohm: float = number(
        400.0, "Reference resistor", "Its voltage is the reference; a bridge balances here.", "ohm", 1.0, 1e7
    )  # fmt: skip
    amplifier_gain: float = number(1.0, "Amplifier gain", "Gain between RTD and converter.", "number", 0.1, 10_000.0)
    wires: Literal[2, 3, 4] = choice(2, "Wires", "2: both leads count; 3: only their mismatch; 4: neither.")
    lead_ohm: float = number(
        0.0, "Lead resistance", "Resistance of one lead; the firmware does not know of it.", "ohm", 0.0, 1e4
    )
    lead_mismatch_fraction: float = fraction(0.02, "Lead mismatch", "Share by which two leads differ.", 0.0, 1.0)
    tolerance_class: Literal["AA", "A", "B", "C"] = choice("B", "Class", "Tolerance class of IEC 60751.")
    series_tolerance_fraction: float = fraction(
        0.001, "Resistor tolerance", "Tolerance of the series or reference resistor.", 0.0, 0.5
    )
    excitation_tolerance_fraction: float = fraction(
        0.002, "Source tolerance", "Tolerance of the current source.", 0.0, 0.5
    )
    amplifier_gain_tolerance_fraction: float = fraction(
        0.001, "Gain tolerance", "Tolerance of the amplifier's gain.", 0.0, 0.5
    )
    dissipation_w_per_k: float = number(
        0.004, "Dissipation", "Power that warms it by 1 K; 4 mW/K for a thin film in air.", "w_per_k", 1e-5, 10.0
    )  # fmt: skip
    adc: CONVERTER = converter()


class RtdNumbers(NamedTuple):
    """The RTD and its circuit as the kernel sees them. `lead_ohm` is what the leads add; 0 as the firmware has it."""

    r0_ohm: float
    circuit: int
    series_ohm: float
    high_side: bool
    ampere: float
    reference_ohm: float
    gain: float
    lead_ohm: float
    supply_volt: float
    reference_volt: float
    dissipation_w_per_k: float
    share_per_scale: float
    balance_share: float
    ohm_per_scale: float


def numbers(settings: Rtd) -> RtdNumbers:
    """The settings as plain numbers, nothing of it self-heated, the leads as nothing."""
    ampere, reference_volt = settings.excitation_microampere * 1e-6, settings.adc.reference_volt
    ohm_per_scale = settings.reference_ohm / settings.amplifier_gain
    if settings.circuit == "current":
        ohm_per_scale = reference_volt / settings.amplifier_gain / ampere
    return RtdNumbers(
        settings.r0_ohm,
        _CIRCUITS.index(settings.circuit),
        settings.series_ohm,
        settings.placed == "high_side",
        ampere,
        settings.reference_ohm,
        settings.amplifier_gain,
        0.0,
        settings.adc.divider_volt,
        reference_volt,
        np.inf,
        reference_volt / settings.amplifier_gain / settings.adc.divider_volt,
        settings.reference_ohm / (settings.reference_ohm + settings.series_ohm),
        ohm_per_scale,
    )


def with_leads(settings: Rtd, own: RtdNumbers) -> RtdNumbers:
    """The hardware's numbers with the leads in them: both on two wires, none where more wires make up for them."""
    return own._replace(lead_ohm=2.0 * settings.lead_ohm if settings.wires == 2 else 0.0)


@compiled
def celsius_to_quantity(probe: RtdNumbers, celsius: float) -> float:
    """Resistance in Ω at `celsius`, of the RTD alone."""
    square = 1.0 + celsius * (A + celsius * B)
    if celsius < 0.0:
        square += C * (celsius - 100.0) * celsius * celsius * celsius
    return max(probe.r0_ohm * square, 0.0)


@compiled
def quantity_to_celsius(probe: RtdNumbers, ohm: float) -> float:
    """Temperature in °C at which the RTD has `ohm`; not a number beyond the standard's range.

    Newton's iteration on the standard's polynomial: six steps are exact to a rounding over the whole range.
    """
    ratio = ohm / probe.r0_ohm
    if not 0.16 < ratio < 3.93:
        return np.nan
    celsius = (ratio - 1.0) / A
    for _ in range(6):
        value = 1.0 + celsius * (A + celsius * B)
        slope = A + 2.0 * celsius * B
        if celsius < 0.0:
            square = celsius * celsius
            value += C * (celsius - 100.0) * square * celsius
            slope += C * square * (4.0 * celsius - 300.0)
        celsius -= (value - ratio) / slope
    return celsius if LOW_CELSIUS - _OVER <= celsius <= HIGH_CELSIUS + _OVER else np.nan


@compiled
def quantity_to_volt(probe: RtdNumbers, ohm: float) -> float:
    """Voltage at the converter for a resistance, leads in it."""
    if probe.circuit == DIVIDER:
        return probe.gain * probe.supply_volt * divider.share(ohm, probe.series_ohm, probe.high_side)
    if probe.circuit == CURRENT:
        return probe.gain * probe.ampere * ohm
    if probe.circuit == BRIDGE:
        balance = divider.share(probe.reference_ohm, probe.series_ohm, False)
        return probe.gain * probe.supply_volt * (divider.share(ohm, probe.series_ohm, False) - balance)
    return probe.gain * probe.reference_volt * ohm / probe.reference_ohm


@compiled
def share_to_quantity(probe: RtdNumbers, share: float) -> float:
    """Resistance the firmware works out from a share of the converter's scale."""
    if probe.circuit == DIVIDER:
        return divider.ohm(share * probe.share_per_scale, probe.series_ohm, probe.high_side)
    if probe.circuit == BRIDGE:
        return divider.ohm(share * probe.share_per_scale + probe.balance_share, probe.series_ohm, False)
    return share * probe.ohm_per_scale


@compiled
def _ampere(probe: RtdNumbers, ohm: float) -> float:
    if probe.circuit == CURRENT:
        return probe.ampere
    if probe.circuit == RATIOMETRIC:
        return probe.reference_volt / probe.reference_ohm
    return probe.supply_volt / (ohm + probe.series_ohm)


@compiled
def celsius_to_volt(probe: RtdNumbers, celsius: float, wiring: int) -> float:
    """Voltage at the converter; warmed by its own current where a dissipation is given."""
    if wiring == OPEN:
        ohm = 1e12
    elif wiring == SHORT:
        ohm = 0.0
    else:
        ohm = celsius_to_quantity(probe, celsius)
        if probe.dissipation_w_per_k != np.inf:
            ampere = _ampere(probe, ohm)
            ohm = celsius_to_quantity(probe, celsius + ampere * ampere * ohm / probe.dissipation_w_per_k)
        ohm += probe.lead_ohm
    return quantity_to_volt(probe, ohm)


@compiled
def share_to_celsius(probe: RtdNumbers, share: float) -> float:
    """Temperature the firmware reads from a share of the converter's scale."""
    return quantity_to_celsius(probe, share_to_quantity(probe, share))


def open_reads_high(settings: Rtd) -> bool:
    """Whether a wire that is off drives the code up."""
    return not (settings.circuit == "divider" and settings.placed == "high_side")


def fault_ends(settings: Rtd, own: RtdNumbers, scale: AdcNumbers, ends: ScaleEnds) -> tuple[float, float]:
    """Codes below and above which it is taken for open or shorted: beyond the codes of all it can read."""
    del settings
    codes = sorted(adc.exact_counts(scale, celsius_to_volt(own, end, 0)) for end in (LOW_CELSIUS, HIGH_CELSIUS))
    return max(math.floor(codes[0]), ends.bottom + 1.0), min(math.ceil(codes[1]), ends.top - 1.0)


def tolerances(settings: Rtd) -> tuple[Tolerance, ...]:
    """What may be off beside the RTD's class, each as a change of the hardware's numbers."""
    both = 2.0 * settings.lead_ohm

    def resistor(own: RtdNumbers, share: float) -> RtdNumbers:
        factor = 1.0 + share * settings.series_tolerance_fraction
        if settings.circuit == "ratiometric":
            return own._replace(reference_ohm=own.reference_ohm * factor)
        return own._replace(series_ohm=own.series_ohm * factor)

    def leads(own: RtdNumbers, share: float) -> RtdNumbers:
        return own._replace(lead_ohm=share * both)

    def mismatch(own: RtdNumbers, share: float) -> RtdNumbers:
        return own._replace(lead_ohm=share * settings.lead_ohm * settings.lead_mismatch_fraction)

    def current(own: RtdNumbers, share: float) -> RtdNumbers:
        return own._replace(ampere=own.ampere * (1.0 + share * settings.excitation_tolerance_fraction))

    def gain(own: RtdNumbers, share: float) -> RtdNumbers:
        return own._replace(gain=own.gain * (1.0 + share * settings.amplifier_gain_tolerance_fraction))

    def warmed(own: RtdNumbers, share: float) -> RtdNumbers:
        return own._replace(dissipation_w_per_k=settings.dissipation_w_per_k / max(share, 1e-9))

    listed = [Tolerance("self-heating", warmed, one_way=True)]
    if settings.circuit == "current":
        listed.append(Tolerance("excitation current", current))
    else:
        name = {"divider": "series resistor", "bridge": "bridge resistor", "ratiometric": "reference resistor"}
        listed.append(Tolerance(name[settings.circuit], resistor))
    if settings.amplifier_gain != 1.0:
        listed.append(Tolerance("amplifier gain", gain))
    if settings.lead_ohm > 0.0 and settings.wires == 2:
        listed.append(Tolerance("lead resistance", leads, one_way=True))
    if settings.lead_ohm > 0.0 and settings.wires == 3:
        listed.append(Tolerance("lead resistance", mismatch))
    return tuple(listed)


def class_error(settings: Rtd) -> tuple[float, float, float]:
    """Floor, base and share of the temperature of the tolerance class, °C."""
    base, slope = CLASSES[settings.tolerance_class]
    return 0.0, base, slope


def title(settings: Rtd) -> str:
    """What it is, in a few words."""
    return f"Pt {shown_ohm(settings.r0_ohm).removesuffix(' Ω')}, {settings.wires} wires"


def consequences(settings: Rtd, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    constants = numbers(settings)
    ohm = float(celsius_to_quantity(constants, setpoint_celsius))
    watt = float(_ampere(constants, ohm)) ** 2 * ohm
    warmer = difference_to(unit, watt / settings.dissipation_w_per_k)
    lines = {
        "series_ohm": f"The RTD has {ohm:.2f} Ω at the setpoint.",
        "dissipation_w_per_k": f"{watt * 1e3:.3g} mW warm it by {warmer:.2g} {unit}.",
    }
    milliampere = float(_ampere(constants, ohm)) * 1e3
    if settings.circuit == "ratiometric":
        lines["reference_ohm"] = f"{milliampere:.3g} mA flow; 1 mA at most is usual."
    if settings.lead_ohm and settings.wires == 2:
        slope = float(
            celsius_to_quantity(constants, setpoint_celsius + 0.5)
            - celsius_to_quantity(constants, setpoint_celsius - 0.5)
        )
        lines["lead_ohm"] = (
            f"Both leads read as {difference_to(unit, 2.0 * settings.lead_ohm / slope):.2g} {unit} too warm."
        )
    return lines


QUANTITY = "ohm"
