"""Calor's errors: each is one line that says what, where, the value received and what would do.

CalorError
├── DesignError      a design file that cannot be used; `problems` holds every one found
├── LogError         a recorded run that cannot be read
└── FirmwareError    sources that cannot be generated or built
    ├── StrangersError  a folder to write into that holds what Calor did not write
    └── ConsentError    code that a design names, and that nobody here has allowed
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TypeVar


def as_seen(text: str) -> str:
    """A text that others wrote, as it may stand in a terminal: what would steer the terminal is shown as a mark."""
    return "".join(sign if sign in "\n\t" or sign.isprintable() else "\N{REPLACEMENT CHARACTER}" for sign in text)


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
    """Base of every error that a user of Calor can cause and mend: one line in four fields.

    `where` it is (a file, a key, the name of what was given; empty where that says nothing), the `rule` broken, what
    was `received`, and the `remedy`. Whoever shows one may word `where` in terms of its own, before `said`.
    """

    def __init__(self, where: object, rule: object, received: object = "", remedy: str = "") -> None:
        self.where, self.rule, self.received, self.remedy = str(where), str(rule), str(received), remedy
        super().__init__(self.where, self.rule, self.received, self.remedy)

    @property
    def said(self) -> str:
        """All but where it is."""
        received = f" (received {self.received})" if self.received else ""
        return f"{self.rule}{received}" + (f"; {self.remedy}" if self.remedy else "")

    def __str__(self) -> str:
        return f"{self.where}: {self.said}" if self.where else self.said


class DesignError(CalorError):
    """A design that cannot be used. `problems` lists what is wrong, in the order of the file."""

    def __init__(self, problems: list[Problem], source: str = "") -> None:
        self.problems = problems
        self.source = source
        first = problems[0]
        super().__init__(": ".join(part for part in (source, first.where) if part), first.rule, first.received)

    def __str__(self) -> str:
        prefix = f"{self.source}: " if self.source else ""
        return "\n".join(f"{prefix}{problem}" for problem in self.problems)


class LogError(CalorError):
    """A recorded run that cannot be read."""


class FirmwareError(CalorError):
    """Sources that cannot be generated, built or run."""


class StrangersError(FirmwareError):
    """A folder to write into that holds what Calor did not write: `names`."""

    def __init__(self, folder: Path, names: list[str]) -> None:
        self.names = names
        shown_names = ", ".join(names[:4]) + (f" and {len(names) - 4} more" if len(names) > 4 else "")
        super().__init__(
            folder, f"holds {shown_names}, which Calor did not write or which was changed since", "",
            "choose another folder, or --force to write there all the same",
        )  # fmt: skip


class ConsentError(FirmwareError):
    """Code that a design names, and that has not been allowed on this machine."""


E = TypeVar("E", bound=CalorError)


def unreadable(kind: type[E], path: Path, error: OSError, wanted: str) -> E:
    """The error for a path that cannot be opened as the `wanted` kind of file."""
    rule, remedy = f"cannot be read ({error.strerror or error})", f"give the path of {wanted}"
    if path.is_dir():
        rule = "is a folder"
    elif isinstance(error, FileNotFoundError):
        rule = "there is no such file"
    elif isinstance(error, PermissionError):
        rule, remedy = "may not be read", f"allow reading it (chmod u+r) or choose {wanted} elsewhere"
    return kind(path, rule, remedy=remedy)


def unwritable(kind: type[E], path: Path, error: OSError) -> E:
    """The error for a path that cannot be written."""
    return kind(path, f"cannot be written ({error.strerror or error})", remedy="choose another place")
