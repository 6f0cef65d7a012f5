"""All events of a trial: what each is set by, what it says, what it goes with and what it changes."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Literal, Union

import numpy as np
from pydantic import Field

from calor.design.event import (
    ADDED,
    ADDED_CELSIUS,
    AMBIENT,
    EXTRA,
    HAND,
    POWER,
    SETPOINT,
    STALLED,
    WIRED,
    Span,
    Timed,
)
from calor.design.heat_added import HeatAdded
from calor.design.probe_events import ProbeFallen, ProbeSlow
from calor.design.switch_events import OutputBouncing, OutputInverted, OutputStuckOff, OutputStuckOn
from calor.design.tune import Tune
from calor.law.pid import Pid
from calor.load import registry as loads
from calor.sense import knob
from calor.sense.mounting import OPEN, REVERSED, SHORT, STUCK
from calor.settings import choice, fraction, number, temperature

if TYPE_CHECKING:
    from calor.design.model import Design


def _scale_power(span: Span, share: float) -> None:
    """More or less power; what else scales it at the same time multiplies, and without mains there is none."""
    now = span.values[span.during, POWER]
    span.values[span.during, POWER] = np.where(now < 0.0, now, now * share)


class Door(Timed):
    """A door or lid is open: the load loses more."""

    at_first: ClassVar[dict[str, Any]] = {"for_s": 90.0}
    kind: Literal["door"] = choice("door", "Event", "A door or lid is open.", words={"door": "Door open"})
    extra_loss_w_per_k: float = number(5.0, "Extra loss", "Loss beside the load's own.", "w_per_k", 0.0, 1e5)

    def problem(self, design: Design) -> str:
        if loads.loses_heat(design.load):
            return ""
        return (
            f"opens a door, and a load of kind {design.load.kind} knows no W/K;"
            " use a lump, chamber or liquid load, or an ambient_step"
        )

    def change(self, design: Design, span: Span) -> None:
        del design
        span.values[span.during, EXTRA] += self.extra_loss_w_per_k


class AmbientStep(Timed):
    """The ambient temperature changes."""

    at_first: ClassVar[dict[str, Any]] = {"celsius": 10.0}
    kind: Literal["ambient_step"] = choice(
        "ambient_step", "Event", "The ambient temperature changes.", words={"ambient_step": "Ambient step"}
    )
    celsius: float = temperature(..., "New temperature", "Ambient temperature while it lasts.")

    @property
    def says(self) -> str:
        return f"ambient {self.celsius:g} °C"

    def change(self, design: Design, span: Span) -> None:
        del design
        span.values[span.during, AMBIENT] = self.celsius


class PowerStep(Timed):
    """The supply gives more or less than it should."""

    at_first: ClassVar[dict[str, Any]] = {"power_fraction": 0.8}
    kind: Literal["power_step"] = choice(
        "power_step", "Event", "The supply gives more or less than it should.", words={"power_step": "Power step"}
    )
    power_fraction: float = number(
        ..., "Power", "Power in proportion to the nominal, 0.8 for 80 %.", "fraction", 0.0, 2.0
    )

    @property
    def says(self) -> str:
        return f"power {self.power_fraction * 100:g} %"

    def change(self, design: Design, span: Span) -> None:
        by_current = design.load.kind == "thermoelectric"
        _scale_power(span, self.power_fraction**0.5 if by_current else self.power_fraction)


class MainsVoltage(Timed):
    """The mains is higher or lower than it should be: power follows its square."""

    at_first: ClassVar[dict[str, Any]] = {"voltage_fraction": 0.9}
    kind: Literal["mains_voltage"] = choice(
        "mains_voltage",
        "Event",
        "The mains is higher or lower than it should be.",
        words={"mains_voltage": "Mains voltage"},
    )
    voltage_fraction: float = number(
        ..., "Voltage", "Voltage in proportion to the nominal, 0.9 for 90 %.", "fraction", 0.0, 1.5
    )

    @property
    def says(self) -> str:
        return f"mains {self.voltage_fraction * 100:g} %"

    def change(self, design: Design, span: Span) -> None:
        # a current follows the voltage, and its heat the square of it
        by_current = design.load.kind == "thermoelectric"
        _scale_power(span, self.voltage_fraction if by_current else self.voltage_fraction**2)


class SetpointStep(Timed):
    """The setpoint is changed."""

    sets_setpoint = True
    at_first: ClassVar[dict[str, Any]] = {"celsius": 30.0}
    kind: Literal["setpoint_step"] = choice(
        "setpoint_step", "Event", "The setpoint is changed.", words={"setpoint_step": "Setpoint step"}
    )
    celsius: float = temperature(..., "New temperature", "Setpoint while it lasts.")

    @property
    def says(self) -> str:
        return f"setpoint {self.celsius:g} °C"

    def problem(self, design: Design) -> str:
        low, high = design.setpoint.low_limit_celsius, design.setpoint.high_limit_celsius
        if (low is None or self.celsius >= low) and (high is None or self.celsius <= high):
            return ""
        outside = f"steps the setpoint to {self.celsius:g} °C, outside its limits {low} to {high}"
        return f"{outside}; change the step or the limits"

    def change(self, design: Design, span: Span) -> None:
        del design
        span.values[span.during, SETPOINT] = self.celsius


class ProbeOpen(Timed):
    """The probe's wire is broken."""

    writes = (WIRED, OPEN)
    at_first: ClassVar[dict[str, Any]] = {"for_s": 60.0}
    kind: Literal["probe_open"] = choice(
        "probe_open", "Event", "The probe's wire is broken.", words={"probe_open": "Probe open"}
    )


class ProbeShort(Timed):
    """The probe's wires touch."""

    writes = (WIRED, SHORT)
    at_first: ClassVar[dict[str, Any]] = {"for_s": 60.0}
    kind: Literal["probe_short"] = choice(
        "probe_short", "Event", "The probe's wires touch.", words={"probe_short": "Probe shorted"}
    )


class ProbeReversed(Timed):
    """The wires of a thermocouple are swapped: it falls as it heats."""

    writes = (WIRED, REVERSED)
    at_first: ClassVar[dict[str, Any]] = {"for_s": 60.0}
    kind: Literal["probe_reversed"] = choice(
        "probe_reversed",
        "Event",
        "The wires of a thermocouple are swapped.",
        words={"probe_reversed": "Probe wires swapped"},
    )

    def problem(self, design: Design) -> str:
        if design.probe.kind == "thermocouple":
            return ""
        return (
            f"swaps the wires of a {design.probe.kind} probe, which only a thermocouple minds;"
            " take the event away or choose a thermocouple"
        )


class ProbeStuck(Timed):
    """The converter gives the same code again and again."""

    writes = (WIRED, STUCK)
    at_first: ClassVar[dict[str, Any]] = {"for_s": 60.0}
    kind: Literal["probe_stuck"] = choice(
        "probe_stuck",
        "Event",
        "The converter gives one code again and again.",
        words={"probe_stuck": "Probe code stuck"},
    )


class MainsLost(Timed):
    """No power: the output is dead and the controller starts afresh when it returns."""

    writes = (POWER, -1.0)
    at_first: ClassVar[dict[str, Any]] = {"for_s": 300.0}
    kind: Literal["mains_lost"] = choice(
        "mains_lost",
        "Event",
        "No power; the controller starts afresh when it returns.",
        words={"mains_lost": "Mains lost"},
    )


class ContentsAdded(Timed):
    """Something cold, or hot, is put in, and stays."""

    is_instant = True
    at_first: ClassVar[dict[str, Any]] = {"heat_capacity_j_per_k": 500.0, "celsius": 20.0}
    kind: Literal["contents_added"] = choice(
        "contents_added",
        "Event",
        "Something cold, or hot, is put in, and stays.",
        words={"contents_added": "Contents put in"},
    )
    heat_capacity_j_per_k: float = number(..., "Heat capacity", "Of what is put in.", "j_per_k", 0.01, 1e9)
    celsius: float = temperature(..., "Temperature put in", "Temperature of what is put in.")

    @property
    def says(self) -> str:
        return f"{self.heat_capacity_j_per_k:g} J/K at {self.celsius:g} °C put in"

    def problem(self, design: Design) -> str:
        if loads.takes_contents(design.load):
            return ""
        return (
            f"puts contents in, and a load of kind {design.load.kind} has no place for them;"
            " use a lump, chamber or liquid load"
        )

    def change(self, design: Design, span: Span) -> None:
        del design
        rows = span.at_s == self.at_s
        # what else is put in at the same instant mixes with it
        before, celsius = span.values[rows, ADDED], span.values[rows, ADDED_CELSIUS]
        together = before + self.heat_capacity_j_per_k
        span.values[rows, ADDED_CELSIUS] = (before * celsius + self.heat_capacity_j_per_k * self.celsius) / together
        span.values[rows, ADDED] = together


class ByHand(Timed):
    """The output is set by hand, and given back to the law."""

    at_first: ClassVar[dict[str, Any]] = {"output": 0.5, "for_s": 300.0}
    kind: Literal["manual"] = choice(
        "manual", "Event", "The output is set by hand, and given back to the law.", words={"manual": "Manual"}
    )
    output: float = fraction(..., "Output", "Share of full output; below 0 it cools.", -1.0)

    @property
    def says(self) -> str:
        return f"by hand {self.output * 100:g} %"

    def problem(self, design: Design) -> str:
        if not (isinstance(design.law, Pid) and design.law.manual_mode):
            return "sets the output by hand, and the law has no manual mode; set law.manual_mode of a pid law to true"
        if self.output < 0.0 and design.law.action != "heat_cool":
            return (
                f"sets an output of {self.output:g}, and the law has one output; give 0 to 1, or let the law heat_cool"
            )
        return ""

    def change(self, design: Design, span: Span) -> None:
        del design
        span.values[span.during, HAND] = self.output


class KnobTurned(Timed):
    """The knob is turned."""

    sets_setpoint = True
    at_first: ClassVar[dict[str, Any]] = {"to_fraction": 0.5}
    kind: Literal["knob_turned"] = choice(
        "knob_turned", "Event", "The knob is turned.", words={"knob_turned": "Knob turned"}
    )
    to_fraction: float = fraction(..., "Knob position", "0: its lowest end, 1: its highest.")

    @property
    def says(self) -> str:
        return f"knob to {self.to_fraction * 100:g} %"

    def problem(self, design: Design) -> str:
        return "" if design.knob is not None else "turns the knob, and there is none; add a [knob]"

    def change(self, design: Design, span: Span) -> None:
        if design.knob is not None:
            span.values[span.during, SETPOINT] = knob.celsius_at(design.knob, self.to_fraction)


class Stalled(Timed):
    """The firmware hangs: no decision, and the pins stay as they are."""

    writes = (STALLED, 1.0)
    at_first: ClassVar[dict[str, Any]] = {"for_s": 60.0}
    kind: Literal["stalled"] = choice(
        "stalled", "Event", "The firmware hangs, and its pins stay as they are.", words={"stalled": "Firmware hangs"}
    )

    def end_s(self, span_s: float, watchdog_s: float | None) -> float:
        if watchdog_s is None:
            return super().end_s(span_s, watchdog_s)
        return self.at_s + min(self.for_s or watchdog_s, watchdog_s)


EVENTS: tuple[type[Timed], ...] = (
    Door,
    AmbientStep,
    PowerStep,
    MainsVoltage,
    SetpointStep,
    ProbeOpen,
    ProbeShort,
    ProbeReversed,
    ProbeStuck,
    ProbeFallen,
    ProbeSlow,
    MainsLost,
    ContentsAdded,
    HeatAdded,
    ByHand,
    Tune,
    KnobTurned,
    Stalled,
    OutputStuckOn,
    OutputStuckOff,
    OutputInverted,
    OutputBouncing,
)
"""All kinds, in the order in which they are offered."""
EVENT_KINDS: dict[str, type[Timed]] = {kind.model_fields["kind"].default: kind for kind in EVENTS}
if TYPE_CHECKING:
    AnyEvent = Timed
else:
    AnyEvent = Union[EVENTS]  # noqa: UP007 - of a tuple that is written once
Event = Annotated[AnyEvent, Field(discriminator="kind")]


def describe(event: AnyEvent) -> str:
    """A few words that say what the event does."""
    return f"{event.says} {event.for_s:g} s" if event.for_s else event.says
