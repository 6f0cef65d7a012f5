"""A contained process: begun under limits, ended with all that it began."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import signal
import site
import subprocess
import sys
from pathlib import Path
from typing import IO, Any, NamedTuple

SYSTEM = (
    "/usr", "/lib", "/lib32", "/lib64", "/libx32", "/bin", "/sbin", "/etc/ld.so.cache", "/etc/ld.so.conf",
    "/etc/ld.so.conf.d", "/etc/alternatives", "/nix/store", "/gnu/store",
)  # fmt: skip
"""Where programs, their libraries and headers are."""
DEVICES = ("/dev/null", "/dev/urandom", "/dev/random")
ROOM_BYTES = 64 * 2**20
"""So much can be written into the private folder where it is one of memory."""
ENTER = Path(__file__).with_name("enter.py")


class Limits(NamedTuple):
    """What a process may take: memory and one file in bytes, time of the processor in s, whether it has children."""

    memory_bytes: int
    file_bytes: int
    cpu_s: int
    has_children: bool = False


class Means(NamedTuple):
    """What contains a process beside its limits: the path of bwrap, Landlock, a filter of system calls."""

    bwrap: str = ""
    landlock: bool = False
    filter: bool = False


def python_places() -> list[str]:
    """The folders of this Python and its packages."""
    real = Path(sys.executable).resolve()
    places = [sys.prefix, sys.base_prefix, sys.exec_prefix, str(real.parent.parent), *site.getsitepackages()]
    return list(dict.fromkeys(place for place in places if place != "/"))


def compiler_places(program: str) -> list[str]:
    """The folder that a compiler was installed into, where that is none of the system's."""
    found = shutil.which(program)
    return [] if found is None else [str(Path(found).resolve().parent.parent)]


def _libraries() -> list[str]:
    import importlib.util

    found = (importlib.util.find_spec(name) for name in ("landlock", "pyseccomp"))
    return list({str(Path(spec.origin).parent.parent if spec.submodule_search_locations else Path(spec.origin).parent)
                 for spec in found if spec is not None and spec.origin is not None})  # fmt: skip


def _by_bwrap(bwrap: str, reads: list[str], writes: list[Path], folder: Path) -> list[str]:
    command = [bwrap, "--unshare-all", "--die-with-parent", "--new-session", "--cap-drop", "ALL", "--proc", "/proc"]
    for path in reads:
        if Path(path).is_symlink():
            command += ["--symlink", str(Path(path).readlink()), path]
        else:
            command += ["--ro-bind-try", path, path]
    for path in DEVICES:
        command += ["--dev-bind-try", path, path]
    if writes:
        for place in writes:
            command += ["--bind", str(place), str(place)]
    else:
        command += ["--size", str(ROOM_BYTES), "--tmpfs", str(folder)]
    return [*command, "--chdir", str(folder)]


def command_of(
    command: list[str], reads: list[str], writes: list[Path], folder: Path, limits: Limits, means: Means
) -> list[str]:
    """A command line that contains `command`: it sees the system and `reads`, writes into `folder` and `writes`.

    With bwrap and no `writes`, the folder is one in memory, gone with the process.
    """
    every = [path for path in (*SYSTEM, *python_places(), *reads) if Path(path).exists()]
    plan = {
        "parent": 0 if means.bwrap else os.getpid(), "libraries": _libraries(), "landlock": means.landlock,
        "filter": means.filter, "reads": every, "writes": [str(folder), *map(str, writes)], "devices": DEVICES,
        **limits._asdict(),
    }  # fmt: skip
    prefix = _by_bwrap(means.bwrap, [*every, str(ENTER)], writes, folder) if means.bwrap else []
    return [*prefix, sys.executable, "-I", "-S", str(ENTER), json.dumps(plan), *command]


def environment(folder: Path, **more: str) -> dict[str, str]:
    """The variables of a contained process: nothing of the user's but where programs are."""
    return {
        "PATH": os.environ.get("PATH", os.defpath), "LC_ALL": "C.UTF-8", "HOME": str(folder), "TMPDIR": str(folder),
        "OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1", "PYTHONDONTWRITEBYTECODE": "1", **more,
    }  # fmt: skip


def begin(
    command: list[str], folder: Path, pass_fds: tuple[int, ...] = (), said: IO[bytes] | int = subprocess.PIPE,
    **variables: str,
) -> subprocess.Popen[bytes]:  # fmt: skip
    """Begin a command of `command_of` in a session of its own, with nothing to read; all it prints goes to `said`."""
    return subprocess.Popen(
        command, stdin=subprocess.DEVNULL, stdout=said, stderr=subprocess.STDOUT, pass_fds=pass_fds, cwd=folder,
        env=environment(folder, **variables), start_new_session=True,
    )  # fmt: skip


def end(process: subprocess.Popen[bytes]) -> int:
    """End a process with all of its session; its exit code, negative for a signal."""
    with contextlib.suppress(ProcessLookupError, PermissionError):
        os.killpg(process.pid, signal.SIGKILL)
    process.kill()
    return process.wait()


def signal_of(code: int, means: Means) -> int:
    """The signal that ended a process, 0 where none did."""
    if code < 0:
        return -code
    return code - 128 if means.bwrap and 128 < code < 128 + int(signal.NSIG) else 0


def finished(
    command: list[str], folder: Path, longest_s: float, said: Path, most_bytes: int, **variables: Any
) -> tuple[int | None, str]:
    """Run a command to its end: its exit code, None where it took too long, and the beginning of what it said."""
    with said.open("wb") as stream:
        process = begin(command, folder, said=stream, **variables)
        try:
            code: int | None = process.wait(longest_s)
        except subprocess.TimeoutExpired:
            code = None
        finally:
            end(process)
    with said.open("rb") as stream:
        return code, stream.read(most_bytes).decode(errors="replace")
