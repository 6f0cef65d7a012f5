"""The text of controller code of the user's own: read once, so that what is shown, allowed and run is one and the same.

One file is all of it. Of C, what it includes is looked at before any compiler sees it: calor_law.h and headers of the C
library only, so that no other file's content is compiled in unseen. Python is compiled from the text in hand; it finds
the standard library and installed packages, not what lies beside it.
"""

from __future__ import annotations

import hashlib
import re
from functools import cached_property
from pathlib import Path
from typing import NamedTuple

from calor.errors import FirmwareError, shown, unreadable

WANTED = "your own controller code, in C (.c) or Python (.py)"
LARGEST_BYTES = 2_000_000

_TRIGRAPHS = {
    "??=": "#",
    "??/": "\\",
    "??'": "^",
    "??(": "[",
    "??)": "]",
    "??!": "|",
    "??<": "{",
    "??>": "}",
    "??-": "~",
}
_TOKENS = re.compile(r"//[^\n]*|/\*.*?(?:\*/|\Z)|\"(?:\\.|[^\"\\\n])*\"|'(?:\\.|[^'\\\n])*'", re.DOTALL)
_TAKES_IN = re.compile(r"^[ \t\f\v]*(?:#|%:)[ \t\f\v]*(include_next|include|import|embed)\b(.*)$", re.MULTILINE)
_LIBRARY = re.compile(r"[<\"][A-Za-z0-9_]+(?:/[A-Za-z0-9_]+)*\.h[>\"]")


class TakenIn(NamedTuple):
    """A line of C, from 1, that takes in what the file may not have, and the rule in words."""

    line: int
    rule: str


class OwnSource:
    """The content of one file: its bytes and text."""

    def __init__(self, path: Path, data: bytes) -> None:
        self.path, self.data = path, data

    @cached_property
    def digest(self) -> str:
        """What it is known by."""
        return hashlib.sha256(self.data).hexdigest()

    @property
    def is_c(self) -> bool:
        """Whether it is C; else it is Python."""
        return self.path.suffix == ".c"

    @cached_property
    def text(self) -> str:
        """Its text. Raises FirmwareError where it is none."""
        try:
            return self.data.decode("utf-8")
        except UnicodeDecodeError as error:
            rule = f"is not text in UTF-8 (byte {error.start + 1})"
            raise FirmwareError(self.path, rule, f"0x{self.data[error.start]:02x}", f"give {WANTED}") from None


def is_own(name: str) -> bool:
    """Whether a name is a file of the user's own controller code."""
    return name.endswith((".c", ".py"))


def read_source(path: Path) -> OwnSource:
    """The content of a file as it is now. Raises FirmwareError where it cannot be read as controller code."""
    if not is_own(path.name):
        raise FirmwareError(path, "is no controller code", shown(path.suffix), f"give {WANTED}")
    try:
        if not path.is_file():
            raise FileNotFoundError if not path.exists() else OSError(0, "is no ordinary file")
        with path.open("rb") as stream:
            data = stream.read(LARGEST_BYTES + 1)
    except OSError as error:
        raise unreadable(FirmwareError, path, error, WANTED) from None
    if len(data) > LARGEST_BYTES:
        raise FirmwareError(path, f"is longer than {LARGEST_BYTES // 1_000_000} MB", "", f"give {WANTED}")
    return OwnSource(path, data)


def in_hand(path: Path, text: str) -> OwnSource:
    """A text that is not, or not yet, what its file holds."""
    return OwnSource(path, text.encode("utf-8", errors="surrogatepass"))


def taken_in(text: str) -> list[TakenIn]:
    """The lines of C that include what controller code may not, before a compiler sees them."""
    for three, one in _TRIGRAPHS.items():
        text = text.replace(three, one)
    # spliced lines keep their number: the line ends that are taken out of them follow the whole line
    lines, held, count = [], "", 0
    for line in text.replace("\r\n", "\n").replace("\r", "\n").split("\n"):
        bare = line.rstrip(" \t")
        if bare.endswith("\\"):
            held, count = held + bare[:-1], count + 1
            continue
        lines.append(held + line + "\n" * count)
        held, count = "", 0
    joined = _TOKENS.sub(_without_comment, "\n".join([*lines, held]))
    refused = []
    for match in _TAKES_IN.finditer(joined):
        word, what = match[1], match[2].strip()
        if word == "include" and _LIBRARY.fullmatch(what):
            continue
        number = joined.count("\n", 0, match.start()) + 1
        rule = f"#{word} {what}: controller code is one file; it includes calor_law.h and headers of the C library only"
        refused.append(TakenIn(number, rule))
    return refused


def _without_comment(match: re.Match[str]) -> str:
    token = match.group()
    return " " + "\n" * token.count("\n") if token.startswith("/") else token
