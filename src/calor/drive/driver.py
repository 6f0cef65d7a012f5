"""Driver: the parts between the pin and what it switches, worked out and checked one by one.

A transistor for a relay's coil, a MOSFET for a DC load, a solid-state relay for mains. Ohm's law throughout; the
margins are common practice: base current a tenth of the collector's, a rating of twice the load, 1 to 1.5 W for each
ampere through a solid-state relay, a junction below 110 °C.
"""

from __future__ import annotations

import math
from typing import Annotated, Literal, NamedTuple

from pydantic import Field

from calor.settings import Settings, choice, number

FORCED_GAIN = 10.0
BASE_VOLT = 0.7
LEAST_RATING = 2.0
HOTTEST_JUNCTION_CELSIUS = 110.0
WITHOUT_SINK_WATT = 2.0
E12 = (1.0, 1.2, 1.5, 1.8, 2.2, 2.7, 3.3, 3.9, 4.7, 5.6, 6.8, 8.2)
"""Preferred numbers of resistors. Source: IEC 60063."""


class Driven(Settings):
    """What every driver has: the pin it hangs on, and the load's current."""

    pin_volt: float = number(3.3, "Pin voltage", "What the pin gives when it is high.", "volt", 0.5, 24.0)
    pin_ampere: float = number(0.008, "Pin current limit", "Greatest current the pin may give.", "ampere", 1e-5, 1.0)
    load_volt: float = number(230.0, "Load supply", "Voltage across the load when it is on.", "volt", 0.5, 1000.0)
    load_watt: float | None = number(
        None, "Load power", "Power of the load at full output; the design's own where left out.", "watt", 0.001, 1e6
    )


class TransistorRelay(Driven):
    """A transistor that switches a relay's coil."""

    kind: Literal["transistor_relay"] = choice(
        "transistor_relay", "Driver", "A transistor and a relay.", words={"transistor_relay": "Transistor, relay"}
    )
    coil_volt: float = number(5.0, "Coil supply", "Supply of the coil.", "volt", 0.5, 60.0)
    coil_ohm: float = number(70.0, "Coil resistance", "Of the relay's coil.", "ohm", 1.0, 1e5)
    transistor_ampere: float = number(
        0.2, "Transistor rating", "Greatest collector current of the transistor.", "ampere", 0.001, 100.0
    )
    flyback_diode: bool = choice(True, "Flyback diode", "Across the coil, against the voltage as it is switched off.")
    contact_ampere: float = number(10.0, "Contact rating", "Rated current of the contact.", "ampere", 0.1, 1000.0)


class Mosfet(Driven):
    """A logic-level MOSFET that switches a DC load."""

    kind: Literal["mosfet"] = choice("mosfet", "Driver", "A MOSFET for a DC load.", words={"mosfet": "MOSFET"})
    on_ohm: float = number(0.02, "On resistance", "At the gate voltage the pin gives, warm.", "ohm", 1e-4, 100.0)
    gate_volt: float = number(
        2.5, "Gate voltage", "Voltage at which it is fully on, by its data sheet.", "volt", 0.5, 20.0
    )
    kelvin_per_watt: float = number(
        60.0, "Junction to air", "Thermal resistance, with its heat sink if it has one.", "kelvin_per_watt", 0.1, 500.0
    )
    rated_ampere: float = number(20.0, "Rated current", "Of the MOSFET.", "ampere", 0.01, 1000.0)
    rated_volt: float = number(30.0, "Rated voltage", "Of the MOSFET, drain to source.", "volt", 1.0, 2000.0)
    inductive: bool = choice(False, "Inductive", "A fan, a motor, a coil or a long cable is switched.")
    flyback_diode: bool = choice(True, "Flyback diode", "Across the load, against the voltage as it is switched off.")


class SolidStateRelay(Driven):
    """A solid-state relay for mains."""

    kind: Literal["solid_state_relay"] = choice(
        "solid_state_relay", "Driver", "A solid-state relay for mains.", words={"solid_state_relay": "Solid state"}
    )
    rated_ampere: float = number(25.0, "Rated current", "Of the solid-state relay.", "ampere", 0.1, 1000.0)
    watt_per_ampere: float = number(
        1.2, "Loss per ampere", "Heat for each ampere; 1 to 1.5 is usual.", "watt", 0.1, 5.0
    )
    kelvin_per_watt: float = number(
        2.0, "Sink to air", "Thermal resistance of its heat sink.", "kelvin_per_watt", 0.05, 100.0
    )
    control_volt: float = number(3.0, "Control voltage", "Lowest voltage its input needs.", "volt", 0.5, 40.0)
    control_ampere: float = number(0.006, "Control current", "Current that its input takes.", "ampere", 1e-4, 0.2)


AnyDriver = TransistorRelay | Mosfet | SolidStateRelay
Driver = Annotated[AnyDriver, Field(discriminator="kind")]
KINDS: dict[str, type[AnyDriver]] = {
    "transistor_relay": TransistorRelay, "mosfet": Mosfet, "solid_state_relay": SolidStateRelay
}  # fmt: skip


class Check(NamedTuple):
    """One line of the list: what was worked out, the figure, whether it holds, and what would do where it does not."""

    what: str
    figure: str
    holds: bool
    remedy: str = ""


def _check(what: str, figure: str, holds: bool, remedy: str) -> Check:
    return Check(what, figure, holds, "" if holds else remedy)


def preferred_ohm(most_ohm: float) -> float:
    """The largest preferred resistor (E12) that is not above `most_ohm`."""
    decade = 10.0 ** math.floor(math.log10(most_ohm))
    return max(step * decade for step in E12 if step * decade <= most_ohm * (1.0 + 1e-9))


def load_ampere(settings: AnyDriver, watt: float | None, ampere: float | None = None) -> float | None:
    """Current of the load, A: P/V; None where its power is not known. `watt` is what hangs on the driver.

    `ampere` is a current that is set by itself, as that of a thermoelectric stage is; a load_watt goes before both.
    """
    if ampere is not None and settings.load_watt is None:
        return ampere
    load_watt = settings.load_watt if settings.load_watt is not None else watt
    return None if load_watt is None else load_watt / settings.load_volt


def checked(
    settings: AnyDriver, watt: float | None, ambient_celsius: float, own_ampere: float | None = None
) -> list[Check]:
    """The driver, point by point. `watt` is what hangs on it at full output, None where its model knows none."""
    ampere = load_ampere(settings, watt, own_ampere)
    if ampere is None:
        return [Check("Load's current", "not known", False, "give load_watt: this load's model knows no watts")]
    lines = [Check("Load's current", f"{ampere:.3g} A", True)]
    if isinstance(settings, TransistorRelay):
        return lines + _relay_lines(settings, ampere)
    if isinstance(settings, Mosfet):
        return lines + _mosfet_lines(settings, ampere, ambient_celsius)
    return lines + _solid_state_lines(settings, ampere, ambient_celsius)


def _relay_lines(settings: TransistorRelay, ampere: float) -> list[Check]:
    coil = settings.coil_volt / settings.coil_ohm
    base = coil / FORCED_GAIN
    over = settings.pin_volt - BASE_VOLT
    lines = [
        _check(
            "Coil's current", f"{coil * 1e3:.3g} mA", coil <= 0.5 * settings.transistor_ampere,
            f"use a transistor for {2.0 * coil:.2g} A at least",
        ),
        _check(
            "Base current, a tenth of it", f"{base * 1e3:.3g} mA", base <= settings.pin_ampere,
            f"the pin gives {settings.pin_ampere * 1e3:.3g} mA: use a MOSFET or a coil that takes less",
        ),
    ]  # fmt: skip
    if over <= 0.0:
        lines.append(Check("Base resistor", "none fits", False, f"a pin of {settings.pin_volt:g} V cannot turn it on"))
    else:
        ohm = preferred_ohm(over / base)
        drawn = over / ohm
        lines.append(
            _check(
                "Base resistor", f"{ohm:.3g} Ω (at most {over / base:.3g} Ω), {drawn * 1e3:.3g} mA",
                base > settings.pin_ampere or drawn <= settings.pin_ampere * (1.0 + 1e-9),
                f"that is more than the {settings.pin_ampere * 1e3:.3g} mA of the pin, and the next one up gives the"
                " base too little: use a MOSFET or a coil that takes less",
            )
        )  # fmt: skip
    lines.append(
        _check(
            "Flyback diode", "across the coil" if settings.flyback_diode else "missing", settings.flyback_diode,
            "put a diode across the coil, cathode to plus: without it the transistor dies",
        )
    )  # fmt: skip
    lines.append(
        _check(
            "Contact", f"{settings.contact_ampere:g} A for {ampere:.3g} A", settings.contact_ampere >= 1.25 * ampere,
            f"use a contact for {1.25 * ampere:.2g} A at least",
        )
    )  # fmt: skip
    return lines


def _mosfet_lines(settings: Mosfet, ampere: float, ambient_celsius: float) -> list[Check]:
    loss = ampere**2 * settings.on_ohm
    junction = ambient_celsius + loss * settings.kelvin_per_watt
    lines = [
        _check(
            "Gate", f"{settings.pin_volt:g} V for {settings.gate_volt:g} V", settings.pin_volt >= settings.gate_volt,
            f"use a logic-level MOSFET that is fully on at {settings.pin_volt:g} V, or a gate driver",
        ),
        _check(
            "Loss, I²·R", f"{loss:.3g} W, junction {junction:.0f} °C", junction <= HOTTEST_JUNCTION_CELSIUS,
            "use a lower on resistance or a heat sink",
        ),
        _check(
            "Rated current", f"{settings.rated_ampere:g} A", settings.rated_ampere >= LEAST_RATING * ampere,
            f"use one for {LEAST_RATING * ampere:.2g} A at least: twice the load",
        ),
        _check(
            "Rated voltage", f"{settings.rated_volt:g} V", settings.rated_volt >= 1.5 * settings.load_volt,
            f"use one for {1.5 * settings.load_volt:.2g} V at least",
        ),
    ]  # fmt: skip
    if settings.inductive:
        lines.append(
            _check(
                "Flyback diode", "across the load" if settings.flyback_diode else "missing", settings.flyback_diode,
                "put a fast diode across the load, cathode to plus",
            )
        )  # fmt: skip
    lines.append(Check("Gate to ground", "10 kΩ: off while the pin floats at reset", True))
    return lines


def _solid_state_lines(settings: SolidStateRelay, ampere: float, ambient_celsius: float) -> list[Check]:
    loss = ampere * settings.watt_per_ampere
    sink = ambient_celsius + loss * settings.kelvin_per_watt
    return [
        _check(
            "Rated current", f"{settings.rated_ampere:g} A", settings.rated_ampere >= LEAST_RATING * ampere,
            f"use one for {LEAST_RATING * ampere:.2g} A at least: twice the load",
        ),
        _check(
            "Heat of the relay", f"{loss:.3g} W, sink {sink:.0f} °C", sink <= 80.0,
            f"use a heat sink of {max((80.0 - ambient_celsius) / loss, 0.0) if loss else 99.0:.2g} K/W or better",
        ),
        _check(
            "Control voltage", f"{settings.pin_volt:g} V for {settings.control_volt:g} V",
            settings.pin_volt >= settings.control_volt, "put a transistor between, or use one with a lower input",
        ),
        _check(
            "Control current", f"{settings.control_ampere * 1e3:.3g} mA",
            settings.control_ampere <= settings.pin_ampere,
            f"the pin gives {settings.pin_ampere * 1e3:.3g} mA: put a transistor between",
        ),
    ]  # fmt: skip


def cautions(settings: AnyDriver) -> list[str]:
    """What can hurt, for this driver."""
    lines = []
    if settings.load_volt > 50.0:
        lines.append("Mains: for a licensed person, by local codes; fuse and conductor too.")
    if isinstance(settings, SolidStateRelay):
        lines.append("It fails shorted: a cut-out of its own, not through this controller, must be able to cut power.")
    if isinstance(settings, TransistorRelay):
        lines.append("A contact can weld: a cut-out of its own must be able to cut power.")
    if isinstance(settings, Mosfet):
        lines.append("It fails shorted: a fuse, and a cut-out that does not share it.")
    lines.append("Measure its temperature in its enclosure at full load.")
    return lines
