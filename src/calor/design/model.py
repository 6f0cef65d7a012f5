"""The design as one immutable value, with the rules that span its blocks."""

from __future__ import annotations

from functools import lru_cache
from types import ModuleType
from typing import Annotated, Any, Literal, Self

from pydantic import BeforeValidator, Field, Strict, model_validator

from calor.design import proof as proofs
from calor.design.proof import Proof
from calor.design.trial import Limits, Trial
from calor.drive import driver as drivers
from calor.drive import registry as drives
from calor.law import autotune
from calor.law import guard as guards
from calor.law import registry as laws
from calor.law import setpoint as setpoints
from calor.law.guard import Guard
from calor.law.setpoint import Setpoint
from calor.law.stages import Stages, shares
from calor.load import registry as loads
from calor.sense import describe as probe_words
from calor.sense import filters
from calor.sense import registry as probes
from calor.sense.knob import Button, Knob
from calor.settings import Settings
from calor.units import TemperatureUnit

FORMAT = 1
MOST_STEPS = 10_000_000
MOST_INNER_STEPS, MOST_IN_A_STEP = 1_000_000_000, 2_000_000
"""So often a load may be integrated in a trial, which takes a minute or two, and in one control step: so long it takes
to stop."""
BLOCKS = ("setpoint", "law", "drive", "load", "probe")
"""The five blocks, in the order of the loop."""

BLOCK_KINDS: dict[str, dict[str, type[Settings]]] = {
    "setpoint": dict(setpoints.KINDS),
    "law": {kind: settings for kind, (settings, _) in laws.KINDS.items()},
    "drive": {kind: settings for kind, (settings, _) in drives.KINDS.items()},
    "load": {kind: settings for kind, (settings, _) in loads.KINDS.items()},
    "probe": {kind: settings for kind, (settings, _) in probes.KINDS.items()},
}


def _kind_said(value: Any) -> Any:
    """A setpoint of which no kind is said is held."""
    return {"kind": "hold", **value} if isinstance(value, dict) and "kind" not in value else value


class Design(Settings):
    """Everything needed to simulate, generate and test one thermostat."""

    format: Literal[1] = Field(default=1, title="Format", description="Format of the file; this is format 1.")
    name: str = Field(default="Untitled", title="Name", description="Name of the design.", min_length=1, max_length=80)
    notes: str = Field(default="", title="Notes", description="Anything worth remembering.")
    setpoint: Annotated[Setpoint, BeforeValidator(_kind_said)]
    law: laws.Law
    guard: Guard = Field(default=Guard())
    drive: drives.Drive
    second_drive: drives.Drive | None = Field(
        default=None, title="Second drive", description="Of a second output; as the first where left out."
    )
    driver: drivers.Driver | None = Field(
        default=None, title="Driver", description="The parts between the pin and the load, to be checked."
    )
    load: loads.Load
    probe: probes.Probe
    knob: Knob | None = Field(default=None, title="Knob", description="A knob that sets the setpoint.")
    button: Button | None = Field(default=None, title="Button", description="A button that switches on and off.")
    limits: Limits = Field(default=Limits())
    proof: Proof = Field(default=Proof())
    trial: Annotated[tuple[Trial, ...], Strict(False)] = Field(default=(Trial(),), min_length=1)

    @model_validator(mode="after")
    def _trials_fit(self) -> Self:
        names = [trial.name for trial in self.trial]
        for trial in self.trial:
            if names.count(trial.name) > 1:
                raise ValueError(f"two trials are called {trial.name!r}; give each its own name")
            steps = trial.span_s / self.law.period_s
            if steps > MOST_STEPS:
                raise ValueError(
                    f"trial {trial.name!r} has {steps:.3g} control steps, more than {MOST_STEPS:,};"
                    " shorten its span_s or lengthen law.period_s"
                )
            self._drives_and_load_fit(trial)
            if trial.span_s < self.law.period_s:
                raise ValueError(
                    f"trial {trial.name!r} lasts {trial.span_s:g} s, less than one control step of"
                    f" {self.law.period_s:g} s; lengthen its span_s"
                )
            for event in trial.events:
                problem = event.problem(self)
                if problem:
                    raise ValueError(f"trial {trial.name!r} {problem}")
        return self

    def _drives_and_load_fit(self, trial: Trial) -> None:
        """Raises ValueError where a trial has too many windows, or its load too many steps of its own."""
        for drive in (self.drive, self.second_drive):
            windows = trial.span_s / getattr(drive, "window_s", trial.span_s)
            if windows > MOST_STEPS:
                raise ValueError(
                    f"trial {trial.name!r} has {windows:.3g} windows of its drive, more than {MOST_STEPS:,};"
                    " shorten its span_s or lengthen the window_s"
                )
        extra = sum(getattr(event, "extra_loss_w_per_k", 0.0) for event in trial.events)
        a_step = loads.inner_steps(self.load, float(self.law.period_s), extra)
        steps = a_step * trial.span_s / self.law.period_s
        needs = f"{steps:.3g} steps of its load, more than {MOST_INNER_STEPS:,}" if steps > MOST_INNER_STEPS else ""
        if a_step > MOST_IN_A_STEP:
            needs = f"{a_step:.3g} steps of its load in a control step, more than {MOST_IN_A_STEP:,}"
        if needs:
            raise ValueError(
                f"trial {trial.name!r} needs {needs}: the load's fastest part settles in"
                f" {loads.fastest_s(self.load, extra):.2g} s; raise its smallest heat capacity, lower the conductances"
                " at it, or shorten span_s and law.period_s"
            )

    @model_validator(mode="after")
    def _proof_fits(self) -> Self:
        wrong = proofs.problem(self.proof, self)
        if wrong:
            raise ValueError(wrong)
        return self

    @model_validator(mode="after")
    def _calibration_can_be_read(self) -> Self:
        if self.probe.calibration:
            from calor.sense.points import unread_point  # what it takes is imported for a calibrated probe alone

            wrong = unread_point(self.probe)
            if wrong:
                raise ValueError(wrong)
        return self

    @model_validator(mode="after")
    def _guards_fit(self) -> Self:
        wrong = guards.problem(self.guard, self.law.action)
        if wrong:
            raise ValueError(wrong)
        return self

    @model_validator(mode="after")
    def _tunes_within_limits(self) -> Self:
        test = getattr(self.law, "autotune", None)
        if test is not None and self.setpoint.kind == "hold":
            wrong = autotune.problem(test, self.law.action, self.setpoint.celsius)
            if wrong:
                raise ValueError(wrong)
        return self

    @model_validator(mode="after")
    def _knob_within_limits(self) -> Self:
        if self.knob is not None:
            low, high = self.setpoint.low_limit_celsius, self.setpoint.high_limit_celsius
            for key in ("low_celsius", "high_celsius"):
                end = getattr(self.knob, key)
                if (low is not None and end < low) or (high is not None and end > high):
                    raise ValueError(
                        f"knob.{key} ({end:g}) is outside the setpoint's limits {low} to {high};"
                        " change it or the limits"
                    )
        return self

    @property
    def outputs(self) -> tuple[str, ...]:
        """What the law's outputs are called, in their order."""
        return laws.output_names(self.law)

    def drive_of(self, output: int) -> drives.AnyDrive:
        """The drive of an output: stages share the first, a second output may have its own."""
        if output == 1 and self.second_drive is not None and not isinstance(self.law, Stages):
            return self.second_drive
        return self.drive

    def output_weights(self) -> tuple[tuple[float, ...], tuple[float, ...]]:
        """What each output adds to the first and to the second of the load's two inputs.

        Stages share the first one. A thermoelectric load is cooled by its first input and heated by its second.
        """
        count = len(self.outputs)
        if isinstance(self.law, Stages):
            first, second = shares(self.law), (0.0,) * count
        else:
            first, second = (1.0, 0.0)[:count], (0.0, 1.0)[:count]
        if self.load.kind == "thermoelectric" and self.law.action != "cool":
            return second, first
        return first, second

    def find_trial(self, name: str | None) -> Trial:
        """The trial called `name`, or the first one. Raises KeyError where there is none of that name."""
        if name is None:
            return self.trial[0]
        for trial in self.trial:
            if trial.name == name:
                return trial
        raise KeyError(name)

    def ambient_celsius(self, trial: Trial) -> float:
        """Ambient temperature at the start of `trial`."""
        return self.load.ambient_celsius if trial.ambient_celsius is None else trial.ambient_celsius

    def start_celsius(self, trial: Trial) -> float:
        """Temperature of everything at the start of `trial`."""
        return self.ambient_celsius(trial) if trial.start_celsius is None else trial.start_celsius


def module_of(block: str, kind: str) -> ModuleType:
    """The module that holds a block's settings, step and summary."""
    if block == "setpoint":
        return setpoints
    table: dict[str, dict[str, tuple[Any, ModuleType]]] = {
        "law": {**laws.KINDS}, "drive": {**drives.KINDS}, "load": {**loads.KINDS}, "probe": {**probes.KINDS}
    }  # fmt: skip
    return table[block][kind][1]


def block_summary(design: Design, block: str, unit: TemperatureUnit) -> tuple[str, str]:
    """The two lines on a block's card."""
    return _summary(getattr(design, block), block, unit, design.setpoint.celsius)


@lru_cache(maxsize=64)
def _summary(settings: Any, block: str, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    if block == "probe":
        return probe_words.summary(settings, unit, setpoint_celsius)
    lines: tuple[str, str] = module_of(block, settings.kind).summary(settings, unit, setpoint_celsius)
    return lines


def block_consequences(design: Design, block: str, unit: TemperatureUnit) -> dict[str, str]:
    """One line for each setting of a block whose consequence can be computed, by key."""
    settings = getattr(design, block)
    if block == "probe":
        lines = probe_words.consequences(settings, unit, design.setpoint.celsius)
        lines["filter.kind"] = filters.consequence(settings.filter, design.law.period_s)
        return lines
    lines = {**module_of(block, settings.kind).consequences(settings, unit, design.setpoint.celsius)}
    if block == "law":
        guarded = guards.consequences(design.guard, unit, design.law.action)
        lines = lines | {f"guard.{key}": line for key, line in guarded.items()}
    return lines
