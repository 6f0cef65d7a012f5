"""What a design is proved over: how far each part may be off, which single faults are tried, and what is safe."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any, Literal, Self

from pydantic import Field, Strict, model_validator

from calor.settings import Settings, choice, duration, fraction, number, quantity_of, temperature

if TYPE_CHECKING:
    from calor.design.model import Design

FAULTS = {
    "probe_open": "Probe open",
    "probe_short": "Probe shorted",
    "probe_stuck": "Probe code stuck",
    "probe_reversed": "Probe wires swapped",
    "probe_fallen": "Probe fallen out",
    "probe_slow": "Probe slow",
    "supply_high": "Sensor supply high",
    "supply_low": "Sensor supply low",
    "switch_stuck_on": "Switch stuck on",
    "switch_stuck_off": "Switch stuck off",
    "switch_inverted": "Switch inverted",
    "switch_bouncing": "Contact bounces",
    "firmware_hung": "Firmware hangs",
    "mains_lost": "Mains lost and back",
    "setpoint_high": "Setpoint at its high limit",
    "setpoint_low": "Setpoint at its low limit",
}
"""All single faults by name, in the order in which they are tried, with what each is called."""
FaultName = Literal[
    "probe_open", "probe_short", "probe_stuck", "probe_reversed", "probe_fallen", "probe_slow", "supply_high",
    "supply_low", "switch_stuck_on", "switch_stuck_off", "switch_inverted", "switch_bouncing", "firmware_hung",
    "mains_lost", "setpoint_high", "setpoint_low",
]  # fmt: skip


class Spread(Settings):
    """How far one thing may be off its nominal value: `within` so much to either side, or from `low` to `high`; the
    usual width where neither is given."""

    within: float | None = number(
        None, "Largest deviation", "As far as this to either side of the nominal value.", "number", 0.0, 1000.0
    )
    low: float | None = number(None, "Low", "Where it begins, with high in place of within.", "number", -1000.0, 1000.0)
    high: float | None = number(None, "High", "Where it ends, with low in place of within.", "number", -1000.0, 1000.0)
    distribution: Literal["uniform", "triangular", "normal"] = choice(
        "uniform", "Distribution",
        "uniform: all alike; triangular: the middle most; normal: the ends at three standard deviations, none beyond.",
    )  # fmt: skip

    @model_validator(mode="after")
    def _one_interval(self) -> Self:
        if (self.low is None) != (self.high is None):
            raise ValueError("needs both low and high, or within alone")
        if self.low is not None and self.within is not None:
            raise ValueError("takes either within or low and high, not both; take one of them away")
        if self.low is not None and self.high is not None and self.low > self.high:
            raise ValueError(f"low ({self.low:g}) must not be above high ({self.high:g}); swap them")
        return self

    def interval(self, usual: float) -> tuple[float, float]:
        """From where to where it goes, about 0; `usual` to either side where nothing is given."""
        if self.low is not None and self.high is not None:
            return self.low, self.high
        within = usual if self.within is None else self.within
        return -within, within


class LoadSpread(Spread):
    """How far one key of the load may be off, as a share of it: within = 0.1 for 10 %."""

    key: str = Field(title="Key", description="Which key of [load].", min_length=1, max_length=60)


class Safe(Settings):
    """What must be kept when something has failed. A limit that is left out is not judged."""

    highest_celsius: float | None = temperature(
        None, "Highest temperature", "The load, where the probe sits or sat, never goes above this."
    )
    lowest_celsius: float | None = temperature(
        None, "Lowest temperature", "The load, where the probe sits or sat, never goes below this."
    )
    energy_wh: float | None = number(None, "Energy", "Electrical energy over the whole trial, Wh.", "number", 0.0, 1e9)
    off_within_s: float | None = duration(
        None, "Output off within", "After a fault that ought to end in outputs that are off."
    )


class Proof(Settings):
    """What the design is proved over."""

    runs: int = number(200, "Runs", "Runs of each trial with all tolerances drawn together.", "integer", 1, 1_000_000)
    seed: int = number(1, "Seed", "Which series of draws.", "integer", 0, 2**31 - 1)
    early_fault_fraction: float = fraction(
        0.1, "Early fault", "When in a trial a fault comes that finds it still on its way, as a share of its span."
    )
    late_fault_fraction: float = fraction(
        0.5, "Late fault", "When in a trial a fault comes that finds it settled, as a share of its span."
    )
    leave_out: Annotated[tuple[FaultName, ...], Strict(False)] = Field(
        default=(), title="Left out", description="Single faults that are not tried."
    )
    independent_cut_out_celsius: float | None = temperature(
        None, "Independent cut-out",
        "A part that shares neither probe, controller nor switch takes all power away, for good, above this.",
    )  # fmt: skip
    safe: Safe = Field(default=Safe(), title="Safe", description="What must be kept at a single fault.")
    probe: Spread = Field(
        default=Spread(), title="Probe", description="Its own tolerances, 1 for all of each; usual 1 to either side."
    )
    converter: Spread = Field(
        default=Spread(), title="Converter",
        description="Tolerances of converter, reference and supply, 1 for all of each; usual 1 to either side.",
    )  # fmt: skip
    ambient_celsius: Spread = Field(
        default=Spread(), title="Ambient", description="Added to the ambient, °C; usual 3 to either side."
    )
    mains_voltage_fraction: Spread = Field(
        default=Spread(), title="Mains voltage", description="Share of the voltage; usual 0.1 to either side."
    )
    window_fraction: Spread = Field(
        default=Spread(), title="Drive window", description="Share of the drive's window; usual 0.01 to either side."
    )
    clock_fraction: Spread = Field(
        default=Spread(), title="Chip clock",
        description="Share by which the controller's clock is fast; usual 0.02 to either side.",
    )  # fmt: skip
    load: Annotated[tuple[LoadSpread, ...], Strict(False)] = Field(
        default=(), title="Load",
        description="Keys of the load that are off by another width than usual; within = 0 leaves one out.",
    )  # fmt: skip

    @model_validator(mode="after")
    def _early_before_late(self) -> Self:
        if self.early_fault_fraction > self.late_fault_fraction:
            raise ValueError(
                f"early_fault_fraction ({self.early_fault_fraction:g}) must not be above late_fault_fraction"
                f" ({self.late_fault_fraction:g}); swap them"
            )
        keys = [one.key for one in self.load]
        for key in keys:
            if keys.count(key) > 1:
                raise ValueError(f"load has two entries for {key}; keep one")
        return self


_USUAL = {
    "watt": 0.05, "ampere": 0.05, "difference": 0.05, "celsius_per_s": 0.05, "j_per_k": 0.1, "kilogram": 0.1,
    "w_per_k": 0.2, "duration": 0.2, "volt_per_kelvin": 0.05, "ohm": 0.05,
}  # fmt: skip
"""By how much keys of a load are off where a design does not say, as shares (common practice: heaters are rated within
5 %, losses are known to a fifth)."""


def usual_load_share(load: Any, key: str) -> float:
    """The usual width of a key of a load, as a share; 0 where it is taken as exact."""
    return _USUAL.get(quantity_of(type(load).model_fields[key]), 0.0)


def varied_keys(load: Any) -> tuple[str, ...]:
    """The keys of a load that can be off by a share: numbers that are there and not 0."""
    fields = type(load).model_fields
    return tuple(
        key
        for key, field in fields.items()
        if quantity_of(field) not in ("", "temperature", "integer")
        and isinstance(getattr(load, key), float)
        and getattr(load, key) != 0.0
    )


def problem(proof: Proof, design: Design) -> str:
    """What of it does not go with a design, and what would do; empty where all does."""
    known = varied_keys(design.load)
    for one in proof.load:
        if one.key not in known:
            return (
                f"proof.load names {one.key!r}, which is no number of this load that could be off; one of"
                f" {', '.join(known)}"
            )
        low, _ = one.interval(0.0)
        if low <= -1.0:
            return f"proof.load takes {one.key} down to {low:+g} of itself, which leaves nothing; keep it above -1"
    low, _ = proof.mains_voltage_fraction.interval(0.1)
    if low <= -1.0:
        return f"proof.mains_voltage_fraction goes down to {low:+g}, which leaves no mains; keep it above -1"
    for key, spread, usual in (
        ("clock_fraction", proof.clock_fraction, 0.02), ("window_fraction", proof.window_fraction, 0.01),
    ):  # fmt: skip
        low, high = spread.interval(usual)
        if low <= -0.9 or high > 9.0:
            return f"proof.{key} goes from {low:+g} to {high:+g}; keep it above -0.9 and up to 9"
    lowest, highest = proof.safe.lowest_celsius, proof.safe.highest_celsius
    if lowest is not None and highest is not None and lowest >= highest:
        return f"proof.safe.lowest_celsius ({lowest:g}) must be below highest_celsius ({highest:g}); swap them"
    return ""
