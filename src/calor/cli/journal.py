"""`calor journal`: kept runs listed, shown, kept, compared, exported, taken in and removed."""

from __future__ import annotations

import sys
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from calor.cli import journal_text
from calor.cli.common import AS_JSON, chosen_trial, open_design, print_json, write_csv
from calor.cli.exit_codes import FAIL, PASS
from calor.cli.outputs import FORCE, is_nothing_of_ours, is_run, may_write
from calor.errors import CalorError

if TYPE_CHECKING:
    from calor.design.model import Design
    from calor.design.trial import Trial
    from calor.journal.entry import Kept
    from calor.journal.store import Journal
    from calor.loop.trace import Trace

HELP = "Kept runs: list, show, keep, compare, export, import, remove."
OPTIONS = {"since": "--since", "until": "--until", "sort": "--sort"}
"""What the core calls what is given, as options."""
PLACE = typer.Option(None, "--journal", metavar="FILE", help="Another journal than the user's own.")
NUMBER = typer.Argument(..., metavar="NUMBER", help="Number of the run, as calor journal list shows it.")
TEXT = typer.Option("", "--text", metavar="WORDS", help="Words in design, trial, note or tags.")
TAG = typer.Option("", "--tag", metavar="TAG", help="With this tag.")
DESIGN = typer.Option("", "--design", metavar="NAME", help="Of a design of this name, or a part of it.")
VERDICT = typer.Option("", "--verdict", metavar="pass|fail", help="With this verdict.")
SINCE = typer.Option("", "--since", metavar="DAY", help="Kept on this day or later, as 2026-11-02.")
UNTIL = typer.Option("", "--until", metavar="DAY", help="Kept on this day or before.")


@contextmanager
def opened(place: Path | None) -> Iterator[Journal]:
    """The journal; what was mended in it is said on standard error."""
    from calor.journal.store import Journal

    with Journal(place) as journal:
        for line in journal.said:
            print(f"calor journal: {line}", file=sys.stderr)
        yield journal


def _chosen(journal: Journal, words: str, tag: str, design: str, verdict: str, since: str, until: str) -> list[Kept]:
    from calor.journal.find import Wanted

    if verdict not in ("", "pass", "fail"):
        raise CalorError("calor journal: --verdict", "takes pass or fail", repr(verdict))
    wanted = Wanted(words, tag, design, verdict, since, until)
    return wanted.among(journal.rows())


def list_runs(
    words: str = TEXT, tag: str = TAG, design: str = DESIGN, verdict: str = VERDICT, since: str = SINCE,
    until: str = UNTIL,
    sort: str = typer.Option("", "--sort", metavar="KEY", help="By a figure, or number, made, design, trial, verdict."),
    falling: bool = typer.Option(False, "--falling", help="With --sort: the largest first."),
    most: int = typer.Option(None, "--most", metavar="N", help="No more than so many."),
    journal: Path = PLACE, as_json: bool = AS_JSON,
) -> int:  # fmt: skip
    """List kept runs, the latest first."""
    from calor.journal.find import ordered

    with opened(journal) as book:
        entries = _chosen(book, words, tag, design, verdict, since, until)
    if sort:
        entries = ordered(entries, sort, falling)
    entries = entries if most is None else entries[: max(most, 0)]
    if as_json:
        print_json({"runs": [entry.plain() for entry in entries]})
        return PASS
    if not entries:
        print("No kept runs. calor journal keep FILE keeps one.")
        return PASS
    journal_text.print_list(entries, sort)
    return PASS


def _run(design: Design, trial: Trial, controller: str) -> Trace:
    """A run with a controller that was kept with it: code of others is asked about as ever."""
    from calor import loop
    from calor.cli.progress import watched
    from calor.firmware.controller.seat import seated
    from calor.loop.simulate import steps_of

    with watched(steps_of(design, trial)) as control, seated(design, controller, control=control) as seat:
        return loop.run(design, trial, control, seat)


def show(
    number: int = NUMBER,
    csv: Path = typer.Option(None, "--csv", metavar="OUT", help="Write the run's columns."),
    design: Path = typer.Option(None, "--design", metavar="OUT.toml", help="Write its design."),
    again: bool = typer.Option(False, "--again", help="Run it again, whichever version kept it; exit 1 if it differs."),
    force: bool = FORCE, journal: Path = PLACE, as_json: bool = AS_JSON,
) -> int:  # fmt: skip
    """Show a kept run; one that another version kept is run again, and a difference is said."""
    from calor import __version__
    from calor.files import save_atomically
    from calor.journal import keeping

    may_write("calor journal show: --csv", csv, (), force, is_run)
    may_write("calor journal show: --design", design, (), force, is_nothing_of_ours)
    differences: tuple[str, ...] = ()
    was_run = False
    with opened(journal) as book:
        entry, parts = book.read(number), book.parts(number)
    if csv is not None or again or (entry.kind == "simulated" and entry.version != __version__):
        with tempfile.TemporaryDirectory() as folder:
            one = keeping.opened(entry, parts, Path(folder), _run)
        differences, was_run = one.differences, True
        if csv is not None:
            write_csv(one.trace, csv)
    if design is not None:
        text = keeping.design_of(parts)
        if not text:
            raise CalorError("calor journal show: --design", "this run has none", f"run {number}")
        save_atomically(design, text)
        keeping.put({name: data for name, data in parts.items() if name.startswith("files/")}, design.parent)
    data = entry.plain() | {"parts": sorted(parts), "run_again": was_run, "differences": list(differences)}
    if as_json:
        print_json(data)
    else:
        journal_text.print_run(entry, data, __version__)
    return FAIL if again and differences else PASS


def keep(
    file: Path = typer.Argument(..., metavar="FILE", help="Design (TOML) to run and keep, or a recorded run."),
    trial: str = typer.Option(None, "--trial", metavar="NAME", help="Which trial; the first where left out."),
    note: str = typer.Option("", "--note", metavar="TEXT", help="What is worth remembering."),
    tag: list[str] = typer.Option([], "--tag", metavar="TAG", help="A tag; again for more."),
    seat: str = typer.Option("python", "--with", metavar="NAME", help="Controller under test, as in calor run."),
    limits_of: Path = typer.Option(None, "--limits-of", metavar="DESIGN", help="Judge a recorded run by its limits."),
    journal: Path = PLACE, as_json: bool = AS_JSON,
) -> int:  # fmt: skip
    """Run a design's trial and keep the run, or keep a recorded run."""
    from calor.journal import keeping
    from calor.journal.entry import MOST_NOTE, tags_of

    tags = tags_of(",".join(tag))
    if len(note) > MOST_NOTE:
        raise CalorError("calor journal keep: --note", f"takes up to {MOST_NOTE} signs", f"{len(note)}")
    if file.suffix.lower() == ".toml":
        if limits_of is not None:
            raise CalorError("calor journal keep: --limits-of", "goes with a recorded run", str(file))
        design = open_design(file)
        chosen = chosen_trial(design, file, trial)
        trace = run_seated(design, chosen, seat)
        entry, parts = keeping.simulated(design, chosen, trace, seat, note, tags, file.read_text(encoding="utf-8-sig"))
    else:
        from calor.log.read import read_record

        if trial is not None or seat != "python":
            raise CalorError("calor journal keep", "--trial and --with go with a design", str(file), "leave them out")
        judged_by = open_design(limits_of) if limits_of is not None else None
        entry, parts = keeping.recorded(file, read_record(file), judged_by, note, tags)
    with opened(journal) as book:
        kept = book.read(book.keep(entry, parts))
    if as_json:
        print_json(kept.plain())
    else:
        print(f"Kept as run {kept.number}: {kept.design}, {kept.trial}, {kept.verdict}")
    return PASS


def run_seated(design: Design, trial: Trial, seat: str) -> Trace:
    """A run with a controller that was named here, by which it is agreed to."""
    from calor import loop
    from calor.cli.progress import watched
    from calor.firmware.controller.own_source import is_own, read_source
    from calor.firmware.controller.seat import seated
    from calor.loop.simulate import steps_of

    named = read_source(Path(seat)) if is_own(seat) else None
    with (
        watched(steps_of(design, trial)) as control,
        seated(design, seat, control=control, consented=named) as taken,
    ):
        return loop.run(design, trial, control, taken)


def compare(
    first: int = NUMBER,
    second: int = typer.Argument(..., metavar="OTHER", help="Number of the other run."),
    journal: Path = PLACE, as_json: bool = AS_JSON,
) -> int:  # fmt: skip
    """Compare two kept runs: figures side by side, and in what their designs differ."""
    from calor.journal import keeping
    from calor.journal.find import compared

    with opened(journal) as book:
        one, other = book.read(first), book.read(second)
        texts = [keeping.design_of(book.parts(number)) for number in (first, second)]
    found = compared(one, other, *texts)
    if as_json:
        print_json(found.plain())
        return PASS
    journal_text.print_compared(found, all(texts))
    return PASS


def export(
    out: Path = typer.Argument(..., metavar="OUT", help="A folder, or a .zip."),
    numbers: list[int] = typer.Argument(None, metavar="[NUMBER]…", help="Which runs; all that are chosen else."),
    words: str = TEXT, tag: str = TAG, design: str = DESIGN, verdict: str = VERDICT, since: str = SINCE,
    until: str = UNTIL, force: bool = FORCE, journal: Path = PLACE, as_json: bool = AS_JSON,
) -> int:  # fmt: skip
    """Write kept runs to a folder or zip of TOML, CSV and JSON that another Calor takes in."""
    from calor.journal.exchange import INDEX
    from calor.journal.exchange import export as write

    if out.suffix.lower() == ".zip":
        may_write("calor journal export: OUT", out, (), force, is_nothing_of_ours)
    elif out.exists() and not out.is_dir():
        raise CalorError("calor journal export: OUT", "is no folder", str(out), "give a folder, or a name with .zip")
    elif out.is_dir() and any(out.iterdir()) and not (out / INDEX).is_file() and not force:
        raise CalorError("calor journal export: OUT", "holds what Calor did not export", str(out), "or --force")
    with opened(journal) as book:
        if numbers:
            entries = [book.read(number) for number in dict.fromkeys(numbers)]
        else:
            entries = _chosen(book, words, tag, design, verdict, since, until)
        count = write(book, entries, out)
    if as_json:
        print_json({"exported": count, "out": str(out)})
    else:
        print(f"Exported {count} runs to {out}")
    return PASS


def take_in(
    path: Path = typer.Argument(..., metavar="PATH", help="A folder or zip that calor journal export wrote."),
    journal: Path = PLACE, as_json: bool = AS_JSON,
) -> int:  # fmt: skip
    """Take in the runs of a folder or zip; what is there already stays as it is."""
    from calor.journal.exchange import take_in as take

    with opened(journal) as book:
        new, old = take(book, path)
    if as_json:
        print_json({"new": new, "there_already": old})
    else:
        print(f"Took in {new} runs; {old} were there already")
    return PASS


def remove(
    numbers: list[int] = typer.Argument(..., metavar="NUMBER…", help="Which runs."),
    journal: Path = PLACE, as_json: bool = AS_JSON,
) -> int:  # fmt: skip
    """Remove kept runs for good. A pinned one stays, until its pin is taken off."""
    with opened(journal) as book:
        pinned = [number for number in numbers if book.read(number).pinned]
        if pinned:
            raise CalorError(
                "calor journal remove",
                "is pinned, and stays",
                f"run {pinned[0]}",
                f"calor journal note {pinned[0]} --unpin",
            )
        book.remove(numbers)
    if as_json:
        print_json({"removed": list(dict.fromkeys(numbers))})
    else:
        print(f"Removed {len(set(numbers))} runs")
    return PASS


def note_of(
    number: int = NUMBER,
    note: str = typer.Option(None, "--note", metavar="TEXT", help="Its note from now on."),
    tags: str = typer.Option(None, "--tags", metavar="A,B", help="Its tags from now on."),
    pin: bool = typer.Option(None, "--pin/--unpin", help="Pin it, or take the pin off."),
    journal: Path = PLACE, as_json: bool = AS_JSON,
) -> int:  # fmt: skip
    """Change a kept run's note, tags or pin."""
    from calor.journal.entry import MOST_NOTE, tags_of

    if note is not None and len(note) > MOST_NOTE:
        raise CalorError("calor journal note: --note", f"takes up to {MOST_NOTE} signs", f"{len(note)}")
    given: dict[str, Any] = {"note": note, "tags": None if tags is None else tags_of(tags), "pinned": pin}
    with opened(journal) as book:
        book.write(number, **{key: value for key, value in given.items() if value is not None})
        entry = book.read(number)
    if as_json:
        print_json(entry.plain())
    else:
        journal_text.print_run(entry, {"run_again": False}, "")
    return PASS


COMMANDS: dict[str, Callable[..., int]] = {
    "list": list_runs, "show": show, "keep": keep, "compare": compare, "export": export, "import": take_in,
    "remove": remove, "note": note_of,
}  # fmt: skip
