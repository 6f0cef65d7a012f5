"""The verbs as one application: a module a verb, imported when the verb is asked for."""

from __future__ import annotations

from importlib import import_module
from typing import Any

DESK_VERBS = ("open", "demo")
VERBS = (
    *DESK_VERBS,
    "new",
    "check",
    "run",
    "probe",
    "size",
    "driver",
    "convert",
    "replay",
    "measure",
    "fit",
    "tune",
    "sheet",
    "code",
    "completion",
)
"""Each is a module of this package, with what it does (HELP) and the command itself."""


def application(verbs: tuple[str, ...] = VERBS, completes: bool = False) -> Any:
    """The command line of `verbs` alone: a verb starts without the others; `completes` for a shell that asks."""
    import typer

    app = typer.Typer(
        name="calor", help="Build a microcontroller thermostat: simulate, judge, replay, write its C.",
        rich_markup_mode=None, pretty_exceptions_enable=False, add_completion=completes, no_args_is_help=True,
    )  # fmt: skip
    # with one command alone there would be no word for it
    app.callback()(lambda: None)
    for verb in verbs:
        module = import_module(f"calor.cli.{verb}")
        app.command(verb, help=module.HELP)(module.command)
    return app
