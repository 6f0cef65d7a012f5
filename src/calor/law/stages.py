"""Stages: up to four outputs switched one after the other as the temperature goes further from the setpoint.

Every stage has a switch-on and a switch-off threshold; a switch-off threshold that is left out lies one hysteresis
further on. A delay keeps two stages from going on together; rotation lets another output lead each time, so that they
wear evenly; a stage with a nearer switch-off threshold drops out early, to save energy.
Source: common practice.
"""

from __future__ import annotations

from typing import Annotated, Any, Literal, NamedTuple, Self

from pydantic import Field, Strict, model_validator

from calor.compiled import compiled
from calor.elapsed import NOT_YET_S, passed
from calor.law.outputs import MOST_OUTPUTS, Demands, Inputs, Outline
from calor.settings import Settings, choice, difference, duration, fraction
from calor.units import TemperatureUnit, difference_to, format_difference, format_duration

LONG_AGO_S = 1e18
Four = tuple[float, float, float, float]
FourFlags = tuple[bool, bool, bool, bool]


class Stage(Settings):
    """One stage: its switch-on and switch-off threshold."""

    on_offset_celsius: float = difference(
        ..., "Switch-on offset", "From the setpoint: below 0 it goes on below it.", -500.0, 500.0
    )
    off_offset_celsius: float | None = difference(
        None, "Switch-off offset", "Switch-off threshold from the setpoint; one hysteresis from switch-on if left out.",
        -500.0, 500.0,
    )  # fmt: skip
    share: float | None = fraction(
        None, "Power share", "Of the load's power; even shares where it is left out.", 0.0, 1.0
    )


class Stages(Settings):
    """Several outputs, one after the other."""

    kind: Literal["stages"] = choice(
        "stages", "Law", "Several outputs, one after the other.", words={"stages": "Stages"}
    )
    action: Literal["heat", "cool"] = choice(
        "heat", "Action", "Whether more output makes it warmer or colder.", words={"heat": "Heats", "cool": "Cools"}
    )
    period_s: float = duration(1.0, "Control step", "How often the law reads and decides.", 0.001, 3600.0)
    stages: Annotated[tuple[Stage, ...], Strict(False)] = Field(
        default=(Stage(on_offset_celsius=-0.5), Stage(on_offset_celsius=-2.0)),
        title="Stages", description="Each with where it goes on and off, from the setpoint.",
        min_length=1, max_length=MOST_OUTPUTS,
    )  # fmt: skip
    hysteresis_celsius: float = difference(
        1.0, "Hysteresis", "From the switch-on to the switch-off threshold of a stage that gives only one.", 0.01, 500.0
    )
    stage_delay_s: float = duration(
        0.0, "Stage delay", "Least time from one stage's start to the next one's.", 0.0, 86_400.0
    )
    min_on_s: float = duration(0.0, "Minimum on time", "Once on, a stage stays on at least this long.", 0.0, 86_400.0)
    min_off_s: float = duration(
        0.0,
        "Minimum off time",
        "Once off, a stage stays off at least this long; so too after switching on.",
        0.0,
        86_400.0,
    )
    rotation: Literal["none", "each_start"] = choice(
        "none",
        "Rotation",
        "each_start: whenever all are off, another output leads next.",
        words={"none": "none", "each_start": "at each start"},
    )

    @model_validator(mode="after")
    def _off_follows(self) -> Self:
        for number, stage in enumerate(self.stages, 1):
            on, off = ends(self, stage)
            if (off <= on) if self.action == "heat" else (off >= on):
                side = "above" if self.action == "heat" else "below"
                raise ValueError(
                    f"stages: to {self.action}, stage {number} must go off {side} where it goes on (received"
                    f" {on:g} and {off:g} °C from the setpoint); correct one or leave off_offset_celsius out"
                )
        total = sum(stage.share or 0.0 for stage in self.stages)
        given = [stage.share is not None for stage in self.stages]
        if any(given) and not all(given):
            raise ValueError("stages: give every stage a share, or none")
        if all(given) and not 0.0 < total <= 1.0 + 1e-9:
            raise ValueError(f"stages: the shares add up to {total:g}; make them 1 or less together, and above 0")
        return self


def ends(settings: Stages, stage: Stage) -> tuple[float, float]:
    """(on, off) of a stage, °C from the setpoint, the switch-off threshold made where it is left out."""
    if stage.off_offset_celsius is not None:
        return stage.on_offset_celsius, stage.off_offset_celsius
    side = 1.0 if settings.action == "heat" else -1.0
    return stage.on_offset_celsius, stage.on_offset_celsius + side * settings.hysteresis_celsius


def turned(settings: Stages) -> tuple[Stage, ...]:
    """The stages for the other action: the same distances on the other side of the setpoint."""
    return tuple(
        stage.model_copy(
            update={
                key: None if value is None else -value
                for key, value in (
                    ("on_offset_celsius", stage.on_offset_celsius),
                    ("off_offset_celsius", stage.off_offset_celsius),
                )
            }
        )
        for stage in settings.stages
    )


def along_with(settings: Stages, key: str, value: Any) -> dict[str, Any]:
    """All that changes with one setting: with the action the stages turn to the other side of the setpoint."""
    return {key: value, "stages": turned(settings)} if key == "action" else {key: value}


def shares(settings: Stages) -> tuple[float, ...]:
    """The share of the load's power that each stage switches."""
    even = 1.0 / len(settings.stages)
    return tuple(even if stage.share is None else stage.share for stage in settings.stages)


class StagesNumbers(NamedTuple):
    """The stages as the kernel sees them; offsets are turned so that a stage goes on below its own."""

    used: int
    direction: float
    on_offset: Four
    off_offset: Four
    stage_delay_s: float
    min_on_s: float
    min_off_s: float
    rotates: bool


class StagesState(NamedTuple):
    """Whether each output is on, and for how long (s) it has been as it is; which leads; time since the last start.
    Beside each time is what rounding added to it."""

    on: FourFlags
    held_s: Four
    held_rest_s: Four
    lead: int
    since_start_s: float
    since_rest_s: float


def _four(values: list[float], rest: float) -> Four:
    a, b, c, d = (values + [rest] * MOST_OUTPUTS)[:MOST_OUTPUTS]
    return a, b, c, d


def numbers(settings: Stages) -> StagesNumbers:
    """The settings as plain numbers."""
    direction = 1.0 if settings.action == "heat" else -1.0
    both = [ends(settings, stage) for stage in settings.stages]
    return StagesNumbers(
        len(both), direction,
        _four([direction * on for on, _ in both], -1e9), _four([direction * off for _, off in both], 1e9),
        settings.stage_delay_s, settings.min_on_s, settings.min_off_s, settings.rotation == "each_start",
    )  # fmt: skip


def start() -> StagesState:
    """All off from the first decision on: nobody knows when they were switched, and minimum off times begin there."""
    not_yet, nothing = (NOT_YET_S, NOT_YET_S, NOT_YET_S, NOT_YET_S), (0.0, 0.0, 0.0, 0.0)
    return StagesState((False, False, False, False), not_yet, nothing, 0, LONG_AGO_S, 0.0)


@compiled
def _decided(law: StagesNumbers, state: StagesState, output: int, away: float, free: bool, dt_s: float) -> bool:
    """Whether one output is on; `away` is the temperature from the setpoint, turned, `free` allows a start."""
    held_s, _rest_s = passed(state.held_s[output], state.held_rest_s[output], dt_s)
    stage = (output + law.used - state.lead) % law.used
    if state.on[output]:
        return not (away > law.off_offset[stage] and held_s >= law.min_on_s)
    return away < law.on_offset[stage] and held_s >= law.min_off_s and free


@compiled
def _held(law: StagesNumbers, state: StagesState, output: int, on: bool, dt_s: float) -> tuple[float, float]:
    """How long one output has been as it is now, and what rounding added to that."""
    if output >= law.used:
        return state.held_s[output], state.held_rest_s[output]
    if on != state.on[output]:
        return 0.0, 0.0
    return passed(state.held_s[output], state.held_rest_s[output], dt_s)


@compiled
def _next(
    law: StagesNumbers, state: StagesState, on: FourFlags, since_s: float, since_rest_s: float, dt_s: float
) -> StagesState:
    """The state with its outputs as they are now; where all have gone off and they rotate, the next one leads."""
    lead = state.lead
    were_on = state.on[0] or state.on[1] or state.on[2] or state.on[3]
    if law.rotates and were_on and not (on[0] or on[1] or on[2] or on[3]):
        lead = (lead + 1) % law.used
    held0, rest0 = _held(law, state, 0, on[0], dt_s)
    held1, rest1 = _held(law, state, 1, on[1], dt_s)
    held2, rest2 = _held(law, state, 2, on[2], dt_s)
    held3, rest3 = _held(law, state, 3, on[3], dt_s)
    return StagesState(on, (held0, held1, held2, held3), (rest0, rest1, rest2, rest3), lead, since_s, since_rest_s)


@compiled
def step(
    law: StagesNumbers, state: StagesState, setpoint_celsius: float, measured_celsius: float, dt_s: float
) -> tuple[StagesState, Demands]:
    """One decision: (state, demands, each 0 or 1). `dt_s` is the time since the decision before."""
    away = law.direction * (measured_celsius - setpoint_celsius)
    since_s, since_rest_s = passed(state.since_start_s, state.since_rest_s, dt_s)
    # the output that leads is asked first, so that with a delay the stages start in their order
    free = since_s >= law.stage_delay_s
    on0, on1, on2, on3 = state.on
    for stage in range(law.used):
        output = (stage + state.lead) % law.used
        on = _decided(law, state, output, away, free, dt_s)
        if on and not state.on[output]:
            since_s, since_rest_s = 0.0, 0.0
            free = law.stage_delay_s <= 0.0
        if output == 0:
            on0 = on
        elif output == 1:
            on1 = on
        elif output == 2:
            on2 = on
        else:
            on3 = on
    demands = Demands(1.0 if on0 else 0.0, 1.0 if on1 else 0.0, 1.0 if on2 else 0.0, 1.0 if on3 else 0.0)
    return _next(law, state, (on0, on1, on2, on3), since_s, since_rest_s, dt_s), demands


@compiled
def override(law: StagesNumbers, state: StagesState, output: float, dt_s: float) -> tuple[StagesState, Demands]:
    """What they give while a guard puts each to `output`, more than half counting as on: off at once, on again only
    after the minimum off time and one by one where there is a stage delay."""
    since_s, since_rest_s = passed(state.since_start_s, state.since_rest_s, dt_s)
    wanted = output > 0.5
    free = since_s >= law.stage_delay_s
    on0, on1, on2, on3 = state.on
    for stage in range(law.used):
        output_number = (stage + state.lead) % law.used
        on = state.on[output_number]
        held_s, _rest_s = passed(state.held_s[output_number], state.held_rest_s[output_number], dt_s)
        if not wanted:
            on = False
        elif not on and held_s >= law.min_off_s and free:
            on, since_s, since_rest_s = True, 0.0, 0.0
            free = law.stage_delay_s <= 0.0
        if output_number == 0:
            on0 = on
        elif output_number == 1:
            on1 = on
        elif output_number == 2:
            on2 = on
        else:
            on3 = on
    demands = Demands(
        output if on0 or not wanted else 0.0, output if on1 or not wanted else 0.0,
        output if on2 or not wanted else 0.0, output if on3 or not wanted else 0.0,
    )  # fmt: skip
    return _next(law, state, (on0, on1, on2, on3), since_s, since_rest_s, dt_s), demands


@compiled
def decide(law: StagesNumbers, state: StagesState, given: Inputs, dt_s: float) -> tuple[StagesState, Demands]:
    """One decision, as every law makes it."""
    return step(law, state, given.setpoint_celsius, given.measured_celsius, dt_s)


def output_names(settings: Stages) -> tuple[str, ...]:
    """What its outputs are called, in their order."""
    return tuple(f"stage {number}" for number in range(1, len(settings.stages) + 1))


def summary(settings: Stages, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    """The two lines on its card."""
    del setpoint_celsius
    on = ", ".join(
        f"{difference_to(unit, stage.on_offset_celsius):+.3g}".replace("-", "−") for stage in settings.stages
    )
    return f"{len(settings.stages)} stages", f"on at {on} {unit} from setpoint"


def consequences(settings: Stages, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    del setpoint_celsius
    lines = {}
    implied = [number for number, stage in enumerate(settings.stages, 1) if stage.off_offset_celsius is None]
    if implied:
        which = ", ".join(str(number) for number in implied)
        lines["hysteresis_celsius"] = (
            f"The switch-off threshold of stage {which} is set"
            f" {format_difference(unit, settings.hysteresis_celsius)} further on."
        )
    if settings.stage_delay_s:
        whole_s = settings.stage_delay_s * (len(settings.stages) - 1)
        lines["stage_delay_s"] = f"All stages together after {format_duration(whole_s)} at the earliest."
    if settings.rotation == "each_start":
        lines["rotation"] = "Even wear; best where all stages are alike."
    return lines


def ladder(settings: Stages, from_celsius: float, to_celsius: float) -> tuple[list[float], list[float], list[float]]:
    """(°C from the setpoint, power as it leaves the setpoint, power on its way back): the staircase of the stages."""
    both = [ends(settings, stage) for stage in settings.stages]
    parts = shares(settings)
    corners = sorted(
        {from_celsius, to_celsius, *(edge for pair in both for edge in pair if from_celsius < edge < to_celsius)}
    )
    places = [place for corner in corners for place in (corner - 1e-9, corner + 1e-9)]
    side = 1.0 if settings.action == "heat" else -1.0

    def power(place: float, back: bool) -> float:
        edge = 1 if back else 0
        return sum(part for part, pair in zip(parts, both, strict=True) if side * place < side * pair[edge])

    return places, [power(place, False) for place in places], [power(place, True) for place in places]


def outline(settings: Stages, setpoint_celsius: float) -> list[Outline]:
    """The ladder over temperature: power as it leaves the setpoint, and on the way back."""
    both = [edge for stage in settings.stages for edge in ends(settings, stage)]
    wide = max(0.2 * (max(*both, 0.0) - min(*both, 0.0)), 0.5)
    places, going, back = ladder(settings, min(*both, 0.0) - wide, max(*both, 0.0) + wide)
    x = [setpoint_celsius + place for place in places]
    return [Outline("back", x, back), Outline("going", x, going)]
