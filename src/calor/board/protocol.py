"""The lines between a board and whoever listens: what a person could type, and a program can check.

A line is words with spaces between, ended by a line feed. From the board: a greeting, a row of `key=value` for each
control step, and an answer for each command. To the board: commands. A line may end in ` *hhhh`, the CRC of what stands
before it; docs/link.md has all of it.
Source of the checksum: CRC-16/CCITT-FALSE (polynomial 0x1021, begin 0xFFFF), ITU-T V.41; of "123456789" it is 0x29B1.
"""

from __future__ import annotations

import binascii
import math
import re
from typing import NamedTuple

VERSION = 1
GREETING, ROW, ANSWER, COMMAND, CHECK_MARK = "hello", "row", "answer", "command", " *"
COMMANDS = ("hello", "get", "set", "hand", "auto", "tune", "stop", "undo", "release", "keep", "step", "front")
LONGEST_LINE = 1000
_PAIR = re.compile(r"([a-z][a-z0-9_]{0,39})=(\S*)")
_NUMBER = re.compile(r"[-+]?(\d+\.?\d*|\.\d+)([eE][-+]?\d{1,3})?|nan|inf|-inf")


class Range(NamedTuple):
    """A setting that a board says can be set: from where to where."""

    low: float
    high: float


class Greeting(NamedTuple):
    """What a board says of itself: its name and version, its control step, what can be set, whether its lines are
    checked, whether it keeps settings over a loss of power, and how many letters a line of its front has (0: none)."""

    name: str
    version: str
    step_s: float
    can: dict[str, Range]
    checked: bool
    keeps: bool = False
    panel: int = 0


class Answer(NamedTuple):
    """What a board answers to a command: whether it did it, and its words, the first of them the command's own."""

    ok: bool
    text: str


class Row(NamedTuple):
    """One control step as a board tells it: its values by key, in the order of the line."""

    values: dict[str, float]


Item = Row | Greeting | Answer


def checksum(text: str) -> int:
    """The CRC of a line's text."""
    return binascii.crc_hqx(text.encode("utf-8"), 0xFFFF)


def checked(text: str) -> str:
    """A line with its checksum."""
    return f"{text}{CHECK_MARK}{checksum(text):04X}"


def unchecked(line: str) -> tuple[str, bool | None]:
    """(text, whether its checksum is right) of a line; None where it has none."""
    text, mark, tail = line.rpartition(CHECK_MARK)
    if not mark or not re.fullmatch(r"[0-9A-Fa-f]{4}", tail):
        return line, None
    return text, checksum(text) == int(tail, 16)


def number(text: str) -> float | None:
    """A number as a board may write it; None where it is none."""
    return float(text) if _NUMBER.fullmatch(text) else None


def row_of(text: str) -> Row | None:
    """A row of key=value words; None where a word of it is none."""
    values: dict[str, float] = {}
    for word in text.split():
        pair = _PAIR.fullmatch(word)
        value = None if pair is None else number(pair[2])
        if pair is None or value is None or pair[1] in values:
            return None
        values[pair[1]] = value
    return Row(values) if values else None


def row_line(values: dict[str, float]) -> str:
    """A row as a board writes it; nine digits tell all floats apart."""
    return " ".join(f"{key}={'nan' if math.isnan(value) else f'{value:.9g}'}" for key, value in values.items())


def greeting_line(greeting: Greeting) -> str:
    """A greeting as a board writes it; a name's spaces are underscores."""
    name = re.sub(r"\s+", "_", greeting.name.strip()) or "board"
    can = ",".join(f"{key}:{one.low:g}:{one.high:g}" for key, one in greeting.can.items())
    check = "crc16" if greeting.checked else "none"
    return (
        f"{GREETING} link={VERSION} name={name} version={greeting.version} step_s={greeting.step_s:g} can={can}"
        f" check={check}{' keeps=1' if greeting.keeps else ''}{f' panel={greeting.panel}' if greeting.panel else ''}"
    )


def greeting_of(text: str) -> Greeting | None:
    """What a greeting says; None where it is none of a version that is known."""
    words = text.split()
    if not words or words[0] != GREETING:
        return None
    pairs = dict(word.split("=", 1) for word in words[1:] if "=" in word)
    step_s = number(pairs.get("step_s", ""))
    if pairs.get("link") != str(VERSION) or step_s is None or not 0.0 < step_s < 1e6:
        return None
    can = {}
    for entry in pairs.get("can", "").split(","):
        key, _, bounds = entry.partition(":")
        low, high = (number(one) for one in [*bounds.split(":"), "", ""][:2])
        if key and low is not None and high is not None:
            can[key] = Range(low, high)
    name = pairs.get("name", "board").replace("_", " ")
    letters = number(pairs.get("panel", "0")) or 0.0
    return Greeting(
        name, pairs.get("version", ""), step_s, can, pairs.get("check") == "crc16", pairs.get("keeps") == "1",
        int(letters) if 0.0 < letters <= 80.0 else 0,
    )  # fmt: skip


def is_for(answer: Answer, command: str) -> bool:
    """Whether an answer may be one to a command: late ones to others are not."""
    word = answer.text.split(" ", 1)[0]
    return word == command.split(" ", 1)[0] or word not in COMMANDS


def answer_of(text: str) -> Answer | None:
    """What an answer says; None where it is none."""
    word, _, rest = text.partition(" ")
    return Answer(word == "ok", rest.strip()) if word in ("ok", "err") else None
