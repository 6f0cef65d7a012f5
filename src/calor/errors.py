"""Calor's errors: each is one line that says what, where, the value received and what would do.

CalorError
├── DesignError      a design file that cannot be used; `problems` holds every one found
├── LogError         a recorded run that cannot be read
└── FirmwareError    sources that cannot be generated or built
    └── ConsentError    code that a design names, and that nobody here has allowed
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path


def shown(value: object, limit: int = 60) -> str:
    """A received value as it is repeated in an error: one line, cut where it is long."""
    text = repr(value).replace("\n", " ")
    return text if len(text) <= limit else text[: limit - 1] + "…"


@dataclass(frozen=True)
class Problem:
    """One thing wrong with one key: `where` it is, the `rule` broken, what was `received`."""

    where: str
    rule: str
    received: str = ""

    def __str__(self) -> str:
        return f"{self.where}: {self.rule}" + (f" (received {self.received})" if self.received else "")


class CalorError(Exception):
    """Base of every error that a user of Calor can cause and mend."""


class DesignError(CalorError):
    """A design that cannot be used. `problems` lists what is wrong, in the order of the file."""

    def __init__(self, problems: list[Problem], source: str = "") -> None:
        self.problems = problems
        self.source = source
        prefix = f"{source}: " if source else ""
        super().__init__("\n".join(f"{prefix}{problem}" for problem in problems))


class LogError(CalorError):
    """A recorded run that cannot be read."""


class FirmwareError(CalorError):
    """Sources that cannot be generated, built or run."""


class ConsentError(FirmwareError):
    """Code that a design names, and that has not been allowed on this machine."""


def unreadable(path: Path, error: OSError, wanted: str) -> str:
    """The one line for a path that cannot be opened as the `wanted` kind of file."""
    if path.is_dir():
        return f"{path}: is a folder; give the path of {wanted}"
    if isinstance(error, FileNotFoundError):
        return f"{path}: there is no such file; give the path of {wanted}"
    if isinstance(error, PermissionError):
        return f"{path}: may not be read; allow reading it (chmod u+r) or choose {wanted} elsewhere"
    return f"{path}: cannot be read ({error.strerror or error}); give the path of {wanted}"
