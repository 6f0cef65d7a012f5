"""A verb that Ctrl-C ends: it works beside the thread that listens, whatever it is at."""

from __future__ import annotations

import atexit
import ctypes
import os
import sys
import threading
from collections.abc import Callable

from calor.cli.exit_codes import STOPPED

LONGEST_WAIT_S = 1.0
"""So long it may take to leave in good order, for which a simulation takes some hundredths; then the process ends, and
what it began with it."""


def stoppable(work: Callable[[], int]) -> int:
    """The exit code of `work`, or STOPPED where Ctrl-C ended it."""
    codes: list[int] = []
    worker = threading.Thread(target=lambda: codes.append(work()), name="verb", daemon=True)
    worker.start()
    try:
        worker.join()
    except KeyboardInterrupt:
        _interrupt(worker)
        if not codes:
            print("calor: stopped", file=sys.stderr, flush=True)
            _leave()
        return STOPPED
    return codes[0]


def _interrupt(worker: threading.Thread) -> None:
    """Ask a run to stop, and the worker to leave whatever Python it is in."""
    from calor.loop.simulate import stop_every_run

    stop_every_run()
    ctypes.pythonapi.PyThreadState_SetAsyncExc(ctypes.c_ulong(worker.ident or 0), ctypes.py_object(KeyboardInterrupt))
    worker.join(LONGEST_WAIT_S)


def _leave() -> None:
    """End now: folders of its own are removed, programs that it began end with it."""
    remover = threading.Thread(target=atexit._run_exitfuncs, daemon=True)
    remover.start()
    remover.join(LONGEST_WAIT_S)
    os._exit(STOPPED)
