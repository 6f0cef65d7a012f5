"""A trial: what a design is run under; and what a pass is."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

from pydantic import Field, Strict

from calor.design.events import Event
from calor.settings import Settings, difference, duration, fraction, number, temperature


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
    output_csv: str | None = Field(
        default=None, title="Recorded output",
        description="CSV file of what was switched, given to the load in place of what law and drive decide.",
        min_length=1, max_length=400,
    )  # fmt: skip
    output_column: str | None = Field(
        default=None, title="Output column", description="Column of the output, 0 to 1; the second where left out.",
        max_length=80,
    )  # fmt: skip
    seed: int = number(1, "Seed", "Which series of random noise the probe sees.", "integer", 0, 2**31 - 1)
    events: Annotated[tuple[Event, ...], Strict(False)] = Field(
        default=(), title="Events", description="What happens during the trial."
    )


@dataclass(frozen=True)
class On:
    """What a limit is on: a metric of a run, which is to be at most the limit, or at least."""

    metric: str
    at_least: bool = False


class Limits(Settings):
    """What a pass is. A limit that is left out is not judged. In the order in which they are shown."""

    band_celsius: float = difference(0.5, "Band", "Distance from the setpoint that counts as in band.", 0.001, 500.0)
    overshoot_celsius: Annotated[float | None, On("overshoot_celsius")] = difference(
        None, "Overshoot", "Furthest past the setpoint."
    )
    in_band_within_s: Annotated[float | None, On("time_to_band_s")] = duration(
        None, "In band after", "Latest time to be in the band and stay."
    )
    ripple_celsius: Annotated[float | None, On("settled_ripple_celsius")] = difference(
        None, "Ripple, settled", "Peak to peak once settled."
    )
    mean_error_celsius: Annotated[float | None, On("mean_error_celsius")] = difference(
        None, "Mean error", "Average distance from the setpoint once settled."
    )
    recovery_s: Annotated[float | None, On("recovery_s")] = duration(
        None, "Recovery", "Longest time back to the band after a disturbance."
    )
    switchings_per_hour: Annotated[float | None, On("switchings_per_hour")] = number(
        None, "Switchings per hour", "Changes of the switch, on and off counted.", "number", 0.0, 1e7
    )
    peak_celsius: Annotated[float | None, On("peak_celsius")] = temperature(
        None, "Highest reading", "The reading never goes above this."
    )
    lowest_celsius: Annotated[float | None, On("lowest_celsius", at_least=True)] = temperature(
        None, "Lowest reading", "The reading never goes below this."
    )
    in_band_fraction: Annotated[float | None, On("in_band_fraction", at_least=True)] = fraction(
        None, "In band, share", "Least share of the whole trial in the band."
    )
    energy_wh: Annotated[float | None, On("energy_wh")] = number(
        None, "Energy", "Electrical energy over the whole trial, Wh.", "number", 0.0, 1e9
    )


def limited() -> dict[str, On]:
    """What each limit is on, in their order."""
    fields = Limits.model_fields.items()
    return {name: rule for name, field in fields for rule in field.metadata if isinstance(rule, On)}
