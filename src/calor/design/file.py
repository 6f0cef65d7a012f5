"""Design files: TOML read with every problem named."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass
from pathlib import Path

from pydantic import ValidationError

from calor.design.model import FORMAT, Design
from calor.design.problems import explain
from calor.design.recorded_ambient import read_record
from calor.design.recorded_output import read_output
from calor.design.trial import Trial
from calor.errors import CalorError, DesignError, Problem, shown, unreadable
from calor.files import finish
from calor.law.code import Code
from calor.sense.calibration import CalibrationPoint

WANTED = "a design file (TOML)"
LARGEST_BYTES = 1_000_000


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
    if law is design.law and not any(files_by_key(trial) for trial in design.trial):
        return design
    for number, trial in enumerate(design.trial, 1):
        places = {key: str((folder / name).absolute()) for key, name in files_by_key(trial).items()}
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


def files_by_key(trial: Trial) -> dict[str, str]:
    """The files that a trial names, by key."""
    return {key: name for key in ("ambient_csv", "output_csv") if (name := getattr(trial, key)) is not None}


def files_of(design: Design) -> list[Path]:
    """The files that a design names."""
    named = [Path(name) for trial in design.trial for name in files_by_key(trial).values()]
    law = design.law
    return [*named, Path(law.file)] if isinstance(law, Code) and law.file else named


def with_calibration(design: Design, points: tuple[CalibrationPoint, ...]) -> Design:
    """The design with other calibration points in its probe. Raises DesignError where they cannot be."""
    probe = {**dict(design.probe), "calibration": points}
    try:
        return Design.model_validate({**dict(design), "probe": type(design.probe).model_validate(probe)})
    except ValidationError as error:
        raise DesignError(explain(error, ("probe", design.probe.kind))) from None
