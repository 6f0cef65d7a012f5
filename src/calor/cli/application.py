"""The verbs as one application: a module a verb, imported when the verb is asked for."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from importlib import import_module
from inspect import signature
from typing import Any

from calor.errors import CalorError

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
    "prove",
    "journal",
    "report",
    "link",
    "stand-in",
    "sheet",
    "code",
    "completion",
    "help",
)
"""Each is a module of this package, with what it does (HELP) and the command itself."""
SHORT_VERBS = ("new", "check", "probe", "size", "driver", "convert", "completion", "help")
"""Those that are over as soon as what they need is imported."""
GROUPS = ("journal",)
"""Verbs that have verbs of their own: COMMANDS of the module, each with its docstring as help."""
SMALLEST, LARGEST = 1e-30, 1e30


def application(verbs: tuple[str, ...] = VERBS, completes: bool = False) -> Any:
    """The command line of `verbs` alone: a verb starts without the others; `completes` for a shell that asks."""
    import typer

    app = typer.Typer(
        name="calor", help="Build a microcontroller thermostat: simulate, judge, replay, write its C.",
        rich_markup_mode=None, pretty_exceptions_enable=False, add_completion=completes, no_args_is_help=True,
        context_settings={"help_option_names": ["--help", "-h"]},
    )  # fmt: skip

    # with one command alone there would be no word for it
    @app.callback()
    def of_calor(version: bool = typer.Option(False, "--version", help="Show which version this is.")) -> None:
        del version  # answered before the command line is read

    for verb in verbs:
        module = import_module(f"calor.cli.{verb.replace('-', '_')}")
        if verb in GROUPS:
            group = typer.Typer(help=module.HELP, rich_markup_mode=None)
            for name, command in module.COMMANDS.items():
                group.command(name, help=command.__doc__)(_within_measure(f"{verb} {name}", command))
            app.add_typer(group, name=verb)
            continue
        app.command(verb, help=module.HELP)(_within_measure(verb, module.command))
    return app


def _within_measure(verb: str, command: Callable[..., int]) -> Callable[..., int]:
    """A verb that takes numbers a person can mean: not what is none, and none beyond all measure."""

    @wraps(command)
    def measured(**given: Any) -> int:
        for name, value in given.items():
            if isinstance(value, float) and value and not SMALLEST <= abs(value) <= LARGEST:
                option = signature(command).parameters[name].default.param_decls[0]
                rule = f"must be 0 or a number from {SMALLEST:g} to {LARGEST:g} in size"
                raise CalorError(f"calor {verb}: {option}", rule, f"{value:g}", "give it in the unit that --help names")
        return command(**given)

    return measured
