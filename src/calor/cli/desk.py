"""The desk opened from the command line, or in one line why there is none."""

from __future__ import annotations

import gc
import os
import sys
from collections.abc import Callable
from pathlib import Path

from calor.cli.exit_codes import BAD_INPUT, PASS
from calor.errors import as_seen

Invoke = Callable[[list[str]], int]
"""One command line carried out; its exit code."""


def open_desk(arguments: list[str], invoke: Invoke) -> int:
    """Open the desk, or say in one line why there is none and do the demo's main job without it."""
    given = [argument for argument in arguments[1:] if not argument.startswith("-")]
    if len(given) != len(arguments) - 1 or len(given) > 1:
        print(
            f"calor {arguments[0]}: takes at most one FILE and no options (received {arguments[1:]})", file=sys.stderr
        )
        return BAD_INPUT
    if given and not Path(given[0]).exists():
        name = as_seen(given[0])
        print(f"calor: {name}: there is no such file; calor new {name} writes one to start from", file=sys.stderr)
        return BAD_INPUT
    has_display = os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY") or os.environ.get("QT_QPA_PLATFORM")
    if sys.platform.startswith("linux") and not has_display:
        print(
            "calor: there is no display (DISPLAY and WAYLAND_DISPLAY are not set); start it in a graphical session, or"
            " under a virtual one: xvfb-run -a calor demo",
            file=sys.stderr,
        )
        return without_desk(invoke) if arguments[0] == "demo" else BAD_INPUT
    # what a start makes stays: looking through it for what is not in use takes a fifth of it
    gc.disable()
    from calor.desk.app import start

    code: int = start(Path(given[0]) if given else None, demo=arguments[0] == "demo")
    return code


def without_desk(invoke: Invoke) -> int:
    """The demo's main job through the command line: simulate, judge, replay a recorded run, write the C."""
    import tempfile

    from calor.demo import DEMOS

    with tempfile.TemporaryDirectory() as place:
        for demo in DEMOS:
            replay = [["replay", str(demo.design), str(demo.log)]] if demo.log is not None else []
            for arguments in (
                ["run", str(demo.design)],
                *replay,
                ["code", str(demo.design), "--out", str(Path(place) / demo.design.stem)],
            ):
                print(f"$ calor {' '.join(arguments[:2])}" + (" …" if len(arguments) > 2 else ""))
                if invoke(arguments) == BAD_INPUT:
                    return BAD_INPUT
                print()
    return PASS
