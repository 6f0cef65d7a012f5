"""Edits of a design: one block with other settings, or of another kind, and what is wrong with that where it is."""

from __future__ import annotations

from typing import Any, get_args

from pydantic import ValidationError

from calor.design.cautions import leaves_fault_output
from calor.design.model import BLOCK_KINDS, BLOCKS, Design, module_of
from calor.design.problems import explain
from calor.design.ranges import usual_range
from calor.drive import driver as drivers
from calor.errors import Problem
from calor.law import fan_curve, stages
from calor.law.autotune import Autotune
from calor.law.on_off import DEFAULT_HYSTERESIS_CELSIUS
from calor.sense.knob import Button, Knob
from calor.settings import Settings


def parts(settings: Settings) -> dict[str, Any]:
    """The settings by key, parts of them as they are."""
    return {key: getattr(settings, key) for key in type(settings).model_fields}


def with_block(design: Design, block: str, settings: Settings, trial_number: int) -> Design:
    """The design with other settings of a block, of the design itself, or of one of its trials.

    Raises ValidationError where they do not go together.
    """
    if block == "design":
        return Design.model_validate(parts(settings))
    if block == "trial":
        trials = list(design.trial)
        trials[trial_number] = settings  # type: ignore[call-overload]
        return Design.model_validate({**parts(design), "trial": tuple(trials)})
    return Design.model_validate({**parts(design), block: settings})


def with_values(settings: Settings, values: dict[str, Any]) -> Settings:
    """Settings with some of them changed; a key may lead into a part, as in "adc.bits". Raises ValidationError."""
    changed = {key.partition(".")[0] for key in values}
    # what nobody has set stays unset
    data = {
        key: value for key, value in settings.model_dump().items() if key in settings.model_fields_set or key in changed
    }
    for key, value in values.items():
        part = data
        *path, last = key.split(".")
        for name in path:
            part = part[name]
        part[last] = value
    return type(settings).model_validate(data)


def of_kind(now: Settings, block: str, kind: str, past: Settings | None, setpoint_celsius: float) -> Settings:
    """A block of another kind: as it was set in the `past`, else with what it shares with the kind there is now.

    Raises ValidationError where those do not go together.
    """
    model = BLOCK_KINDS[block][kind]
    shared = {
        key: value
        for key, value in parts(now).items()
        if key in model.model_fields and key != "kind" and value is not None
    }
    action = model.model_fields.get("action")
    if action is not None and shared.get("action") not in get_args(action.annotation):
        shared.pop("action", None)
    base = parts(past) if past is not None else _fitting(kind, setpoint_celsius, getattr(now, "action", ""))
    chosen: Settings = model.model_validate(
        {**base, **{k: v for k, v in shared.items() if k not in base or k in ("period_s", "action")}}
    )
    return chosen


def with_kind(design: Design, block: str, settings: Settings, trial_number: int) -> Design:
    """The design with a block of another kind: a fan chosen where nothing was said of a probe fault then runs at full.

    Raises ValidationError where they do not go together.
    """
    changed = with_block(design, block, settings, trial_number)
    if block != "law" or not isinstance(changed.law, fan_curve.FanCurve) or not leaves_fault_output(changed):
        return changed
    return with_block(changed, "guard", with_values(changed.guard, {"probe_fault_output": 1.0}), trial_number)


def _fitting(kind: str, setpoint_celsius: float, action: str) -> dict[str, Any]:
    """What a kind chosen for the first time is set to, so that it is about the setpoint that there is."""
    if kind == "program":
        return {"segments": ({"to_celsius": setpoint_celsius, "rate_celsius_per_min": 1.0, "soak_s": 1800.0},)}
    if kind == "day_night":
        return {"day_celsius": setpoint_celsius, "night_celsius": setpoint_celsius - 4.0}
    if kind == "follow":
        return {"without_signal_celsius": setpoint_celsius}
    if kind == "stages" and action == "cool":
        return {"stages": stages.turned(stages.Stages())}
    if kind == "fan_curve":
        return fan_curve.fitting(setpoint_celsius, action or "cool")
    if kind == "on_off":
        return {"hysteresis_celsius": DEFAULT_HYSTERESIS_CELSIUS}
    return {}


CHIP_CELSIUS_PER_CODE = 0.25
"""What a chip that reads a thermocouple gives for a code (common practice)."""
BY_HAND: dict[str, type[Settings]] = {"knob": Knob, "button": Button}


def implied(design: Design, part: str, key: str, value: Any) -> dict[str, Any]:
    """The settings of a part that a choice stands for: itself, and all that goes with it.

    Some choices are several settings in the file: "knob.used" and "second_drive.kind" of the design, "filter.kind" and
    "curve" of a probe.
    """
    name, _, what = key.partition(".")
    if part == "design" and what == "kind":
        return {name: _part_of_kind(name, str(value))}
    if part == "design" and what == "used":
        return {name: _by_hand(design, name) if value else None}
    if key == "autotune.used":
        return {"autotune": Autotune().model_dump() if value else None}
    if key == "filter.kind":
        return {"filter": {"kind": value}}
    if key == "read_by":
        return {"converter_celsius_per_code": CHIP_CELSIUS_PER_CODE if value == "chip" else None}
    settings = getattr(design, part, None)
    along = getattr(module_of(part, settings.kind), "along_with", None) if part in BLOCKS and settings else None
    return {key: value} if along is None else dict(along(settings, key, value))


def _part_of_kind(part: str, kind: str) -> Settings | None:
    """A second drive or a driver of a kind, as it is when chosen; None for none."""
    kinds: dict[str, type[Settings]] = BLOCK_KINDS["drive"] if part == "second_drive" else dict(drivers.KINDS)
    return kinds[kind]() if kind in kinds else None


def _by_hand(design: Design, part: str) -> Settings:
    """A knob over the setpoint's limits, or a button."""
    if part == "button":
        return Button()
    low, high = usual_range(design)
    return Knob(low_celsius=float(f"{low:.4g}"), high_celsius=float(f"{high:.4g}"))


def own_problem(error: ValidationError, block: str, settings: Settings) -> Problem:
    """The first thing that is wrong with an edit of a block, said of the block's own keys."""
    if error.title == "Design":
        return explain(error)[0]
    inside = {"trial": ("trial", 0), "design": ()}.get(block, (block,))
    kind = getattr(settings, "kind", None)
    return explain(error, (*inside, kind) if kind and block != "trial" else inside)[0]
