"""A trial: what a design is run under, and the events that happen in it."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, Strict

from calor.settings import Settings, choice, difference, duration, fraction, number, temperature


class Timed(Settings):
    """What all events have: when they start and how long they last."""

    at_s: float = duration(..., "Start time", "When it starts.", 0.0, 1e8)
    for_s: float = duration(0.0, "Duration", "How long it lasts; 0: to the end of the trial.", 0.0, 1e8)


class Door(Timed):
    """A door or lid is open: the load loses more."""

    kind: Literal["door"] = choice("door", "Event", "A door or lid is open.")
    extra_loss_w_per_k: float = number(5.0, "Extra loss", "Loss beside the load's own.", "w_per_k", 0.0, 1e5)


class AmbientStep(Timed):
    """The ambient temperature changes."""

    kind: Literal["ambient_step"] = choice("ambient_step", "Event", "The ambient temperature changes.")
    celsius: float = temperature(..., "New temperature", "Ambient temperature while it lasts.")


class PowerStep(Timed):
    """The supply gives more or less than it should."""

    kind: Literal["power_step"] = choice("power_step", "Event", "The supply gives more or less than it should.")
    power_fraction: float = number(
        ..., "Power", "Power in proportion to the nominal, 0.8 for 80 %.", "fraction", 0.0, 2.0
    )


class MainsVoltage(Timed):
    """The mains is higher or lower than it should be: power follows its square."""

    kind: Literal["mains_voltage"] = choice("mains_voltage", "Event", "The mains is higher or lower than it should be.")
    voltage_fraction: float = number(
        ..., "Voltage", "Voltage in proportion to the nominal, 0.9 for 90 %.", "fraction", 0.0, 1.5
    )


class SetpointStep(Timed):
    """The setpoint is changed."""

    kind: Literal["setpoint_step"] = choice("setpoint_step", "Event", "The setpoint is changed.")
    celsius: float = temperature(..., "New temperature", "Setpoint while it lasts.")


class ProbeOpen(Timed):
    """The probe's wire is broken."""

    kind: Literal["probe_open"] = choice("probe_open", "Event", "The probe's wire is broken.")


class ProbeShort(Timed):
    """The probe's wires touch."""

    kind: Literal["probe_short"] = choice("probe_short", "Event", "The probe's wires touch.")


class ProbeReversed(Timed):
    """The wires of a thermocouple are swapped: it falls as it heats."""

    kind: Literal["probe_reversed"] = choice("probe_reversed", "Event", "The wires of a thermocouple are swapped.")


class ProbeStuck(Timed):
    """The converter gives the same code again and again."""

    kind: Literal["probe_stuck"] = choice("probe_stuck", "Event", "The converter gives one code again and again.")


class MainsLost(Timed):
    """No power: the output is dead and the controller starts afresh when it returns."""

    kind: Literal["mains_lost"] = choice(
        "mains_lost", "Event", "No power; the controller starts afresh when it returns."
    )


class ContentsAdded(Timed):
    """Something cold, or hot, is put in, and stays."""

    kind: Literal["contents_added"] = choice("contents_added", "Event", "Something cold, or hot, is put in, and stays.")
    heat_capacity_j_per_k: float = number(..., "Heat capacity", "Of what is put in.", "j_per_k", 0.01, 1e9)
    celsius: float = temperature(..., "Temperature put in", "Temperature of what is put in.")


class ByHand(Timed):
    """The output is set by hand, and given back to the law."""

    kind: Literal["manual"] = choice("manual", "Event", "The output is set by hand, and given back to the law.")
    output: float = fraction(..., "Output", "Share of full output; below 0 it cools.", -1.0)


class KnobTurned(Timed):
    """The knob is turned."""

    kind: Literal["knob_turned"] = choice("knob_turned", "Event", "The knob is turned.")
    to_fraction: float = fraction(..., "Knob position", "0: its lowest end, 1: its highest.")


class Stalled(Timed):
    """The firmware hangs: no decision, and the pins stay as they are."""

    kind: Literal["stalled"] = choice("stalled", "Event", "The firmware hangs, and its pins stay as they are.")


class OutputStuckOn(Timed):
    """The switch stays on: a welded contact, a solid-state relay that failed shorted."""

    kind: Literal["output_stuck_on"] = choice("output_stuck_on", "Event", "The switch stays on: welded or shorted.")


class OutputStuckOff(Timed):
    """The switch stays off: a broken wire, a burnt-out element."""

    kind: Literal["output_stuck_off"] = choice("output_stuck_off", "Event", "The switch, or what it feeds, stays off.")


class OutputInverted(Timed):
    """An active-low module wired as an active-high one: on where it should be off."""

    kind: Literal["output_inverted"] = choice(
        "output_inverted", "Event", "An active-low module driven as an active-high one."
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

EVENT_KINDS: dict[str, type[AnyEvent]] = {
    "door": Door,
    "ambient_step": AmbientStep,
    "power_step": PowerStep,
    "mains_voltage": MainsVoltage,
    "setpoint_step": SetpointStep,
    "probe_open": ProbeOpen,
    "probe_short": ProbeShort,
    "probe_reversed": ProbeReversed,
    "probe_stuck": ProbeStuck,
    "mains_lost": MainsLost,
    "contents_added": ContentsAdded,
    "manual": ByHand,
    "knob_turned": KnobTurned,
    "stalled": Stalled,
    "output_stuck_on": OutputStuckOn,
    "output_stuck_off": OutputStuckOff,
    "output_inverted": OutputInverted,
}


def describe(event: AnyEvent) -> str:
    """A few words that say what the event does."""
    words = {
        "door": "door open",
        "probe_open": "probe open",
        "probe_short": "probe shorted",
        "probe_reversed": "probe reversed",
        "probe_stuck": "probe stuck",
        "mains_lost": "mains lost",
        "stalled": "firmware hangs",
        "output_stuck_on": "switch stuck on",
        "output_stuck_off": "switch stuck off",
        "output_inverted": "output inverted",
    }
    if isinstance(event, AmbientStep):
        text = f"ambient {event.celsius:g} °C"
    elif isinstance(event, SetpointStep):
        text = f"setpoint {event.celsius:g} °C"
    elif isinstance(event, MainsVoltage):
        text = f"mains {event.voltage_fraction * 100:g} %"
    elif isinstance(event, ContentsAdded):
        text = f"{event.heat_capacity_j_per_k:g} J/K at {event.celsius:g} °C put in"
    elif isinstance(event, ByHand):
        text = f"by hand {event.output * 100:g} %"
    elif isinstance(event, KnobTurned):
        text = f"knob to {event.to_fraction * 100:g} %"
    elif isinstance(event, PowerStep):
        text = f"power {event.power_fraction * 100:g} %"
    else:
        text = words[event.kind]
    return f"{text} {event.for_s:g} s" if event.for_s else text


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
