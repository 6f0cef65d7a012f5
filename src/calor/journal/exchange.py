"""Kept runs as files that another Calor takes in: a folder or a zip of TOML, JSON and CSV.

`journal.json` says what it is. Each run is a folder: `run.json` (what it was, verdict, figures, note), `curve.csv`
(the lowest and highest reading of each stretch), and its parts as they are: `design.toml`, `files/…`, `record/…`.
Taking in what is there already changes nothing.
"""

from __future__ import annotations

import io
import json
import math
import zipfile
from collections.abc import Iterable, Iterator
from pathlib import Path, PurePosixPath
from typing import Any

import numpy as np

from calor import __version__
from calor.errors import CalorError, unreadable, unwritable
from calor.files import make_folder, save_atomically
from calor.journal.entry import MOST_NOTE, RECORDED, SIMULATED, Curve, Kept
from calor.journal.keeping import DESIGN, FILES, RECORD, as_json
from calor.journal.store import LARGEST_PART_BYTES, Journal

FORMAT = 1
INDEX, RUN, CURVE = "journal.json", "run.json", "curve.csv"
MOST_RUNS = 100_000


def export(journal: Journal, entries: Iterable[Kept], out: Path) -> int:
    """Write runs to a folder, or to one file where the name ends in .zip; how many. Raises CalorError."""
    chosen = list(entries)
    runs = [{"uid": one.uid, "folder": _folder(one)} for one in chosen]
    index = {"calor_journal": FORMAT, "program": __version__, "runs": runs}
    try:
        if out.suffix.lower() == ".zip":
            memory = io.BytesIO()
            with zipfile.ZipFile(memory, "w", zipfile.ZIP_DEFLATED) as archive:
                archive.writestr(INDEX, _json(index))
                for entry in chosen:
                    for name, data in _files(journal, entry):
                        archive.writestr(f"{_folder(entry)}/{name}", data)
            save_atomically(out, memory.getvalue())
        else:
            make_folder(out)
            for entry in chosen:
                for name, data in _files(journal, entry):
                    place = out / _folder(entry) / name
                    place.parent.mkdir(parents=True, exist_ok=True)
                    save_atomically(place, data)
            save_atomically(out / INDEX, _json(index))
    except OSError as error:
        raise unwritable(CalorError, out, error) from None
    return len(chosen)


def _json(data: Any) -> str:
    return json.dumps(data, indent=2, ensure_ascii=False, allow_nan=False) + "\n"


def _folder(entry: Kept) -> str:
    return f"run-{entry.uid}"


def _files(journal: Journal, entry: Kept) -> Iterator[tuple[str, bytes]]:
    yield RUN, as_json(entry).encode()
    yield CURVE, curve_csv(entry.curve).encode()
    yield from journal.parts(entry.number).items()


def curve_csv(curve: Curve) -> str:
    """A kept curve as CSV: when each stretch begins, its lowest and highest reading; empty where there is none."""
    step_s = curve.span_s / max(len(curve.low_celsius), 1)
    lines = ["time_s,lowest_celsius,highest_celsius"]
    for number, (low, high) in enumerate(zip(curve.low_celsius.tolist(), curve.high_celsius.tolist(), strict=True)):
        figures = [f"{value:.6g}" if math.isfinite(value) else "" for value in (low, high)]
        lines.append(f"{number * step_s:.6g},{figures[0]},{figures[1]}")
    return "\n".join(lines) + "\n"


def take_in(journal: Journal, path: Path) -> tuple[int, int]:
    """Take runs in from a folder or a zip: how many are new, and how many were there. Raises CalorError; what was taken
    in before a damaged run stays."""
    new = old = 0
    for entry, parts in _read(path):
        before = journal.count()
        journal.keep(entry, parts)
        if journal.count() > before:
            new += 1
        else:
            old += 1
    return new, old


def _read(path: Path) -> Iterator[tuple[Kept, dict[str, bytes]]]:
    if path.is_dir():
        yield from _read_from(_Folder(path), path)
        return
    try:
        with zipfile.ZipFile(path) as archive:
            yield from _read_from(_Archive(archive), path)
    except OSError as error:
        raise unreadable(CalorError, path, error, "a folder or zip that calor journal export wrote") from None
    except zipfile.BadZipFile:
        raise CalorError(
            path, "is no zip, or a damaged one", "", "give a folder or zip that calor journal export wrote"
        ) from None


class _Folder:
    """The files of a folder, by name."""

    def __init__(self, path: Path) -> None:
        self._path = path

    def names(self) -> list[tuple[str, int]]:
        """Every file with its size."""
        return [
            (place.relative_to(self._path).as_posix(), place.stat().st_size)
            for place in sorted(self._path.rglob("*"))
            if place.is_file() and not place.is_symlink()
        ]

    def content(self, name: str) -> bytes:
        """What is in a file."""
        return (self._path / name).read_bytes()


class _Archive:
    """The files of a zip, by name."""

    def __init__(self, archive: zipfile.ZipFile) -> None:
        self._archive = archive

    def names(self) -> list[tuple[str, int]]:
        """Every file with its size when unpacked."""
        return [(info.filename, info.file_size) for info in self._archive.infolist() if not info.is_dir()]

    def content(self, name: str) -> bytes:
        """What is in a file; no more than it says, whatever it unpacks to."""
        size = self._archive.getinfo(name).file_size
        with self._archive.open(name) as stream:
            return stream.read(size)


def _read_from(source: _Folder | _Archive, path: Path) -> Iterator[tuple[Kept, dict[str, bytes]]]:
    sizes = dict(source.names())
    if INDEX not in sizes:
        raise CalorError(path, f"holds no {INDEX}", "", "give a folder or zip that calor journal export wrote")
    index = _parsed(source.content(INDEX), path, INDEX)
    given = index.get("calor_journal")
    if not isinstance(given, int) or given > FORMAT:
        raise CalorError(path, f"is of a format this Calor does not read ({INDEX})", repr(given), "use a newer Calor")
    folders = dict.fromkeys(name.partition("/")[0] for name in sizes if name.endswith(f"/{RUN}"))
    if len(folders) > MOST_RUNS:
        raise CalorError(path, f"holds more than {MOST_RUNS} runs", str(len(folders)), "take it in by parts")
    for folder in folders:
        own = {name.partition("/")[2]: name for name in sizes if name.startswith(f"{folder}/")}
        parts = {}
        for name, whole in own.items():
            if name in (RUN, CURVE):
                continue
            pieces = PurePosixPath(name).parts
            known = name == DESIGN or (len(pieces) == 2 and name.startswith((FILES, RECORD)) and ".." not in pieces)
            if not known or sizes[whole] > LARGEST_PART_BYTES:
                continue  # nothing of a run
            parts[name] = source.content(whole)
        data = _parsed(source.content(own[RUN]), path, own[RUN])
        curve = source.content(own[CURVE]).decode("utf-8", "replace") if CURVE in own else ""
        yield _kept(data, curve, path, own[RUN]), parts


def _parsed(data: bytes, path: Path, name: str) -> dict[str, Any]:
    try:
        value = json.loads(data)
    except (ValueError, RecursionError) as error:
        raise CalorError(path, f"{name} is no JSON ({error})", "", "export it again") from None
    if not isinstance(value, dict):
        raise CalorError(path, f"{name} is not what an export holds", "", "export it again")
    return value


def _kept(data: dict[str, Any], curve: str, path: Path, name: str) -> Kept:
    """A run from its JSON. Raises CalorError where something in it cannot be."""
    try:
        kind = (SIMULATED, RECORDED)[(SIMULATED, RECORDED).index(data["kind"])]
        metrics = {str(key): _number_or_list(value) for key, value in dict(data["metrics"]).items()}
        limits = tuple(
            (
                str(one["name"]),
                _number(one["limit"]),
                _number_or_list(one["value"]),
                bool(one["pass"]),
            )
            for one in data["limits"]
        )
        span_s = _number(data["span_s"])
        seed = data.get("seed")
        return Kept(
            kind, str(data["design"])[:200], str(data["trial"])[:200], span_s, metrics, _curve(curve, span_s), limits,
            None if data["pass"] is None else bool(data["pass"]), None if seed is None else int(seed),
            str(data["with"])[:200], str(data["version"])[:60], str(data["note"])[:MOST_NOTE],
            tuple(str(tag) for tag in data["tags"]), bool(data.get("pinned", False)), str(data["made"])[:40],
            str(data["uid"])[:80],
        )  # fmt: skip
    except (KeyError, TypeError, ValueError, OverflowError) as error:
        said = f"lacks {error}" if isinstance(error, KeyError) else str(error)
        raise CalorError(path, f"{name} is not what an export holds: {said}", "", "export it again") from None


def _number(value: Any) -> float:
    number = float(value)
    if not math.isfinite(number):
        raise ValueError(f"{value!r} is no number")
    return number


def _number_or_list(value: Any) -> Any:
    if isinstance(value, list):
        return [None if item is None else _number(item) for item in value]
    return None if value is None else _number(value)


def _curve(text: str, span_s: float) -> Curve:
    rows = [line.split(",") for line in text.splitlines()[1:10_000]]
    columns = [
        np.array([float(row[place]) if len(row) > place and row[place] else np.nan for row in rows]) for place in (1, 2)
    ]
    return Curve(span_s, columns[0], columns[1])
