"""How far a long run is, at a terminal."""

from __future__ import annotations

import contextlib
import sys
import threading
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import numpy as np
    import numpy.typing as npt

LONG_RUN_STEPS, LONG_UNCOMPILED_STEPS = 3_000_000, 15_000


@contextlib.contextmanager
def shown_share(what: str) -> Iterator[Callable[[float], None]]:
    """A function that takes the share done; at a terminal what takes long is shown by it."""
    if not sys.stderr.isatty():
        yield lambda share: None
        return
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn

    with Progress(TextColumn(what), BarColumn(), console=Console(stderr=True), transient=True) as progress:
        task = progress.add_task("", total=1.0)

        def show(share: float) -> None:
            if share >= 0.0:
                progress.update(task, completed=share)

        yield show


@contextlib.contextmanager
def shown_parts(what: str) -> Iterator[Callable[[str], bool]]:
    """A function that takes the part that is begun, and says to go on; at a terminal the part is shown."""
    if not sys.stderr.isatty():
        yield lambda part: True
        return
    from rich.console import Console

    with Console(stderr=True).status(what) as status:

        def show(part: str) -> bool:
            status.update(f"{what} · {part}")
            return True

        yield show


@contextlib.contextmanager
def watched(steps: int) -> Iterator[npt.NDArray[np.int64]]:
    """A pair for loop.run; at a terminal a long run shows how far it is."""
    from calor.compiled import kernel
    from calor.loop.simulate import new_control

    control = new_control()
    if steps < (LONG_UNCOMPILED_STEPS if kernel().how == "uncompiled" else LONG_RUN_STEPS) or not sys.stderr.isatty():
        yield control
        return
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn, TimeRemainingColumn

    ended = threading.Event()
    columns = (TextColumn("simulating"), BarColumn(), TimeRemainingColumn())
    with Progress(*columns, console=Console(stderr=True), transient=True) as progress:
        task = progress.add_task("", total=steps)

        def watch() -> None:
            while not ended.wait(0.1):
                progress.update(task, completed=int(control[1]))

        watcher = threading.Thread(target=watch)
        watcher.start()
        try:
            yield control
        finally:
            ended.set()
            watcher.join()
