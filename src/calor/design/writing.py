"""Design files written back: TOML with the user's comments, order and unchanged lines kept."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import tomlkit
from pydantic import BaseModel
from tomlkit.exceptions import TOMLKitError

from calor.design.file import files_by_key
from calor.design.model import FORMAT, Design
from calor.law.code import Code
from calor.law.setpoint import Hold
from calor.sense.filters import NoFilter
from calor.settings import ordered_fields

LONG_TEXT = 50_000
ONE_KIND = (Hold, NoFilter)
"""Tables whose kind goes without saying."""


def write(design: Design, text: str = "", folder: Path | None = None) -> str:
    """TOML of `design`. With the `text` it came from, comments, order and unchanged lines are kept.

    Files that it names are written as seen from `folder`, where the text is to be kept; by their whole path without it.
    """
    document = _kept(text)
    if not document:
        document["format"] = FORMAT
    _merge(document, _beside(design, folder) if folder is not None else design)
    return tomlkit.dumps(document)


def _kept(text: str) -> Any:
    """The text as a document with its comments; a new one where there is none, or none that can be kept."""
    if len(text) > LONG_TEXT:  # what is kept is read sign by sign
        text = re.sub(r"\n{3,}", "\n\n", text)
    with contextlib.suppress(TOMLKitError, RecursionError):
        return tomlkit.parse(text)
    return tomlkit.document()


def _beside(design: Design, folder: Path) -> Design:
    """The design with the files that it names as they are seen from a folder, where they lie in it."""
    here = folder.absolute()
    law = design.law
    if isinstance(law, Code) and Path(law.file).is_relative_to(here):
        law = law.model_copy(update={"file": str(Path(law.file).relative_to(here))})
    trials = []
    for trial in design.trial:
        inside = {
            key: str(Path(name).relative_to(here))
            for key, name in files_by_key(trial).items()
            if Path(name).is_relative_to(here)
        }
        trials.append(trial.model_copy(update=inside) if inside else trial)
    return design.model_copy(update={"trial": tuple(trials), "law": law})


def _plain(value: Any) -> Any:
    """A setting as TOML has it; floats without the tail of a binary fraction."""
    if isinstance(value, BaseModel):
        return {key: _plain(item) for key, item in _entries(value).items()}
    if isinstance(value, tuple):
        return [_plain(item) for item in value]
    return float(f"{value:.12g}") if isinstance(value, float) else value


def _entries(settings: BaseModel) -> dict[str, Any]:
    """The keys worth writing: those that differ from their default, the kind, and what is asked for where it is not
    said."""
    fields = ordered_fields(type(settings))
    entries = {}
    for key, field in fields.items():
        value = getattr(settings, key)
        said = key == "name" or (key == "kind" and not isinstance(settings, ONE_KIND))
        said = said or (key == "probe_fault_output" and key in settings.model_fields_set)
        said = said or "probe_fault_output" in getattr(value, "model_fields_set", ())
        if value is not None and (said or value != field.default):
            entries[key] = value
    return entries


def _merge(table: Any, settings: BaseModel) -> None:
    """Bring `table` to say what `settings` says, touching only what differs."""
    present = {key: getattr(settings, key, None) for key in type(settings).model_fields if key in table}
    for key in [key for key in table if present.get(key) is None]:
        del table[key]
    for key, value in {**present, **_entries(settings)}.items():
        if value is None:
            continue
        if isinstance(value, BaseModel):
            if not isinstance(table.get(key), Mapping):
                table[key] = tomlkit.table()
            _merge(table[key], value)
        elif isinstance(value, tuple) and value and isinstance(value[0], BaseModel):
            _merge_list(table, key, value)
        elif key not in table or table[key] != _plain(value):
            table[key] = _plain(value)


def _merge_list(table: Any, key: str, values: tuple[Any, ...]) -> None:
    old = table.get(key)
    if old is not None and len(old) == len(values):
        for entry, value in zip(old, values, strict=True):
            _merge(entry, value)
        return
    if old is None and key == "trial" and values == (type(values[0])(),):
        return
    if key in ("trial", "calibration"):
        tables = tomlkit.aot()
        for value in values:
            entry = tomlkit.table()
            _merge(entry, value)
            tables.append(entry)
        if key == "calibration":
            tables[-1].add(tomlkit.nl())  # what follows in the file is another section
        table[key] = tables
        return
    array = tomlkit.array()
    for value in values:
        inline = tomlkit.inline_table()
        inline.update(_plain(value))
        array.append(inline)
    table[key] = array.multiline(len(values) > 1)
