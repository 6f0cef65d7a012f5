"""`calor sheet`: the design as the settings of a panel controller, to be typed in."""

from __future__ import annotations

import contextlib
from pathlib import Path

import typer

from calor.cli.common import AS_JSON, DESIGN_FILE, open_design, print_json
from calor.cli.exit_codes import PASS
from calor.cli.outputs import FORCE, is_page, may_write
from calor.errors import CalorError, as_seen, unwritable

HELP = "The design as a panel controller's settings: values, other names, and how to verify each."
UNITS = {"C": "°C", "F": "°F", "K": "K"}


def command(
    file: Path = DESIGN_FILE,
    span: str = typer.Option(None, "--span", metavar="LOW:HIGH", help="Range of the controller's input, °C."),
    unit: str = typer.Option("C", "--unit", metavar="C|F|K", help="Unit of the temperatures."),
    html: Path = typer.Option(None, "--html", metavar="OUT", help="Write it as a page, too."),
    force: bool = FORCE,
    as_json: bool = AS_JSON,
) -> int:
    from calor.files import save_atomically
    from calor.terminal import PlainConsole
    from calor.tune.sheet import as_html, as_text, sheet

    if unit.upper() not in UNITS:
        raise CalorError("calor sheet: --unit", "takes C, F or K", repr(unit))
    ends = None if span is None else _span(span)
    may_write("calor sheet: --html", html, (file,), force, is_page)
    design = open_design(file)
    lines = sheet(design, UNITS[unit.upper()], ends)  # type: ignore[arg-type]
    if html is not None:
        try:
            save_atomically(html, as_html(design, lines))
        except OSError as error:
            raise unwritable(CalorError, html, error) from None
    if as_json:
        print_json({"design": design.name, "settings": [line._asdict() for line in lines]})
    else:
        print(as_seen(as_text(design, lines, PlainConsole().width)), end="")
        if html is not None:
            print(f"wrote {html}")
    return PASS


def _span(text: str) -> tuple[float, float]:
    low, _, high = text.partition(":")
    with contextlib.suppress(ValueError):
        ends = (float(low), float(high))
        if -273.15 <= ends[0] < ends[1] <= 3000.0:
            return ends
    raise CalorError("calor sheet: --span", "takes two temperatures in °C that rise, such as 0:400", repr(text))
