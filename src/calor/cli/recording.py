"""What the verbs that read a recorded run share: columns set right, files joined, findings taken back."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import typer

from calor.errors import CalorError

if TYPE_CHECKING:
    from calor.log.read import Record
    from calor.log.recognise import Corrections

TIME = typer.Option(None, "--time", metavar="COLUMN", help="Column of the times: a name, or a number from 1.")
TEMPERATURE = typer.Option(None, "--temperature", metavar="COLUMN", help="Column of the control probe.")
OUTPUT = typer.Option(None, "--output", metavar="COLUMN", help="Column of the output; none: there is none.")
SETPOINT = typer.Option(None, "--setpoint", metavar="COLUMN", help="Column of the setpoint.")
AMBIENT = typer.Option(None, "--ambient-column", metavar="COLUMN", help="Column of the ambient.")
TIME_UNIT = typer.Option(None, "--time-unit", metavar="UNIT", help="Unit of a counter: s, ms, us, min or h.")
OUTPUT_SCALE = typer.Option(None, "--output-scale", metavar="N", help="Value of full output, 255 for example.")
UNIT = typer.Option(None, "--unit", metavar="C|F|K", help="Unit of the temperatures.")
EVERY = typer.Option(None, "--every", metavar="S", help="How far rows are apart, s, where there is no column of times.")
JOIN = typer.Option([], "--join", metavar="FILE", help="Another file of the same run, joined by time; again for more.")
KEEP = typer.Option([], "--keep", metavar="KIND", help="Take a finding's treatment back: spike, gap, stuck, reset, …")
FORGET = typer.Option(False, "--forget", help="Forget what was set right before for files with these columns.")
UNITS = {"C": "°C", "F": "°F", "K": "K", "°C": "°C", "°F": "°F"}


def corrections(
    time: str | None, temperature: str | None, output: str | None, setpoint: str | None, ambient: str | None,
    time_unit: str | None, output_scale: float | None, unit: str | None, every: float | None,
) -> Corrections:  # fmt: skip
    """What is set right on the command line. Raises CalorError for a unit or scale that is none."""
    from calor.log.recognise import TIME_UNITS, Corrections

    if unit is not None and unit.upper() not in UNITS:
        raise CalorError("--unit", "takes C, F or K", repr(unit))
    if time_unit is not None and time_unit not in TIME_UNITS:
        raise CalorError("--time-unit", f"takes one of {', '.join(TIME_UNITS)}", repr(time_unit))
    for option, value in (("--output-scale", output_scale), ("--every", every)):
        if value is not None and not 0.0 < value < 1e12:
            raise CalorError(option, "takes a number above 0", f"{value:g}")
    shown: str | None = None if unit is None else UNITS[unit.upper()]
    return Corrections(time, temperature, output, setpoint, ambient, time_unit, output_scale, shown, every)  # type: ignore[arg-type]


def open_record(path: Path, given: Corrections, join: list[Path], keep: list[str], forget: bool) -> Record:
    """The record in a file, and those joined to it. Raises CalorError."""
    from calor.log.finding import CAN_BE_TAKEN_BACK
    from calor.log.join import read_joined
    from calor.log.read import read_record

    for kind in keep:
        if kind not in CAN_BE_TAKEN_BACK:
            raise CalorError("--keep", f"takes {', '.join(CAN_BE_TAKEN_BACK)}", repr(kind))
    if join:
        return read_joined([path, *join], given, frozenset(keep), forget)
    return read_record(path, given, frozenset(keep), forget)


def keep_corrections(path: Path, given: Corrections, forget: bool) -> None:
    """Remember what was set right, now that it has served; and say so. Raises CalorError."""
    from calor.log.recognise import Corrections
    from calor.log.remembered import remember, remembered
    from calor.log.text import read_table

    if given.given or forget:
        table = read_table(path)
        remember(table, given.over(Corrections() if forget else remembered(table)))
        if given.given:
            print("calor: remembered for files with the same columns; --forget forgets it", file=sys.stderr)
