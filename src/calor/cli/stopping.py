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
LOOK_S = 0.2
"""So often the thread that listens looks up: a signal that the system gives to another thread does not end its wait."""


def stoppable(work: Callable[[], int]) -> int:
    """The exit code of `work`, or STOPPED where Ctrl-C ended it."""
    codes: list[int] = []
    # a thread whose join was interrupted counts as ended, though it goes on: an event of its own says when it has
    has_ended = threading.Event()

    def act() -> None:
        try:
            codes.append(work())
        finally:
            has_ended.set()

    worker = threading.Thread(target=act, name="verb", daemon=True)
    worker.start()
    try:
        while not has_ended.wait(LOOK_S):
            pass
    except KeyboardInterrupt:
        _interrupt(worker, has_ended)
        if codes != [STOPPED]:  # it did not come to say so itself
            print("calor: stopped", file=sys.stderr, flush=True)
        if not codes:
            _leave()
        return STOPPED
    return codes[0]


def _interrupt(worker: threading.Thread, has_ended: threading.Event) -> None:
    """Ask a run to stop; where none is on, or that is not enough, the worker to leave whatever Python it is in.

    Asked so at once it might be at tidying up after the run.
    """
    from calor.loop.simulate import stop_every_run

    if stop_every_run() and has_ended.wait(LONGEST_WAIT_S / 4.0):
        return
    ctypes.pythonapi.PyThreadState_SetAsyncExc(ctypes.c_ulong(worker.ident or 0), ctypes.py_object(KeyboardInterrupt))
    has_ended.wait(LONGEST_WAIT_S)


def _leave() -> None:
    """End now: folders of its own are removed, programs that it began end with it."""
    remover = threading.Thread(target=atexit._run_exitfuncs, daemon=True)
    remover.start()
    remover.join(LONGEST_WAIT_S)
    os._exit(STOPPED)
