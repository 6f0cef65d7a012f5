"""Which protection this machine grants from a program that others wrote: tried out, not believed."""

from __future__ import annotations

import json
import shutil
import sys
import tempfile
from functools import cache
from pathlib import Path
from typing import NamedTuple

from calor.contained.process import Limits, Means, command_of, finished

_TRIED = """\
import json, os, socket, sys
can = {}
def attempt(name, what):
    try:
        what()
        can[name] = True
    except Exception:
        can[name] = False
def begin():
    if os.fork() == 0:
        os._exit(0)
    os.wait()
attempt("files", lambda: open(sys.argv[1]).read())
attempt("network", lambda: (s := socket.socket(socket.AF_INET, socket.SOCK_DGRAM)).connect(("192.0.2.1", 9)))
attempt("processes", begin)
print(json.dumps(can))
"""
"""A program that tries what it should not be able to do. The address is one of RFC 5737, which leads nowhere."""
LONGEST_S = 20.0


class Protection(NamedTuple):
    """The means in force, and what a contained program cannot reach for: files, network, other processes."""

    means: Means
    files: bool
    network: bool
    processes: bool

    @property
    def name(self) -> str:
        """In one word: bwrap, kernel, or limits where only limits hold."""
        return "bwrap" if self.means.bwrap else "kernel" if self.means.landlock or self.means.filter else "limits"

    @property
    def is_whole(self) -> bool:
        """Whether nothing is left open."""
        return self.files and self.network and self.processes

    @property
    def words(self) -> str:
        """What holds, and what does not, in one line."""
        by = {"bwrap": "by bwrap", "kernel": "by the kernel", "limits": "by limits alone"}[self.name]
        closed = {"no network": self.network, "no files but its own": self.files, "no other programs": self.processes}
        holds = ", ".join(word for word, is_closed in closed.items() if is_closed)
        opens = {"the network": self.network, "your files": self.files, "other programs": self.processes}
        reaches = ", ".join(word for word, is_closed in opens.items() if not is_closed)
        if self.is_whole:
            return f"contained {by}: {holds}"
        return f"contained {by}{f': {holds}' if holds else ''}; with your rights it reaches {reaches}"


LIMITS_ALONE = Protection(Means(), False, False, False)


def tried(means: Means) -> Protection | None:
    """What a program that runs under these means can still do; None where it cannot be run under them."""
    with tempfile.TemporaryDirectory() as place, tempfile.NamedTemporaryFile() as other:
        folder = Path(place)
        (folder / "own").mkdir()
        limits = Limits(512 * 2**20, 2**20, 10)
        command = command_of(
            [sys.executable, "-I", "-S", "-c", _TRIED, other.name], [], [], folder / "own", limits, means
        )
        _, said = finished(command, folder / "own", LONGEST_S, folder / "said", 10_000)
    try:
        can = json.loads(said.splitlines()[-1])
    except (ValueError, IndexError):
        return None
    return Protection(means, not can["files"], not can["network"], not can["processes"])


@cache
def found() -> Protection:
    """The best protection of this machine; tried out once."""
    bwrap = shutil.which("bwrap")
    ways = [Means(bwrap, False, with_filter) for with_filter in (True, False)] if bwrap else []
    ways += [Means("", True, True), Means("", True, False), Means("", False, True), Means()]
    best = LIMITS_ALONE
    for means in ways:
        protection = tried(means)
        if protection is None:
            continue
        if protection.is_whole:
            return protection
        if sum(protection[1:]) > sum(best[1:]):
            best = protection
    return best
