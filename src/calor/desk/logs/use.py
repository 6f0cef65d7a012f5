"""What is done with a fit: its load put into the design, the record's conditions added as a trial, or both."""

from __future__ import annotations

from pathlib import Path

import platformdirs
from pydantic import ValidationError

from calor.design.edit import parts
from calor.design.model import Design
from calor.design.problems import explain
from calor.design.trial import Trial
from calor.desk.logs.shelf import Opened, Shelf
from calor.desk.state.desk import Desk
from calor.files import save_atomically
from calor.identify.outcome import Fit
from calor.identify.report import conditions_csv, conditions_trial, load_of, start_trial


def use_load(desk: Desk, shelf: Shelf) -> bool:
    """Put the fitted load into the design, as one edit. False, and said, where it cannot be."""
    item, fit = _fitted(shelf)
    if item is None or fit is None:
        return False
    design = _with(desk, load=load_of(fit))
    if design is None:
        return False
    _edit(desk, design, "use the fitted load")
    desk.say("note", f"The load is that of {item.record.name} now; Ctrl+Z takes it back.")
    return True


def add_trial(desk: Desk, shelf: Shelf) -> bool:
    """Add the record's conditions as a trial: start, ambient, and the output as it was recorded."""
    item, fit = _fitted(shelf)
    if item is None or fit is None:
        return False
    place = _place_for(desk, item.record.name)
    try:
        place.parent.mkdir(parents=True, exist_ok=True)
        save_atomically(place, conditions_csv(fit.records[0], fit.share_before))
    except OSError as error:
        desk.say("error", f"{place}: cannot be written ({error.strerror or error}); save the design elsewhere first")
        return False
    trial = conditions_trial(fit, str(place), _free_name(desk, item.record.name))
    return _add(desk, trial, f"The trial {trial.name} gives the load what was switched, from {place}.")


def beside_law(desk: Desk, shelf: Shelf) -> bool:
    """Use the load, add a trial in which the law decides from the record's start, and lay the record over it."""
    item, fit = _fitted(shelf)
    if item is None or fit is None:
        return False
    trial = start_trial(fit, _free_name(desk, f"{item.record.name}, by this law"))
    trials = (*desk.document.design.trial, trial)
    design = _with(desk, load=load_of(fit), trial=trials)
    if design is None:
        return False
    desk.document.end_merging()
    desk.document.edit(design, "run the law on the fitted load", trial=len(trials) - 1)
    desk.runs.set_recorded(item.record.trace, item.paths[0])
    return True


def _fitted(shelf: Shelf) -> tuple[Opened | None, Fit | None]:
    """The record that is looked at and its fit; where others have changed its file meanwhile, that is said."""
    shelf.look_at_disk()
    return shelf.chosen, None if shelf.chosen is None else shelf.chosen.fit


def _with(desk: Desk, **changes: object) -> Design | None:
    """The design with some parts replaced; None, and said, where they do not go together."""
    try:
        return Design.model_validate({**parts(desk.document.design), **changes})
    except ValidationError as error:
        desk.say("error", f"The design does not take this: {explain(error)[0]}")
        return None


def _edit(desk: Desk, design: Design, text: str) -> None:
    desk.document.end_merging()
    desk.document.edit(design, text)


def _add(desk: Desk, trial: Trial, said: str) -> bool:
    trials = (*desk.document.design.trial, trial)
    design = _with(desk, trial=trials)
    if design is None:
        return False
    desk.document.end_merging()
    desk.document.edit(design, "add the record as a trial", trial=len(trials) - 1)
    desk.say("note", said)
    return True


def _free_name(desk: Desk, name: str) -> str:
    names = {trial.name for trial in desk.document.design.trial}
    return next(full for k in range(1, 1000) if (full := name[:74] if k == 1 else f"{name[:74]} {k}") not in names)


def _place_for(desk: Desk, name: str) -> Path:
    """Where the conditions are kept: beside the design; with a design that has no file, among the user's data."""
    path, stem = desk.document.path, Path(name).stem
    folder = path.parent if path is not None else Path(platformdirs.user_data_dir("calor")) / "records"
    base = f"{path.stem}_{stem}" if path is not None else stem
    return next(
        place for k in range(1, 10_000) if not (place := folder / f"{base}{'' if k == 1 else f'_{k}'}.csv").exists()
    )
