"""What is done with what tuning found: tried as a ghost, taken into the design in one step, or written as a sheet."""

from __future__ import annotations

from pathlib import Path

from calor.design.model import Design
from calor.desk.state.desk import Desk
from calor.errors import CalorError
from calor.tune.choices import Choice
from calor.tune.gain_sets import SetFound, with_sets
from calor.tune.table import Candidate, with_setting


def design_with(desk: Desk, row: Candidate) -> Design:
    """The open design with a row's gains."""
    return with_setting(desk.document.design, row.setting)


def try_out(desk: Desk, row: Candidate) -> None:
    """Show what a row's gains do as a ghost in the Loop room's strip."""
    desk.runs.try_out(design_with(desk, row))
    desk.say("note", f"{row.title}: tried as a ghost in Loop; Keep takes the gains, Escape drops them.")


def write_sheet(desk: Desk, row: Candidate, path: Path) -> None:
    """Write the design with a row's gains as a panel controller's settings."""
    from calor.files import save_atomically
    from calor.tune.sheet import as_html, sheet

    design = design_with(desk, row)
    try:
        save_atomically(path, as_html(design, sheet(design, desk.view.unit)))
    except OSError as error:
        desk.say("error", f"{path} could not be written: {error.strerror or error}.")
    else:
        desk.say("note", f"Wrote {path}.")


def keep_choice(desk: Desk, choice: Choice) -> None:
    """Take a choice's law into the design, in one step that can be undone."""
    document = desk.document
    document.end_merging()
    document.edit(document.design.model_copy(update={"law": choice.design.law}), "take another width")
    desk.say("note", "It is in the design; Ctrl+Z takes it back.")


def keep_sets(desk: Desk, sets: list[SetFound]) -> None:
    """Take the gain sets into the design, in one step that can be undone."""
    document = desk.document
    document.end_merging()
    try:
        made = with_sets(document.design, sets)
    except CalorError as error:
        desk.say("error", str(error))
        return
    document.edit(made, "take gain sets")
    desk.say("note", f"{len(sets)} gain sets are in the design; Ctrl+Z takes them back.")


def keep(desk: Desk, row: Candidate) -> None:
    """Take a row's gains into the design, in one step that can be undone."""
    document = desk.document
    document.end_merging()
    made = design_with(desk, row)
    window = ", with a window in place of the relay's all or nothing" if made.drive != document.design.drive else ""
    if row.setting.law is not None:
        document.edit(made, "take a predictive law")
        desk.say("note", f"A predictive law with this model is in the design{window}; Ctrl+Z takes it back.")
        return
    document.edit(made, f"take the gains of {row.title}")
    desk.say("note", f"The gains of {row.title} are in the design{window}; Ctrl+Z takes them back.")
