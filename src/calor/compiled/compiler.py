"""The C compilers of this machine: its own, and the packaged one."""

from __future__ import annotations

import importlib.util
import os
import shutil
import sys
from pathlib import Path
from typing import NamedTuple

from calor.caches import cache_folder

INSTALL = "install one, on Debian: apt-get install gcc libc6-dev, or beside Calor: pip install ziglang"


class Compiler(NamedTuple):
    """A command that compiles C for this machine, and which compiler it is, so that another one is told from it."""

    command: tuple[str, ...]
    identity: str


def _stamp(path: str) -> str:
    """A program by its real place, size and time: a new version differs in one of them."""
    real = Path(path).resolve()
    facts = real.stat()
    return f"{real} {facts.st_size} {facts.st_mtime_ns}"


def compilers() -> tuple[Compiler, ...]:
    """The compilers there are, the machine's own first."""
    compilers_here = []
    first = next((path for name in ("cc", "gcc", "clang") if (path := shutil.which(name))), None)
    if first is not None:
        compilers_here.append(Compiler((first,), _stamp(first)))
    packaged = importlib.util.find_spec("ziglang")
    if packaged is not None and packaged.origin is not None:
        # without its own checks, which would end a program where C has it go on
        command = (sys.executable, "-m", "ziglang", "cc", "-fno-sanitize=undefined")
        compilers_here.append(Compiler(command, _stamp(str(Path(packaged.origin).parent / "zig"))))
    return tuple(compilers_here)


def identity_of(command: list[str]) -> str:
    """Which compiler a command calls, so that another one is told from it."""
    if "ziglang" in command:
        return next(one.identity for one in reversed(compilers()))
    program = shutil.which(command[0])
    return _stamp(program) if program is not None else command[0]


def environment() -> dict[str, str]:
    """The packaged compiler keeps what it builds of its own runtime, once for each target, with the user's caches."""
    kept = str(cache_folder("chip"))
    return {**os.environ, "ZIG_GLOBAL_CACHE_DIR": kept, "ZIG_LOCAL_CACHE_DIR": kept}
