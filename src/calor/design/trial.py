"""A trial: what a design is run under, and the events that happen in it."""

from __future__ import annotations

from typing import Annotated, Literal, get_args

from pydantic import Field, Strict

from calor.settings import Settings, choice, difference, duration, fraction, kind_word, number, temperature


class Timed(Settings):
    """What all events have: when they start and how long they last."""

    at_s: float = duration(..., "Start time", "When it starts.", 0.0, 1e8)
    for_s: float = duration(0.0, "Duration", "How long it lasts; 0: to the end of the trial.", 0.0, 1e8)

    @property
    def says(self) -> str:
        """What happens, in a few words."""
        return kind_word(type(self)).lower()


class Door(Timed):
    """A door or lid is open: the load loses more."""

    kind: Literal["door"] = choice("door", "Event", "A door or lid is open.", words={"door": "Door open"})
    extra_loss_w_per_k: float = number(5.0, "Extra loss", "Loss beside the load's own.", "w_per_k", 0.0, 1e5)


class AmbientStep(Timed):
    """The ambient temperature changes."""

    kind: Literal["ambient_step"] = choice(
        "ambient_step", "Event", "The ambient temperature changes.", words={"ambient_step": "Ambient step"}
    )
    celsius: float = temperature(..., "New temperature", "Ambient temperature while it lasts.")

    @property
    def says(self) -> str:
        return f"ambient {self.celsius:g} °C"


class PowerStep(Timed):
    """The supply gives more or less than it should."""

    kind: Literal["power_step"] = choice(
        "power_step", "Event", "The supply gives more or less than it should.", words={"power_step": "Power step"}
    )
    power_fraction: float = number(
        ..., "Power", "Power in proportion to the nominal, 0.8 for 80 %.", "fraction", 0.0, 2.0
    )

    @property
    def says(self) -> str:
        return f"power {self.power_fraction * 100:g} %"


class MainsVoltage(Timed):
    """The mains is higher or lower than it should be: power follows its square."""

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


class SetpointStep(Timed):
    """The setpoint is changed."""

    kind: Literal["setpoint_step"] = choice(
        "setpoint_step", "Event", "The setpoint is changed.", words={"setpoint_step": "Setpoint step"}
    )
    celsius: float = temperature(..., "New temperature", "Setpoint while it lasts.")

    @property
    def says(self) -> str:
        return f"setpoint {self.celsius:g} °C"


class ProbeOpen(Timed):
    """The probe's wire is broken."""

    kind: Literal["probe_open"] = choice(
        "probe_open", "Event", "The probe's wire is broken.", words={"probe_open": "Probe open"}
    )


class ProbeShort(Timed):
    """The probe's wires touch."""

    kind: Literal["probe_short"] = choice(
        "probe_short", "Event", "The probe's wires touch.", words={"probe_short": "Probe shorted"}
    )


class ProbeReversed(Timed):
    """The wires of a thermocouple are swapped: it falls as it heats."""

    kind: Literal["probe_reversed"] = choice(
        "probe_reversed",
        "Event",
        "The wires of a thermocouple are swapped.",
        words={"probe_reversed": "Probe wires swapped"},
    )


class ProbeStuck(Timed):
    """The converter gives the same code again and again."""

    kind: Literal["probe_stuck"] = choice(
        "probe_stuck",
        "Event",
        "The converter gives one code again and again.",
        words={"probe_stuck": "Probe code stuck"},
    )


class MainsLost(Timed):
    """No power: the output is dead and the controller starts afresh when it returns."""

    kind: Literal["mains_lost"] = choice(
        "mains_lost",
        "Event",
        "No power; the controller starts afresh when it returns.",
        words={"mains_lost": "Mains lost"},
    )


class ContentsAdded(Timed):
    """Something cold, or hot, is put in, and stays."""

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


class ByHand(Timed):
    """The output is set by hand, and given back to the law."""

    kind: Literal["manual"] = choice(
        "manual", "Event", "The output is set by hand, and given back to the law.", words={"manual": "Manual"}
    )
    output: float = fraction(..., "Output", "Share of full output; below 0 it cools.", -1.0)

    @property
    def says(self) -> str:
        return f"by hand {self.output * 100:g} %"


class KnobTurned(Timed):
    """The knob is turned."""

    kind: Literal["knob_turned"] = choice(
        "knob_turned", "Event", "The knob is turned.", words={"knob_turned": "Knob turned"}
    )
    to_fraction: float = fraction(..., "Knob position", "0: its lowest end, 1: its highest.")

    @property
    def says(self) -> str:
        return f"knob to {self.to_fraction * 100:g} %"


class Stalled(Timed):
    """The firmware hangs: no decision, and the pins stay as they are."""

    kind: Literal["stalled"] = choice(
        "stalled", "Event", "The firmware hangs, and its pins stay as they are.", words={"stalled": "Firmware hangs"}
    )


class OutputStuckOn(Timed):
    """The switch stays on: a welded contact, a solid-state relay that failed shorted."""

    kind: Literal["output_stuck_on"] = choice(
        "output_stuck_on",
        "Event",
        "The switch stays on: welded or shorted.",
        words={"output_stuck_on": "Switch stuck on"},
    )


class OutputStuckOff(Timed):
    """The switch stays off: a broken wire, a burnt-out element."""

    kind: Literal["output_stuck_off"] = choice(
        "output_stuck_off",
        "Event",
        "The switch, or what it feeds, stays off.",
        words={"output_stuck_off": "Switch stuck off"},
    )


class OutputInverted(Timed):
    """An active-low module wired as an active-high one: on where it should be off."""

    kind: Literal["output_inverted"] = choice(
        "output_inverted",
        "Event",
        "An active-low module driven as an active-high one.",
        words={"output_inverted": "Output inverted"},
    )


AnyEvent = (
    Door
    | AmbientStep
    | PowerStep
    | MainsVoltage
    | SetpointStep
    | ProbeOpen
    | ProbeShort
    | ProbeReversed
    | ProbeStuck
    | MainsLost
    | ContentsAdded
    | ByHand
    | KnobTurned
    | Stalled
    | OutputStuckOn
    | OutputStuckOff
    | OutputInverted
)
Event = Annotated[AnyEvent, Field(discriminator="kind")]

EVENT_KINDS: dict[str, type[AnyEvent]] = {kind.model_fields["kind"].default: kind for kind in get_args(AnyEvent)}


def describe(event: AnyEvent) -> str:
    """A few words that say what the event does."""
    return f"{event.says} {event.for_s:g} s" if event.for_s else event.says


class Trial(Settings):
    """One run of the design: how long, from where, in what surroundings, with which events."""

    name: str = Field(
        default="Trial", title="Name", description="How the trial is called.", min_length=1, max_length=80
    )
    span_s: float = duration(3600.0, "Span", "How long the trial runs.", 0.01, 1e8)
    start_celsius: float | None = temperature(
        None, "Start temperature", "Temperature of everything at the start; ambient where it is left out."
    )
    ambient_celsius: float | None = temperature(
        None, "Ambient", "Ambient temperature in this trial; the load's own where it is left out."
    )
    swing_celsius: float = difference(
        0.0, "Daily swing", "How far the ambient goes above and below its mean.", 0.0, 500.0
    )
    warmest_at_s: float = duration(
        50_400.0, "Warmest at", "When the swing is at its warmest; 50400 is 14:00 where the trial starts at midnight.",
        0.0, 1e8,
    )  # fmt: skip
    swing_period_s: float = duration(86_400.0, "Swing period", "One day, where it is not another rhythm.", 60.0, 1e8)
    ambient_csv: str | None = Field(
        default=None, title="Recorded ambient", description="CSV file of the ambient, beside the design file.",
        min_length=1, max_length=400,
    )  # fmt: skip
    ambient_column: str | None = Field(
        default=None, title="Column", description="Column of the temperature in °C; the second where left out.",
        max_length=80,
    )  # fmt: skip
    humidity: float = fraction(0.6, "Humidity", "Relative humidity of the air at its mean temperature.")
    humidity_column: str | None = Field(
        default=None, title="Humidity column", description="Column of the relative humidity in %, if recorded.",
        max_length=80,
    )  # fmt: skip
    seed: int = number(1, "Seed", "Which series of random noise the probe sees.", "integer", 0, 2**31 - 1)
    events: Annotated[tuple[Event, ...], Strict(False)] = Field(
        default=(), title="Events", description="What happens during the trial."
    )


class Limits(Settings):
    """What a pass is. A limit that is left out is not judged."""

    band_celsius: float = difference(0.5, "Band", "Distance from the setpoint that counts as in band.", 0.001, 500.0)
    overshoot_celsius: float | None = difference(None, "Overshoot", "Furthest past the setpoint.")
    in_band_within_s: float | None = duration(None, "In band after", "Latest time to be in the band and stay.")
    ripple_celsius: float | None = difference(None, "Ripple, settled", "Peak to peak once settled.")
    mean_error_celsius: float | None = difference(
        None, "Mean error", "Average distance from the setpoint once settled."
    )
    recovery_s: float | None = duration(None, "Recovery", "Longest time back to the band after a disturbance.")
    switchings_per_hour: float | None = number(
        None, "Switchings per hour", "Changes of the switch, on and off counted.", "number", 0.0, 1e7
    )
    peak_celsius: float | None = temperature(None, "Highest reading", "The reading never goes above this.")
    lowest_celsius: float | None = temperature(None, "Lowest reading", "The reading never goes below this.")
    in_band_fraction: float | None = fraction(None, "In band, share", "Least share of the whole trial in the band.")
    energy_wh: float | None = number(None, "Energy", "Electrical energy over the whole trial, Wh.", "number", 0.0, 1e9)
