"""Code: a law of the user's own, in a file of C or Python beside the design.

It is not part of Calor: a process of its own runs it, once its content has been allowed on this machine. What it is
given and what it answers is in docs/own-law.md.
"""

from __future__ import annotations

from pathlib import PurePath
from typing import Literal, Self

from pydantic import Field, model_validator

from calor.settings import Settings, choice, duration
from calor.units import TemperatureUnit

ENDINGS = (".c", ".py")


class Code(Settings):
    """Your own controller code."""

    kind: Literal["code"] = choice(
        "code", "Law", "Your own controller code, in a file of C or Python.", words={"code": "Your own code"}
    )
    action: Literal["heat", "cool", "heat_cool"] = choice(
        "heat",
        "Action",
        "Whether more output makes it warmer or colder; heat_cool: one output for each.",
        words={"heat": "Heats", "cool": "Cools", "heat_cool": "Heats, cools"},
    )
    period_s: float = duration(1.0, "Control step", "How often the law reads and decides.", 0.001, 3600.0)
    file: str = Field(default="", title="File", description="Its file, .c or .py, as seen from the design's folder.")

    @model_validator(mode="after")
    def _of_a_kind(self) -> Self:
        if self.file and not self.file.endswith(ENDINGS):
            raise ValueError(f"file must be C (.c) or Python (.py) (received {self.file!r}); name another")
        return self


def summary(settings: Code, unit: TemperatureUnit, setpoint_celsius: float) -> tuple[str, str]:
    """The two lines on its card."""
    del unit, setpoint_celsius
    return "Your own code", PurePath(settings.file).name or "no file yet"


def consequences(settings: Code, unit: TemperatureUnit, setpoint_celsius: float) -> dict[str, str]:
    """One-line consequences beside the settings they follow from."""
    del unit, setpoint_celsius
    if not settings.file:
        return {"file": "Name a file, or write one in the Code room."}
    word = "C, built" if settings.file.endswith(".c") else "Python, started"
    return {"file": f"{word} in a process of its own; guards of the design do not watch over it."}
