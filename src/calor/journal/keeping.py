"""Runs put into the journal and taken out again: with the files that a design names, and what reproduces them."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path, PurePosixPath
from typing import Any, NamedTuple

from calor import __version__
from calor.design import file as files
from calor.design.model import Design
from calor.design.trial import Trial
from calor.design.writing import write
from calor.errors import CalorError, unreadable
from calor.journal.entry import RECORDED, SIMULATED, Curve, Kept, figures
from calor.judge.verdict import Verdict, judge
from calor.log.read import Record, read_record
from calor.loop.trace import Trace

DESIGN, FILES, RECORD = "design.toml", "files/", "record/"
"""What a run's parts are called: its design, files that the design names, and a record's own bytes."""
ROUNDING = 1e-9
"""A figure that differs by more than this share of itself, when it is run again, differs."""


def simulated(
    design: Design, trial: Trial, trace: Trace, controller: str = "python", note: str = "", tags: tuple[str, ...] = (),
    text: str = "",
) -> tuple[Kept, dict[str, bytes]]:  # fmt: skip
    """A simulated run as it is kept; `text` is the design's own, whose comments stay.

    Raises CalorError where a file that the design names cannot be read.
    """
    verdict = judge(trace, design.limits)
    beside, parts = _with_files(design)
    parts[DESIGN] = write(beside, text).encode()
    own = Path(controller)
    if own.suffix in (".c", ".py"):
        parts[FILES + own.name] = _content(own)
        controller = own.name
    return (
        Kept(
            SIMULATED, design.name, trial.name, trial.span_s, figures(verdict.metrics), Curve.of(trace),
            _limits(verdict), verdict.outcome, trial.seed, controller, __version__, note,
            tags,
        ),
        parts,
    )  # fmt: skip


def recorded(
    path: Path, record: Record, design: Design | None = None, note: str = "", tags: tuple[str, ...] = ()
) -> tuple[Kept, dict[str, bytes]]:
    """A recorded run as it is kept: its own bytes, how it was read, and its figures by a design's limits if given.

    Raises CalorError where the file cannot be read again.
    """
    parts = {RECORD + path.name: _content(path)}
    limits, passes, text = (), None, ""
    band = design.limits.band_celsius if design is not None else 0.5
    from calor.judge.metrics import measure

    metrics = measure(record.trace, band)
    if design is not None:
        verdict = judge(record.trace, design.limits)
        limits, passes = _limits(verdict), verdict.outcome  # type: ignore[assignment]
        beside, others = _with_files(design)
        parts |= others | {DESIGN: write(beside).encode()}
        text = design.name
    return (
        Kept(
            RECORDED, text or path.name, path.name, float(record.trace.span_s), figures(metrics),
            Curve.of(record.trace), limits, passes, None, "python", __version__, note, tags,
        ),
        parts,
    )  # fmt: skip


def _limits(verdict: Verdict) -> tuple[tuple[str, float, float | None, bool], ...]:
    return tuple((one.name, one.limit, one.value, one.passes) for one in verdict.limits)


def _content(path: Path) -> bytes:
    try:
        return path.read_bytes()
    except OSError as error:
        raise unreadable(CalorError, path, error, "a file to be kept") from None


def _with_files(design: Design) -> tuple[Design, dict[str, bytes]]:
    """A design that names the files it needs as kept beside it, and those files."""
    names: dict[Path, str] = {}
    parts: dict[str, bytes] = {}
    for path in files.files_of(design):
        if path in names:
            continue
        name, number = path.name, 1
        while FILES + name in parts:
            number += 1
            name = f"{path.stem}-{number}{path.suffix}"
        names[path], parts[FILES + name] = FILES + name, _content(path)
    law: Any = design.law
    if getattr(law, "file", ""):
        law = law.model_copy(update={"file": names[Path(law.file)]})
    trials = []
    for trial in design.trial:
        moved = {
            key: names[Path(value)]
            for key in ("ambient_csv", "output_csv")
            if (value := getattr(trial, key)) is not None
        }
        trials.append(trial.model_copy(update=moved) if moved else trial)
    return design.model_copy(update={"law": law, "trial": tuple(trials)}), parts


class Opened(NamedTuple):
    """A kept run opened again: its trace, its design where it has one, and what differs from when it was kept."""

    trace: Trace
    design: Design | None
    trial: Trial | None
    differences: tuple[str, ...]


def put(parts: dict[str, bytes], folder: Path) -> None:
    """Write a run's parts into a folder. Raises ValueError for a name that leads out of it, OSError."""
    for name, data in parts.items():
        path = PurePosixPath(name)
        if path.is_absolute() or ".." in path.parts or len(path.parts) > 2:
            raise ValueError(f"{name!r} is no name of a part")
        place = folder / path
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes(data)


def opened(
    entry: Kept, parts: dict[str, bytes], folder: Path,
    run: Callable[[Design, Trial, str], Trace] | None = None,
) -> Opened:  # fmt: skip
    """A kept run again: a record read from its bytes, a simulated one run by what reproduces it.

    `folder` takes its files. `run` makes a run with a controller of another name than the built-in law's.
    Raises CalorError where it cannot be opened.
    """
    try:
        put(parts, folder)
    except (OSError, ValueError) as error:
        raise CalorError(folder, f"the run cannot be opened there ({error})", "", "choose another place") from None
    design = None
    if DESIGN in parts:
        design = files.read(folder / DESIGN).design
    if entry.kind == RECORDED:
        names = [name for name in parts if name.startswith(RECORD)]
        if not names:
            raise CalorError(f"run {entry.number}", "has lost its record", "", "import it again")
        return Opened(read_record(folder / names[0]).trace, design, None, ())
    if design is None:
        raise CalorError(f"run {entry.number}", "has lost its design", "", "import it again")
    try:
        trial = design.find_trial(entry.trial)
    except KeyError:
        raise CalorError(f"run {entry.number}", "its design has no such trial", repr(entry.trial)) from None
    controller = entry.controller
    if controller.endswith((".c", ".py")):
        controller = str(folder / FILES / controller)
    if run is None:
        from calor import loop

        if controller != "python":
            raise CalorError(f"run {entry.number}", "needs its controller to be run again", controller)
        trace = loop.run(design, trial)
    else:
        trace = run(design, trial, controller)
    return Opened(trace, design, trial, differences(entry, figures(judge(trace, design.limits).metrics)))


def differences(entry: Kept, again: dict[str, Any]) -> tuple[str, ...]:
    """The figures of a run made again that are others than those kept, beyond rounding."""
    lines = []
    for key in dict.fromkeys((*entry.metrics, *again)):
        before, after = entry.metrics.get(key), again.get(key)
        if key in entry.metrics and key in again and not _same(before, after):
            lines.append(f"{key}: {_shown(before)} → {_shown(after)}")
    return tuple(lines)


def _same(before: Any, after: Any) -> bool:
    if isinstance(before, list) and isinstance(after, list):
        return len(before) == len(after) and all(_same(a, b) for a, b in zip(before, after, strict=True))
    if before is None or after is None:
        return before is after
    return abs(float(before) - float(after)) <= ROUNDING * max(abs(float(before)), 1.0)


def _shown(value: Any) -> str:
    if isinstance(value, list):
        return "[" + ", ".join(_shown(item) for item in value) + "]"
    return "none" if value is None else f"{float(value):.6g}"


def design_of(parts: dict[str, bytes]) -> str:
    """The text of a run's design; empty where it has none."""
    return parts.get(DESIGN, b"").decode("utf-8", "replace")


def as_json(entry: Kept) -> str:
    """What is kept of a run, as JSON."""
    return json.dumps(entry.plain(), indent=2, ensure_ascii=False, allow_nan=False) + "\n"
