"""`calor driver`: the parts between the pin and the load, checked one by one."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from calor.cli.common import AS_JSON, DESIGN_FILE, open_design, print_json
from calor.cli.exit_codes import FAIL, PASS
from calor.errors import CalorError

if TYPE_CHECKING:
    from calor.design.model import Design

LEFT_OUT = 'driver: there is none; add [driver] with kind = "solid_state_relay" (or transistor_relay, mosfet)'


HELP = "The parts between the pin and the load, checked one by one; exit 1 where one does not hold."


def command(file: Path = DESIGN_FILE, as_json: bool = AS_JSON) -> int:
    data = report(open_design(file), str(file))
    if as_json:
        print_json(data)
    else:
        print_text(data)
    return PASS if data["holds"] else FAIL


def report(design: Design, source: str) -> dict[str, Any]:
    """The list as JSON has it. Raises CalorError where the design has no driver."""
    from calor.design.switched import switched
    from calor.drive import driver as drivers

    if design.driver is None:
        raise CalorError(source, LEFT_OUT)
    on_it = switched(design)
    lines = drivers.checked(design.driver, on_it.watt, design.load.ambient_celsius, on_it.ampere)
    return {
        "kind": design.driver.kind,
        "load_ampere": drivers.load_ampere(design.driver, on_it.watt, on_it.ampere),
        "holds": all(line.holds for line in lines),
        "checks": [line._asdict() for line in lines],
        "cautions": drivers.cautions(design.driver),
    }


def print_text(data: dict[str, Any]) -> None:
    """The list as text."""
    from calor.terminal import PlainConsole, simple_table

    console = PlainConsole()
    table = simple_table("", "figure", "", "what would do")
    for line in data["checks"]:
        table.add_row(line["what"], line["figure"], "ok" if line["holds"] else "no", line["remedy"])
    console.print(table)
    for caution in data["cautions"]:
        console.print(caution)
