"""What a contained process does first: it gives its rights away, then becomes the program. Runs as a script, alone.

Its arguments are a plan in JSON (calor.contained.process.Plan) and the command. Needs nothing of Calor.
"""

from __future__ import annotations

import contextlib
import ctypes
import errno
import json
import os
import resource
import signal
import sys
from typing import Any

PR_SET_PDEATHSIG, PR_SET_NO_NEW_PRIVS = 1, 38
MOST_OPEN_FILES = 64
REFUSED = (
    "socket", "socketpair", "fork", "vfork", "clone", "ptrace", "process_vm_readv", "process_vm_writev", "bpf", "mount",
    "umount2", "unshare", "setns", "io_uring_setup", "keyctl", "add_key", "request_key", "memfd_create", "shmget",
    "mq_open", "pidfd_open", "pidfd_send_signal", "tkill", "rt_sigqueueinfo", "rt_tgsigqueueinfo",
)  # fmt: skip
"""System calls that a program without network and children has no use for."""


def _limit(plan: dict[str, Any]) -> None:
    limits = [
        (resource.RLIMIT_CORE, 0), (resource.RLIMIT_AS, plan["memory_bytes"]),
        (resource.RLIMIT_FSIZE, plan["file_bytes"]), (resource.RLIMIT_CPU, plan["cpu_s"]),
    ]  # fmt: skip
    if not plan["has_children"]:
        limits += [(resource.RLIMIT_NPROC, 1), (resource.RLIMIT_NOFILE, MOST_OPEN_FILES)]
    for limit, wanted in limits:
        hard = resource.getrlimit(limit)[1]
        most = wanted if hard == resource.RLIM_INFINITY else min(wanted, hard)
        resource.setrlimit(limit, (most, most))


def _close_files(plan: dict[str, Any]) -> None:
    """Landlock: what is not given cannot be opened."""
    from landlock import FSAccess, Ruleset

    rules = Ruleset()
    look = FSAccess.READ_FILE | FSAccess.READ_DIR | FSAccess.EXECUTE
    for path in plan["reads"]:
        with contextlib.suppress(OSError):
            rules.allow(path, rules=look if os.path.isdir(path) else look & FSAccess.all_file())  # noqa: PTH112 - no module that can be done without
    for path in plan["devices"]:
        with contextlib.suppress(OSError):
            rules.allow(path, rules=FSAccess.READ_FILE | FSAccess.WRITE_FILE)
    for path in plan["writes"]:
        rules.allow(path)
    rules.apply()


def _refuse_calls() -> None:
    """A filter of system calls: no network, no other processes, no signals to any."""
    import pyseccomp

    refused = pyseccomp.SyscallFilter(pyseccomp.ALLOW)
    for name in REFUSED:
        with contextlib.suppress(OSError, ValueError):  # a call that this machine does not have
            refused.add_rule(pyseccomp.ERRNO(errno.EPERM), name)
    refused.add_rule(pyseccomp.ERRNO(errno.ENOSYS), "clone3")  # whoever calls it falls back on what is refused
    for name in ("kill", "tgkill"):
        refused.add_rule(pyseccomp.ERRNO(errno.EPERM), name, pyseccomp.Arg(0, pyseccomp.NE, os.getpid()))
    refused.load()


def _watch(command: list[str]) -> None:
    """Stay beside a program that has children: they all end when whoever began this does."""
    process = os.fork()
    if process:
        signal.signal(signal.SIGTERM, lambda *_: os.killpg(0, signal.SIGKILL))
        _, status = os.waitpid(process, 0)
        code = os.waitstatus_to_exitcode(status)
        os._exit(code if code >= 0 else 128 - code)
    os.execv(command[0], command)


def main() -> None:
    """Become the program."""
    plan, command = json.loads(sys.argv[1]), sys.argv[2:]
    sys.path += plan["libraries"]
    c = ctypes.CDLL(None)
    c.prctl(PR_SET_PDEATHSIG, int(signal.SIGTERM if plan["has_children"] else signal.SIGKILL), 0, 0, 0)
    if plan["parent"] and os.getppid() != plan["parent"]:
        os._exit(1)  # it ended before this could be asked for
    c.prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0)
    if plan["landlock"]:
        _close_files(plan)
    if plan["has_children"]:
        _limit(plan)
        _watch(command)
    if plan["filter"]:
        _refuse_calls()
    _limit(plan)
    os.execv(command[0], command)


if __name__ == "__main__":
    main()
