"""`calor replay`: the law's decisions on a recorded run."""

from __future__ import annotations

from pathlib import Path

import typer

from calor.cli.common import AS_JSON, DESIGN_FILE, open_design, print_json, write_csv
from calor.cli.exit_codes import PASS
from calor.cli.outputs import FORCE, is_run, may_write

HELP = "The law's decisions on a recorded run."


def command(
    file: Path = DESIGN_FILE,
    log: Path = typer.Argument(..., metavar="LOG.csv", help="Recorded run (CSV with a header)."),
    csv: Path = typer.Option(None, "--csv", metavar="OUT", help="Write the columns, recorded_output among them."),
    force: bool = FORCE,
    as_json: bool = AS_JSON,
) -> int:
    from calor import loop
    from calor.design.file import files_of
    from calor.judge.text import print_replay
    from calor.log.compare import compare
    from calor.log.read import read_with_layout

    may_write("calor replay: --csv", csv, (file, log), force, is_run)
    design = open_design(file)
    may_write("calor replay: --csv", csv, files_of(design), force, is_run)
    recorded, layout = read_with_layout(log)
    trace = loop.replay(design, recorded)
    if csv is not None:
        write_csv(trace, csv)
    data = compare(design, recorded, trace) | {"read_as": str(layout)}
    if as_json:
        print_json(data)
    else:
        print_replay(data)
    return PASS
