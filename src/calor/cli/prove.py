"""`calor prove`: every trial, single fault and tolerance, judged; for a person, and for continuous integration."""

from __future__ import annotations

import sys
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from calor.cli.common import AS_JSON, DESIGN_FILE, open_design, print_json
from calor.cli.exit_codes import FAIL, PASS
from calor.cli.outputs import FORCE, may_write
from calor.cli.run import protection_of
from calor.errors import CalorError, unwritable

if TYPE_CHECKING:
    from calor.proof.plan import Case
    from calor.proof.work import Progress

HELP = "Prove a design over single faults and tolerances: exit 0 all pass, 1 some fail, 2 bad input."
OPTIONS = {"controller": "--with"}
KEEP_EVERY_S = 5.0
MOST_RUNS = 1_000_000


def command(
    file: Path = DESIGN_FILE,
    runs: int = typer.Option(None, "--runs", metavar="N", help="Drawn runs of each trial; proof.runs where left out."),
    seed: int = typer.Option(None, "--seed", metavar="S", help="Which series of draws; proof.seed where left out."),
    seat: str = typer.Option(
        "python", "--with", metavar="NAME", help="Controller under test: python, host, a chip, or FILE.c or FILE.py."
    ),
    faults: bool = typer.Option(False, "--faults", help="Single faults alone."),
    tolerances: bool = typer.Option(False, "--tolerances", help="Tolerances alone."),
    junit: Path = typer.Option(None, "--junit", metavar="OUT.xml", help="Write JUnit XML, a test case for each cell."),
    csv: Path = typer.Option(None, "--csv", metavar="OUT", help="Write a row for each run."),
    anew: bool = typer.Option(False, "--anew", help="Run all again, whatever is kept beside the design."),
    allow_code: bool = typer.Option(False, "--allow-code", help="Allow the code that the design names, from now on."),
    force: bool = FORCE,
    as_json: bool = AS_JSON,
) -> int:
    from calor.design.file import files_of
    from calor.firmware.controller import consent
    from calor.firmware.controller.own_source import is_own, read_source
    from calor.firmware.controller.seat import own_file
    from calor.proof import export, kept
    from calor.proof.plan import Plan
    from calor.proof.summary import report
    from calor.proof.work import Progress

    if runs is not None and not 1 <= runs <= MOST_RUNS:
        raise CalorError("calor prove: --runs", f"takes a whole number from 1 to {MOST_RUNS:,}", str(runs))
    if seed is not None and not 0 <= seed < 2**31:
        raise CalorError("calor prove: --seed", f"takes a whole number from 0 to {2**31 - 1}", str(seed))
    code = Path(seat) if is_own(seat) else None
    place = kept.place_of(file)
    for option, out, is_ours in (("--junit", junit, _is_junit), ("--csv", csv, _is_csv)):
        may_write(f"calor prove: {option}", out, (file, code, place), force, is_ours)
    design = open_design(file)
    for option, out, is_ours in (("--junit", junit, _is_junit), ("--csv", csv, _is_csv)):
        may_write(f"calor prove: {option}", out, files_of(design), force, is_ours)
    if junit is not None and csv is not None and junit.absolute() == csv.absolute():
        raise CalorError("calor prove: --csv", "is the file of --junit", str(csv), "give another name")
    law: Any = design.law
    if allow_code and law.kind == "code":
        consent.allow(read_source(own_file(law)))
    plan = Plan(design, seed)
    count = design.proof.runs if runs is None else runs
    both = faults == tolerances
    asked = (count, both or faults, both or tolerances)
    progress, key = Progress(plan), kept.sum_of(design, seat)
    if not anew:
        take_up(progress, key, place)
    chosen = Progress(plan)
    try:
        work(progress, asked, seat, read_source(code) if code is not None else None, key, place)
    finally:
        keep(progress, key, place)
    # of what is kept, what was asked for
    for case in plan.chosen(*asked):
        chosen.outcomes[case.number] = progress.outcomes[case.number]
    chosen.bands = progress.bands
    data = report(chosen, seat)
    if code is not None or law.kind == "code":
        data |= protection_of(str(code if code is not None else law.file))
    for out, text in ((junit, export.junit), (csv, export.csv_text)):
        if out is not None:
            _write(out, text(chosen))
    if as_json:
        print_json(data)
    else:
        from calor.proof.text import print_proof

        print_proof(data, str(file))
    return FAIL if data["pass"] is False else PASS


def _is_junit(head: str) -> bool:
    return "<testsuites" in head and 'name="calor prove"' in head


def _is_csv(head: str) -> bool:
    return head.startswith("proof_run,trial,kind,")


def _write(path: Path, text: str) -> None:
    from calor.files import save_atomically

    try:
        save_atomically(path, text)
    except OSError as error:
        raise unwritable(CalorError, path, error) from None


def take_up(progress: Progress, key: str, place: Path) -> None:
    """Put in what is kept of the same design, controller, program and seed; say where it is of others."""
    from calor.proof import kept

    found = kept.read(place)
    if found is None:
        return
    if found.key != key:
        print(f"calor: {place}: is of another design, controller or program; all is run again", file=sys.stderr)
        return
    if found.seed != progress.plan.seed:
        return
    try:
        found.into(progress)
    except ValueError:
        print(f"calor: {place}: is damaged; all is run again", file=sys.stderr)
        return
    if progress.outcomes:
        print(f"calor: {place}: {len(progress.outcomes)} runs are there already", file=sys.stderr)


def keep(progress: Progress, key: str, place: Path) -> None:
    """Keep what there is beside the design; where that cannot be, say so."""
    from calor.proof import kept

    why = kept.keep(progress, key, place)
    if why:
        print(f"calor: {place}: {why}", file=sys.stderr)


def work(progress: Progress, asked: tuple[int, bool, bool], seat: str, named: Any, key: str, place: Path) -> None:
    """Make the runs that are missing, and keep what there is from time to time."""
    from calor.cli.progress import shown_share
    from calor.firmware.controller.seat import seats
    from calor.proof.work import Work

    plan = progress.plan
    total, kept_at, every_s = plan.count(*asked), time.monotonic(), KEEP_EVERY_S
    with seats(plan.design, seat, named) as fresh, shown_share("proving") as show:

        def told(case: Case, outcome: object) -> None:
            nonlocal kept_at, every_s
            del case, outcome
            show(len(progress.outcomes) / max(total, 1))
            began = time.monotonic()
            if began - kept_at > every_s:
                keep(progress, key, place)
                kept_at = time.monotonic()
                # a long result is written more seldom
                every_s = max(KEEP_EVERY_S, 20.0 * (kept_at - began))

        Work().run(progress, plan.chosen(*asked), fresh, told)
