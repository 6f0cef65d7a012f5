"""The manual page, made from the commands themselves."""

from __future__ import annotations

from typing import Any

from calor import __version__

RELEASED = "2026-11-26"
ABOUT = (
    "Calor is a workbench for building a microcontroller thermostat: it scales the sensor, codes the loop, drives the"
    " heater or fan, and proves it on recorded runs and simulated loads. Without a verb it opens its desk; with one it"
    " does that part of the job on the command line. Errors are one line on standard error."
)
CAUTION = (
    "Simulation is not proof of safety. Mains wiring is for licensed persons and local codes. A heater needs a cut-out"
    " that shares neither probe, controller nor switch with the thermostat."
)


def _safe(text: str) -> str:
    """Text as a manual page takes it: a backslash, a hyphen and a point at the start of a line mean something else."""
    plain = text.replace("\\", "\\e").replace("-", "\\-").replace("°", "\\(de").replace("…", "...").replace("²", "^2")
    return f"\\&{plain}" if plain.startswith((".", "'")) else plain


def _option(parameter: Any) -> list[str]:
    names = ", ".join(f"\\fB{_safe(name)}\\fR" for name in parameter.opts)
    value = "" if parameter.is_flag else f" \\fI{_safe(parameter.metavar or parameter.name.upper())}\\fR"
    return [".TP", f"{names}{value}", _safe(parameter.help or "")]


def page(application: Any) -> str:
    """The page in the man macros, of the command-line application."""
    import typer

    lines = [
        f'.TH CALOR 1 "{RELEASED}" "calor {__version__}" "User Commands"',
        ".SH NAME", "calor \\- build a microcontroller thermostat",
        ".SH SYNOPSIS", ".B calor", "[\\fIFILE\\fR]", ".br", ".B calor", "\\fIVERB\\fR [\\fIoptions\\fR]",
        ".SH DESCRIPTION", _safe(ABOUT), ".SH VERBS",
    ]  # fmt: skip
    verbs = dict(typer.main.get_command(application).commands)  # type: ignore[attr-defined]
    every = [
        (f"{name} {inner}" if inner else name, command)
        for name, one in verbs.items()
        for inner, command in getattr(one, "commands", {"": one}).items()
    ]
    for name, command in every:
        arguments = [one for one in command.params if one.param_type_name == "argument"]
        options = [one for one in command.params if one.param_type_name == "option" and "--help" not in one.opts]
        words = "".join(f" \\fI{_safe(one.metavar or one.name.upper())}\\fR" for one in arguments)
        lines += [f".SS calor {name}{words}", _safe(command.help or "")]
        for option in options:
            lines += _option(option)
    lines += [
        ".SH EXIT STATUS", "0 where all is well, 1 where a limit or a check fails, 2 for bad input.",
        ".SH ENVIRONMENT", ".TP", ".B XDG_CACHE_HOME",
        "Where the compiled loop and the builds of generated C are kept, in a folder of their own.",
        ".TP", ".B CALOR_KERNEL",
        _safe("Set to python, the loop runs uncompiled, for a comparison: some 100 times slower."),
        ".TP", ".B CALOR_DEBUG", "Show where a mistake of Calor's own was made.",
        ".SH CAUTION", _safe(CAUTION),
    ]  # fmt: skip
    return "\n".join(line for line in lines if line) + "\n"
