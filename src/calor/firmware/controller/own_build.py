"""C of the user's own, given to a compiler: contained, in a folder of its own, and never without an end."""

from __future__ import annotations

import os
import re
from pathlib import Path
from typing import NamedTuple

from calor.caches import cache_folder
from calor.compiled.compiler import environment
from calor.contained import protection
from calor.contained.process import (
    SYSTEM,
    Limits,
    Means,
    command_of,
    compiler_places,
    finished,
    python_places,
)
from calor.errors import FirmwareError
from calor.firmware.controller.own_source import taken_in
from calor.firmware.run import host

LONGEST_S = 20.0
LIMITS = Limits(4 * 2**30, 64 * 2**20, 30, has_children=True)
MOST_SAID_BYTES = 200_000
DEPENDENCIES = "read.d"
FLAGS = ("-std=c99", "-ffp-contract=off", "-MD", "-MF", DEPENDENCIES)


class Compiled(NamedTuple):
    """What a compiler did: whether it worked, and what it said."""

    is_whole: bool
    said: str


def compiled(text: str, arguments: list[str], folder: Path) -> Compiled:
    """Run the compiler in `folder` on what lies there; the text of the user's own is looked at first.

    Raises FirmwareError where there is no compiler, it includes what it may not, or takes too long.
    """
    refused = taken_in(text)
    if refused:
        raise FirmwareError("", f"line {refused[0].line}: {refused[0].rule}")
    compiler, means = host.compiler(), protection.found().means
    packaged = "ziglang" in compiler
    variables, writes = {}, [folder]
    if packaged:
        kept = cache_folder("chip")
        writes.append(kept)
        variables = {key: str(kept) for key in environment() if key.startswith("ZIG_") and key.endswith("_DIR")}
    command = command_of(
        [compiler[0] if os.sep in compiler[0] else f"/usr/bin/{compiler[0]}", *compiler[1:], *FLAGS, *arguments],
        compiler_places(compiler[0]), writes, folder, LIMITS, Means(means.bwrap, means.landlock),
    )  # fmt: skip
    code, said = finished(command, folder, LONGEST_S, folder / "said.txt", MOST_SAID_BYTES, **variables)
    if code is None:
        raise FirmwareError("", f"the compiler did not end within {LONGEST_S:g} s and was stopped")
    if code == 0:
        _no_strangers(folder)
    return Compiled(code == 0, said)


def _no_strangers(folder: Path) -> None:
    """The compiler's own list of what it read has the last word. Raises FirmwareError."""
    listed = folder / DEPENDENCIES
    names = re.split(r"(?<!\\)\s+", listed.read_text(errors="replace").replace("\\\n", " ")) if listed.exists() else []
    allowed = [*SYSTEM, *python_places(), *compiler_places(host.compiler()[0]), str(folder)]
    for name in names:
        if name.startswith("/") and not any(Path(name).is_relative_to(place) for place in allowed):
            raise FirmwareError("", f"takes in {name}, which is neither its own text nor of the C library")
