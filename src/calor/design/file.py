"""Design files: TOML read with every problem named, and written back with the user's comments kept."""

from __future__ import annotations

import contextlib
import re
import tomllib
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import tomlkit
from pydantic import BaseModel, ValidationError
from tomlkit.exceptions import TOMLKitError

from calor.design.model import FORMAT, Design
from calor.design.problems import explain
from calor.design.recorded_ambient import read_record
from calor.design.recorded_output import read_output
from calor.design.trial import Trial
from calor.errors import CalorError, DesignError, Problem, shown, unreadable
from calor.files import finish
from calor.law.code import Code
from calor.law.setpoint import Hold
from calor.sense.calibration import CalibrationPoint
from calor.sense.filters import NoFilter
from calor.settings import ordered_fields

WANTED = "a design file (TOML)"
LARGEST_BYTES = 1_000_000
LONG_TEXT = 50_000
ONE_KIND = (Hold, NoFilter)
"""Tables whose kind goes without saying."""


@dataclass(frozen=True)
class DesignFile:
    """A design as it was read: the checked value and the text it came from."""

    design: Design
    text: str


def read(path: Path) -> DesignFile:
    """The design in the file at `path`. Raises DesignError with every problem found."""
    try:
        finish(path)
        with path.open("rb") as stream:  # a device has no size, and no end
            raw = stream.read(LARGEST_BYTES + 1)
    except OSError as error:
        raise DesignError([Problem("file", unreadable(CalorError, path, error, WANTED).said)], str(path)) from None
    if len(raw) > LARGEST_BYTES:
        raise DesignError([Problem("file", "is far too large for a design; give the path of " + WANTED)], str(path))
    try:
        text = raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        rule = f"is not text in UTF-8 (byte {error.start + 1}); give the path of {WANTED}"
        raise DesignError([Problem("file", rule, f"0x{raw[error.start]:02x}")], str(path)) from None
    return DesignFile(parse(text, str(path), path.parent), text)


def parse(text: str, source: str = "", folder: Path | None = None, reads_files: bool = True) -> Design:
    """The design in TOML `text`; `source` names it in errors, files it names are sought in `folder`, and looked at
    where it `reads_files`.

    Raises DesignError with every problem found.
    """
    if not text.strip():
        raise DesignError([Problem("file", "is empty; `calor new FILE` writes a design to start from")], source)
    try:
        data = tomllib.loads(text)
    except (ValueError, RecursionError) as error:
        line = (str(error).splitlines() or ["it is nested too deeply"])[0]
        line = line.replace("at end of document", f"at line {len(text.splitlines())}, the end of the document")
        raise DesignError([Problem("file", f"is not TOML: {line}; mend it or choose another file")], source) from None
    given = data.get("format", FORMAT)
    if isinstance(given, int) and not isinstance(given, bool) and given > FORMAT:
        rule = f"is newer than this Calor reads (format {FORMAT}); open it with a newer Calor"
        raise DesignError([Problem("format", rule, shown(given))], source)
    try:
        design = Design.model_validate(data)
    except ValidationError as error:
        raise DesignError(explain(error), source) from None
    return _with_files(design, folder or Path.cwd(), source) if reads_files else design


def _with_files(design: Design, folder: Path, source: str) -> Design:
    """The design with the files that it names by their whole path. Raises DesignError where one cannot be used."""
    trials, problems = [], []
    law = design.law
    if isinstance(law, Code) and law.file:
        place = (folder / law.file).absolute()
        if not place.is_file():
            rule = "there is no such file; name one, in C (.c) or Python (.py), or put it there"
            problems.append(Problem("law.file", rule, shown(law.file)))
        law = law.model_copy(update={"file": str(place)})
    if law is design.law and not any(_files(trial) for trial in design.trial):
        return design
    for number, trial in enumerate(design.trial, 1):
        places = {key: str((folder / name).absolute()) for key, name in _files(trial).items()}
        for key, path in places.items():
            try:
                if key == "ambient_csv":
                    read_record(path, trial.ambient_column, trial.humidity_column)
                else:
                    read_output(path, trial.output_column)
            except CalorError as error:
                problems.append(Problem(f"trial[{number}].{key}", str(error)))
        trials.append(trial.model_copy(update=places) if places else trial)
    if problems:
        raise DesignError(problems, source)
    return design.model_copy(update={"trial": tuple(trials), "law": law})


def _files(trial: Trial) -> dict[str, str]:
    """The files that a trial names, by key."""
    return {key: name for key in ("ambient_csv", "output_csv") if (name := getattr(trial, key)) is not None}


def files_of(design: Design) -> list[Path]:
    """The files that a design names."""
    named = [Path(name) for trial in design.trial for name in _files(trial).values()]
    law = design.law
    return [*named, Path(law.file)] if isinstance(law, Code) and law.file else named


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
            for key, name in _files(trial).items()
            if Path(name).is_relative_to(here)
        }
        trials.append(trial.model_copy(update=inside) if inside else trial)
    return design.model_copy(update={"trial": tuple(trials), "law": law})


def with_calibration(design: Design, points: tuple[CalibrationPoint, ...]) -> Design:
    """The design with other calibration points in its probe. Raises DesignError where they cannot be."""
    probe = {**dict(design.probe), "calibration": points}
    try:
        return Design.model_validate({**dict(design), "probe": type(design.probe).model_validate(probe)})
    except ValidationError as error:
        raise DesignError(explain(error, ("probe", design.probe.kind))) from None


def _plain(value: Any) -> Any:
    """A setting as TOML has it; floats without the tail of a binary fraction."""
    if isinstance(value, BaseModel):
        return {key: _plain(item) for key, item in _entries(value).items()}
    if isinstance(value, tuple):
        return [_plain(item) for item in value]
    return float(f"{value:.12g}") if isinstance(value, float) else value


def _entries(settings: BaseModel) -> dict[str, Any]:
    """The keys worth writing: those that differ from their default, and the kind."""
    fields = ordered_fields(type(settings))
    entries = {}
    for key, field in fields.items():
        value = getattr(settings, key)
        said = key == "name" or (key == "kind" and not isinstance(settings, ONE_KIND))
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
