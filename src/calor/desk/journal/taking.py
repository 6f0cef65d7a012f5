"""What is done with kept runs: written about, taken into the Loop room, exported, taken in, reported, removed."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QApplication, QFileDialog, QWidget

from calor.desk.state.desk import Desk
from calor.desk.widgets.places import asked, place_for
from calor.errors import CalorError, unwritable
from calor.files import save_atomically
from calor.firmware.sources.templating import c_name
from calor.journal.entry import RECORDED, Kept

LOG_FILTER = "Logs (*.csv *.txt *.log *.tsv);;All files (*)"

MOST_NOTES = 12
ZIP_FILTER = "Zip archives (*.zip);;All files (*)"


def write(desk: Desk, number: int, **values: Any) -> None:
    """Change what is written about a run."""
    try:
        desk.kept.write(number, **values)
    except CalorError as error:
        desk.say("error", str(error))


def to_loop(desk: Desk, entry: Kept) -> None:
    """Take a run into the Loop room: its design and trial, or a record over the run there."""
    try:
        folder = desk.kept.put(entry)
        if entry.kind == RECORDED:
            one = desk.kept.opened.get(entry.number)
            names = sorted((folder / "record").iterdir())
            if one is None:
                desk.say("note", f"Run {entry.number} is being opened; a moment.")
                return
            desk.runs.set_recorded(one.trace, names[0] if names else None)
            desk.view.choose_room("loop")
            return
        text = (folder / "design.toml").read_text(encoding="utf-8")
    except CalorError as error:
        desk.say("error", str(error))
        return
    except OSError as error:
        desk.say("error", f"run {entry.number}: it cannot be opened ({error.strerror or error})")
        return
    desk.view.offer_design(text, f"run {entry.number}", folder, entry.trial)


def remove(desk: Desk, window: QWidget, entries: list[Kept]) -> None:
    """Take runs out for good, after asking."""
    pinned = [entry.number for entry in entries if entry.pinned]
    if pinned:
        desk.say("error", f"Run {pinned[0]} is pinned, and stays; take the pin off first.")
        return
    words = f"Run {entries[0].number}" if len(entries) == 1 else f"{len(entries)} runs"
    if asked(window, "Remove", f"{words} and what is written about it is removed for good.", "Remove"):
        try:
            desk.kept.remove([entry.number for entry in entries])
        except CalorError as error:
            desk.say("error", str(error))


def export(desk: Desk, window: QWidget, entries: list[Kept]) -> None:
    """Write runs to a zip that another Calor takes in."""
    out = place_for(window, "Export runs", "runs.zip", "Zip archives (*.zip)", ".zip")
    if out is not None:
        try:
            count = desk.kept.export(entries, out)
        except CalorError as error:
            desk.say("error", str(error))
        else:
            desk.say("note", f"Exported {count} runs to {out.name}.")


def take_in(desk: Desk, window: QWidget) -> None:
    """Take in the runs of a zip."""
    name, _ = QFileDialog.getOpenFileName(
        window, "Import runs", str(Path.home()), "Zip archives (*.zip);;All files (*)"
    )
    if name:
        try:
            new, old = desk.kept.take_in(Path(name))
        except CalorError as error:
            desk.say("error", str(error))
        else:
            desk.say("note", f"Took in {new} runs; {old} were there already.")


def keep_record(desk: Desk, window: QWidget) -> None:
    """Keep a recorded run, judged by the open design's limits."""
    name, _ = QFileDialog.getOpenFileName(window, "Keep a recorded run", str(Path.home()), LOG_FILTER)
    if name:
        try:
            number = desk.kept.keep_record(Path(name))
        except CalorError as error:
            desk.say("error", str(error))
        else:
            desk.say("note", f"Kept as run {number}.")


def report_open(desk: Desk, window: QWidget | None) -> None:
    """Write the report of the open design, with the proof that is kept beside it where it is of this design."""
    from calor.proof import kept
    from calor.proof.plan import Plan
    from calor.proof.work import Progress
    from calor.report.page import Contents

    document = desk.document
    out = place_for(window, "Report", f"{c_name(document.design.name)}.html", "Pages (*.html)", ".html")
    if out is None:
        return
    contents = Contents(unit=desk.view.unit)
    found = kept.read(kept.place_of(document.path, document.design.name))
    if found is not None and found.key == kept.sum_of(document.design):
        contents.proof = Progress(Plan(document.design, found.seed))
        with contextlib.suppress(ValueError):
            found.into(contents.proof)
    with contextlib.suppress(CalorError):  # a journal that cannot be opened has nothing to tell
        desk.kept.book()
        name = document.design.name
        contents.notes = [one for one in desk.kept.rows if one.design == name and one.note][:MOST_NOTES]
    current = desk.runs.current
    if current is not None and current.request.design == document.design:
        contents.traces[current.request.trial.name] = current.trace
    _write_page(desk, document.design, contents, out)


def _write_page(desk: Desk, design: Any, contents: Any, out: Path) -> None:
    """Write a report; the pointer shows that it takes a moment."""
    from calor.report.page import page

    QApplication.setOverrideCursor(Qt.CursorShape.WaitCursor)
    try:
        save_atomically(out, page(design, contents))
    except CalorError as error:
        desk.say("error", str(error))
    except OSError as error:
        desk.say("error", str(unwritable(CalorError, out, error)))
    else:
        desk.say("note", f"Wrote {out.name}.")
    finally:
        QApplication.restoreOverrideCursor()


def report(desk: Desk, window: QWidget, entry: Kept) -> None:
    """Write the report of a kept run's design."""
    from calor.report.page import Contents

    one = desk.kept.opened.get(entry.number)
    if one is None or one.design is None:
        desk.say("error", f"Run {entry.number} has no design to report on.")
        return
    out = place_for(window, "Report", f"run-{entry.number}.html", "Pages (*.html)", ".html")
    if out is None:
        return
    traces = {} if one.trial is None else {one.trial.name: one.trace}
    notes = [entry] if entry.note else []
    _write_page(desk, one.design, Contents(traces=traces, notes=notes, unit=desk.view.unit), out)
