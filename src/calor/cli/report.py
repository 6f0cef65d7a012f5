"""`calor report`: one self-contained page about a design, for the screen and for paper."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import typer

from calor.cli.common import AS_JSON, DESIGN_FILE, open_design, print_json
from calor.cli.exit_codes import PASS
from calor.cli.outputs import FORCE, is_page, may_write
from calor.cli.progress import shown_parts
from calor.errors import CalorError, unwritable

HELP = "Write a report of a design: one HTML page that needs nothing else and prints on A4."
MOST_NOTES = 12


def command(
    file: Path = DESIGN_FILE,
    out: Path = typer.Option(..., "--out", metavar="OUT.html", help="The page."),
    proof: bool = typer.Option(False, "--proof", help="With the proof; run where none is kept beside the design."),
    code: bool = typer.Option(False, "--code", help="With agreement and cost of the firmware, as calor code --check."),
    unit: str = typer.Option("C", "--unit", metavar="C|F|K", help="Unit of the temperatures."),
    journal: Path = typer.Option(None, "--journal", metavar="FILE", help="Another journal than the user's own."),
    force: bool = FORCE,
    as_json: bool = AS_JSON,
) -> int:
    from calor.cli.recording import UNITS
    from calor.design.file import files_of
    from calor.files import save_atomically
    from calor.report.page import Contents, page

    if unit.upper() not in UNITS:
        raise CalorError("calor report: --unit", "takes C, F or K", repr(unit))
    if out.suffix.lower() not in (".html", ".htm"):
        raise CalorError("calor report: --out", "writes a page, and takes the name of a .html file", str(out))
    may_write("calor report: --out", out, (file,), force, is_page)
    design = open_design(file)
    may_write("calor report: --out", out, files_of(design), force, is_page)
    contents = Contents(unit=UNITS[unit.upper()], notes=_notes(design.name, journal))  # type: ignore[arg-type]
    contents.traces = _traces(design)
    if proof:
        contents.proof = _proved(design, file)
    if code:
        from calor.firmware.check import agreement

        with shown_parts("firmware") as goes_on:
            contents.firmware = agreement.check(design, goes_on=goes_on)
    with shown_parts("report") as goes_on:
        goes_on("runs and curves")
        text = page(design, contents)
    try:
        save_atomically(out, text)
    except OSError as error:
        raise unwritable(CalorError, out, error) from None
    if as_json:
        print_json({"out": str(out), "bytes": len(text.encode()), "proof": proof, "code": code})
    else:
        print(f"wrote {out}")
    return PASS


def _traces(design: Any) -> dict[str, Any]:
    """The runs of a design whose law is code of the user's own, by which no other decides."""
    from calor.cli.journal import run_seated
    from calor.firmware.controller.names import BUILT_IN

    if design.law.kind != "code":
        return {}
    return {trial.name: run_seated(design, trial, BUILT_IN) for trial in design.trial}


def _notes(name: str, place: Path | None) -> list[Any]:
    """Kept runs of a design of this name about which something was written; a journal that cannot be read has none."""
    from calor.journal.store import Journal, usual_place

    if not (usual_place() if place is None else place).exists():
        return []
    try:
        with Journal(place) as book:
            rows = [entry for entry in book.rows() if entry.design == name and (entry.note or entry.pinned)]
    except CalorError as error:
        print(f"calor report: {error}", file=sys.stderr)
        return []
    return rows[:MOST_NOTES]


def _proved(design: Any, file: Path) -> Any:
    """The proof that is kept beside the design, with what it lacks."""
    from calor.cli import prove
    from calor.proof import kept
    from calor.proof.plan import Plan
    from calor.proof.work import Progress

    progress, key, place = Progress(Plan(design)), kept.sum_of(design), kept.place_of(file)
    prove.take_up(progress, key, place)
    try:
        prove.work(progress, (design.proof.runs, True, True), "python", None, key, place)
    finally:
        prove.keep(progress, key, place)
    return progress
