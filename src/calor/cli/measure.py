"""`calor measure`: the figures of a recorded run."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from calor.cli import recording as of
from calor.cli.common import AS_JSON, print_json
from calor.cli.exit_codes import PASS
from calor.errors import CalorError, as_seen

if TYPE_CHECKING:
    from calor.judge.record import Figures
    from calor.log.read import Record

HELP = "The figures of a recorded run, or of a stretch of it."


def command(
    log: Path = typer.Argument(..., metavar="LOG.csv", help="Recorded run."),
    from_s: float = typer.Option(None, "--from", metavar="S", help="Begin of the stretch, s."),
    to_s: float = typer.Option(None, "--to", metavar="S", help="End of the stretch, s."),
    band: float = typer.Option(0.5, "--band", metavar="T", help="Distance from the setpoint that is in band, °C."),
    aim: float = typer.Option(None, "--aim", metavar="T", help="Setpoint in °C, where the record has none."),
    time: str = of.TIME, temperature: str = of.TEMPERATURE, output: str = of.OUTPUT, setpoint: str = of.SETPOINT,
    ambient_column: str = of.AMBIENT, time_unit: str = of.TIME_UNIT, output_scale: float = of.OUTPUT_SCALE,
    unit: str = of.UNIT, every: float = of.EVERY, join: list[Path] = of.JOIN, keep: list[str] = of.KEEP,
    forget: bool = of.FORGET, as_json: bool = AS_JSON,
) -> int:  # fmt: skip
    from calor.judge.record import figures_of

    if not 0.0 < band <= 500.0:
        raise CalorError("calor measure: --band", "takes a difference in °C above 0", f"{band:g}")
    if from_s is not None and to_s is not None and not from_s < to_s:
        raise CalorError("calor measure: --from", "must be before --to", f"{from_s:g} and {to_s:g}")
    given = of.corrections(time, temperature, output, setpoint, ambient_column, time_unit, output_scale, unit, every)
    record = of.open_record(log, given, join, keep, forget)
    try:
        figures = figures_of(record, band, from_s, to_s, aim)
    except ValueError as error:
        raise CalorError(log, error, "", "choose another --from and --to") from None
    of.keep_corrections(log, given, forget)
    if as_json:
        print_json(data(record, figures))
    else:
        _print(record, figures)
    return PASS


def data(record: Record, figures: Figures) -> dict[str, Any]:
    """A record and its figures as plain data."""
    return {
        "log": record.name,
        "read_as": str(record.recognised),
        "columns": [asdict(column) for column in record.recognised.columns],
        "skipped_lines": record.recognised.skipped_lines,
        "findings": [finding.plain() for finding in record.findings],
        "span_s": record.trace.span_s,
        **figures.plain(),
    }


def _print(record: Record, figures: Figures) -> None:
    from calor.judge.record_text import lines

    print(as_seen(f"{record.name}: {record.recognised}"))
    for finding in record.findings:
        done = finding.otherwise if finding.taken_back else finding.done
        print(f"  {finding.title}: {finding.count}, {finding.text}{f'; {done}' if done else ''}")
    for title, value in lines(figures):
        print(f"  {title:<26} {value}")
