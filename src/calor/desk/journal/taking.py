"""What is done with kept runs: written about, taken into the Loop room, exported, taken in, reported, removed."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PyQt6.QtWidgets import QFileDialog, QWidget

from calor.desk.state.desk import Desk
from calor.desk.widgets.places import asked, place_for
from calor.errors import CalorError, unwritable
from calor.files import save_atomically
from calor.journal.entry import RECORDED, Kept

LOG_FILTER = "Logs (*.csv *.txt *.log *.tsv);;All files (*)"

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


def report(desk: Desk, window: QWidget, entry: Kept) -> None:
    """Write the report of a kept run's design."""
    from calor.report.page import Contents, page

    one = desk.kept.opened.get(entry.number)
    if one is None or one.design is None:
        desk.say("error", f"Run {entry.number} has no design to report on.")
        return
    out = place_for(window, "Report", f"run-{entry.number}.html", "Pages (*.html)", ".html")
    if out is None:
        return
    traces = {} if one.trial is None else {one.trial.name: one.trace}
    try:
        text = page(one.design, Contents(traces=traces, notes=[entry] if entry.note else [], unit=desk.view.unit))
        save_atomically(out, text)
    except CalorError as error:
        desk.say("error", str(error))
    except OSError as error:
        desk.say("error", str(unwritable(CalorError, out, error)))
    else:
        desk.say("note", f"Wrote {out.name}.")
