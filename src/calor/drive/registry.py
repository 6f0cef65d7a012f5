"""All drives in one place: the settings of a design's [drive], and the one step the kernel calls.

A drive is a module and a word in DRIVES: its settings, `step`, where it has any its `numbers`, and where it remembers
something `start`; SWITCHES where its switchings are counted.
"""

from __future__ import annotations

from functools import lru_cache
from types import ModuleType
from typing import TYPE_CHECKING, Annotated, Any, NamedTuple, Protocol, Union, get_type_hints

from pydantic import Field

from calor.compiled import Table, family
from calor.drive import linear, pwm, relay, time_proportional
from calor.settings import kinds_of

DRIVES: tuple[ModuleType, ...] = (relay, time_proportional, pwm, linear)
"""All drives, in the order in which they are offered."""
KINDS = kinds_of(DRIVES)
_NUMBERED = {kind: module for kind, (_, module) in KINDS.items() if hasattr(module, "numbers")}
_REMEMBERING = {kind: module for kind, (_, module) in KINDS.items() if hasattr(module, "start")}
_STATES = {kind: family.made_by(module.start) for kind, module in _REMEMBERING.items()}
SWITCHES = tuple(kind for kind, (_, module) in KINDS.items() if getattr(module, "SWITCHES", False))
"""Drives that switch on and off slowly enough to be counted."""
STATE_SIZE = sum(len(state._fields) for state in _STATES.values())
"""Numbers that hold the state of a drive."""

if TYPE_CHECKING:

    class AnyDrive(Protocol):
        """What the settings of every drive have."""

        @property
        def kind(self) -> str: ...
        def __hash__(self) -> int: ...

    class DriveNumbers(NamedTuple):
        """Any drive as the kernel sees it; beside its kind the numbers of each, by its name."""

        kind: int

        def __getattr__(self, name: str) -> Any: ...

    class DriveState(NamedTuple):
        """State of whichever drive is in use, by its name."""

        def __getattr__(self, name: str) -> Any: ...

else:
    AnyDrive = Union[tuple(settings for settings, _ in KINDS.values())]  # noqa: UP007 - of a list that is written once
    DriveNumbers = family.record(
        "DriveNumbers", __name__, {"kind": int, **{k: family.made_by(m.numbers) for k, m in _NUMBERED.items()}}
    )
    DriveState = family.record("DriveState", __name__, _STATES)
Drive = Annotated[AnyDrive, Field(discriminator="kind")]


@lru_cache(maxsize=64)
def numbers(settings: AnyDrive) -> DriveNumbers:
    """The settings of any drive as plain numbers."""
    every: dict[str, Any] = {
        kind: module.numbers(settings if settings.kind == kind else KINDS[kind][0]())
        for kind, module in _NUMBERED.items()
    }
    return DriveNumbers(kind=list(KINDS).index(settings.kind), **every)


def _start() -> list[str]:
    return [
        "def start(now_s: float) -> DriveState:",
        '    """Every drive as it is when the controller is switched on at `now_s`: off."""',
        f"    return DriveState({', '.join(f'{kind}.start(now_s)' for kind in _REMEMBERING)})",
    ]


def _keep_state() -> list[str]:
    lines = [
        "def keep_state(state: DriveState, rows: Table, output: int) -> None:",
        '    """Keep a drive\'s state in the row of its output."""',
    ]
    for at, (kind, field, type_) in enumerate(_fields()):
        value = f"state.{kind}.{field}"
        as_number = {bool: f"1.0 if {value} else 0.0", int: f"float({value})"}.get(type_, value)
        lines.append(f"    rows[output, {at}] = {as_number}")
    return lines


def _kept_state() -> list[str]:
    parts: dict[str, list[str]] = {kind: [] for kind in _STATES}
    for at, (kind, _, type_) in enumerate(_fields()):
        value = f"rows[output, {at}]"
        parts[kind].append({bool: f"{value} != 0.0", int: f"int({value})"}.get(type_, value))
    states = (f"{state.__name__}({', '.join(parts[kind])})" for kind, state in _STATES.items())
    return [
        "def kept_state(rows: Table, output: int) -> DriveState:",
        '    """The state of an output\'s drive as its row keeps it."""',
        f"    return DriveState({', '.join(states)})",
    ]


def _fields() -> list[tuple[str, str, Any]]:
    """(kind, field, type) of all numbers in a drive's state."""
    return [(kind, field, type_) for kind, state in _STATES.items() for field, type_ in get_type_hints(state).items()]


def _step() -> list[str]:
    lines = [
        "def step(drive: DriveNumbers, state: DriveState, demand: float, overridden: bool, now_s: float, end_s: float"
        ") -> tuple[DriveState, float, float]:",
        '    """What any drive gives from `now_s` on: (state, level 0 to 1, until when, at most `end_s`)."""',
    ]
    for number, kind in enumerate(KINDS):
        is_last = number == len(KINDS) - 1
        indent = "    " if is_last else "        "
        if not is_last:
            lines.append(f"    if drive.kind == {kind.upper()}:")
        given = f"drive.{kind}, " if kind in _NUMBERED else ""
        if kind in _REMEMBERING:
            states = ", ".join(f"{kind}_state" if other == kind else f"state.{other}" for other in _REMEMBERING)
            call = f"{kind}.step({given}state.{kind}, demand, overridden, now_s, end_s)"
            lines += [
                f"{indent}{kind}_state, level, until_s = {call}",
                f"{indent}return DriveState({states}), level, until_s",
            ]
        else:
            call = f"{kind}.step({given}demand, now_s, end_s)"
            lines += [f"{indent}level, until_s = {call}", f"{indent}return state, level, until_s"]
    return lines


if TYPE_CHECKING:

    def start(now_s: float) -> DriveState:
        """Every drive as it is when the controller is switched on at `now_s`: off."""

    def keep_state(state: DriveState, rows: Table, output: int) -> None:
        """Keep a drive's state in the row of its output."""

    def kept_state(rows: Table, output: int) -> DriveState:
        """The state of an output's drive as its row keeps it."""

    def step(
        drive: DriveNumbers, state: DriveState, demand: float, overridden: bool, now_s: float, end_s: float
    ) -> tuple[DriveState, float, float]:
        """What any drive gives from `now_s` on: (state, level 0 to 1, until when, at most `end_s`).

        `overridden`: a probe fault, the cut-out or an alarm that trips puts the demand there, and it is obeyed at once.
        """

else:
    _names = {**{kind: module for kind, (_, module) in KINDS.items()}, "Table": Table}
    _names |= {state.__name__: state for state in _STATES.values()}
    _names |= {kind.upper(): number for number, kind in enumerate(KINDS)}
    start = family.step_of("start", __name__, _start(), **_names)
    keep_state = family.step_of("keep_state", __name__, _keep_state())
    kept_state = family.step_of("kept_state", __name__, _kept_state())
    step = family.step_of("step", __name__, _step())
