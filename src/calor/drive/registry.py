"""All drives in one place: the settings of a design's [drive], and the one step the kernel calls.

A drive is a module and a word in DRIVES: its settings, `step`, where it has any its `numbers`, and where it remembers
something `start`; `holds_until_s` where it then keeps its level for a while whatever is asked; SWITCHES where its
switchings are counted.
"""

from __future__ import annotations

from functools import lru_cache
from types import ModuleType
from typing import TYPE_CHECKING, Annotated, Any, NamedTuple, Protocol, Union

from pydantic import Field

from calor.compiled import Column, family
from calor.compiled.kept_states import kept_states, size_of
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
HOLDS_UNTIL_S = sum(size_of(state) for state in _STATES.values())
"""Where the state of a drive says until when it keeps its level, s; long past where what is asked counts at once."""
STATE_SIZE = HOLDS_UNTIL_S + 1
"""Numbers that hold the state of a drive: a row, with a part for each kind, and HOLDS_UNTIL_S."""

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

else:
    AnyDrive = Union[tuple(settings for settings, _ in KINDS.values())]  # noqa: UP007 - of a list that is written once
    DriveNumbers = family.record(
        "DriveNumbers", __name__, {"kind": int, **{k: family.made_by(m.numbers) for k, m in _NUMBERED.items()}}
    )
Drive = Annotated[AnyDrive, Field(discriminator="kind")]


def switches_supply(settings: AnyDrive) -> bool:
    """Whether a relay switches the supply off while nothing is asked for."""
    return bool(getattr(settings, "supply_switch", False))


@lru_cache(maxsize=64)
def numbers(settings: AnyDrive) -> DriveNumbers:
    """The settings of any drive as plain numbers."""
    every: dict[str, Any] = {
        kind: module.numbers(settings if settings.kind == kind else KINDS[kind][0]())
        for kind, module in _NUMBERED.items()
    }
    return DriveNumbers(kind=list(KINDS).index(settings.kind), **every)


KEPT = kept_states(__name__, _STATES)
"""The steps that read and write the state of each drive that remembers."""


def _begin() -> list[str]:
    return [
        "def begin(row: Column, now_s: float) -> None:",
        '    """Put every drive\'s state into the row as it is when the controller is switched on at `now_s`: off."""',
        *(f"    keep_{kind}({kind}.start(now_s), row)" for kind in _REMEMBERING),
        f"    row[{HOLDS_UNTIL_S}] = 0.0",
    ]


def _step() -> list[str]:
    lines = [
        "def step(drive: DriveNumbers, row: Column, demand: float, overridden: bool, now_s: float, end_s: float"
        ") -> tuple[float, float]:",
        '    """What any drive gives from `now_s` on: (level 0 to 1, until when, at most `end_s`)."""',
    ]
    for number, kind in enumerate(KINDS):
        is_last = number == len(KINDS) - 1
        indent = "    " if is_last else "        "
        if not is_last:
            lines.append(f"    if drive.kind == {kind.upper()}:")
        given = f"drive.{kind}, " if kind in _NUMBERED else ""
        if kind in _REMEMBERING:
            call = f"{kind}.step({given}kept_{kind}(row), demand, overridden, now_s, end_s)"
            lines += [
                f"{indent}{kind}_state, level, until_s = {call}",
                f"{indent}keep_{kind}({kind}_state, row)",
            ]
            if hasattr(_REMEMBERING[kind], "holds_until_s"):
                lines.append(f"{indent}row[{HOLDS_UNTIL_S}] = {kind}.holds_until_s({kind}_state, now_s)")
            lines.append(f"{indent}return level, until_s")
        else:
            lines.append(f"{indent}return {kind}.step({given}demand, now_s, end_s)")
    return lines


if TYPE_CHECKING:

    def begin(row: Column, now_s: float) -> None:
        """Put every drive's state into the row as it is when the controller is switched on at `now_s`: off."""

    def step(
        drive: DriveNumbers, row: Column, demand: float, overridden: bool, now_s: float, end_s: float
    ) -> tuple[float, float]:
        """What any drive gives from `now_s` on: (level 0 to 1, until when, at most `end_s`). Its state is in the row.

        `overridden`: a probe fault, the cut-out or an alarm that trips puts the demand there, and it is obeyed at once.
        """

else:
    _names = {kind: module for kind, (_, module) in KINDS.items()}
    _names |= {kind.upper(): number for number, kind in enumerate(KINDS)}
    begin = family.step_of("begin", __name__, _begin(), **_names)
    step = family.step_of("step", __name__, _step())
