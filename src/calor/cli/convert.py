"""`calor convert`: gains in each form. Nothing of a design is imported here: the answer is there at once."""

from __future__ import annotations

import typer

from calor.cli.common import AS_JSON, print_json
from calor.cli.exit_codes import PASS
from calor.errors import CalorError
from calor.law.dialect import every_form

HELP = "PID gains from one way of writing them to the others."
OPTIONS = {"gain": "--gain", "integral time": "--ti", "derivative time": "--td", "form": "--from"}
"""What the core calls what is given, as options."""


def command(
    gain: float = typer.Option(..., "--gain", "--kp", "--band", help="Gain per °C, Kp per °C, or band in °C."),
    ti: float = typer.Option(
        0.0, "--ti", "--ki", "--repeats", help="Integral time s, Ki per °C·s, or repeats/min; 0: none."
    ),
    td: float = typer.Option(0.0, "--td", "--kd", help="Derivative time s, or Kd in s per °C; 0: none."),
    source: str = typer.Option("standard", "--from", metavar="FORM", help="standard, parallel, series or band."),
    target: str = typer.Option("", "--to", metavar="FORM", help="Which to print; all where left out."),
    as_json: bool = AS_JSON,
) -> int:
    gains = every_form(source, gain, ti, td)
    if target and target not in gains:
        raise CalorError("calor convert: --to", f"must be one of {', '.join(gains)}", f"{target!r}")
    if target and gains[target] is None:
        raise CalorError(
            "calor convert: --to series", "not possible", "", "the series form needs --ti of at least 4 times --td"
        )
    wanted = {target: gains[target]} if target else gains
    if as_json:
        print_json(wanted)
    else:
        print_gains(wanted)
    return PASS


def print_gains(gains: dict[str, dict[str, float] | None]) -> None:
    """Gains in each form."""
    from calor.terminal import PlainConsole, simple_table

    table = simple_table("form", "", "")
    for form, numbers in gains.items():
        if numbers is None:
            table.add_row(form, "not possible", "integral time below 4 derivative times")
        for key, value in (numbers or {}).items():
            table.add_row(form, key, f"{value:.6g}")
    PlainConsole().print(table)
