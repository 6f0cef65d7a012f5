"""The result of a proof, kept beside the design: known to be stale when design, controller or program change.

It is one JSON file, NAME.proof.json beside NAME.toml; of a demo it lies with the user's data. What it was made of is
told by a sum over the design as it is understood (with the content of the files it names, without its name and
notes), the controller's text, and Calor's own version and loop. A result of the same sum is gone on with; any other is
replaced.
"""

from __future__ import annotations

import hashlib
import json
import math
import re
from pathlib import Path
from typing import Any

import platformdirs

from calor import __version__, files
from calor.compiled.build import sources_key
from calor.design.file import files_of
from calor.design.model import Design
from calor.files import save_atomically
from calor.judge.verdict import Judged
from calor.proof.outcome import Outcome
from calor.proof.work import Progress

FORMAT = 2
LARGEST_BYTES = 500_000_000
_BEGINS = b'{"calor_proof"'


def place_of(design_file: Path | None, name: str = "") -> Path:
    """Where the result of a design's proof is kept: beside its file; with the user's data for a demo that ships, and
    for a design that has no file yet, known by its name."""
    if design_file is not None and not files.ships(design_file):
        return design_file.parent / f"{design_file.stem}.proof.json"
    stem = design_file.stem if design_file is not None else re.sub(r"\W+", "_", name.lower()).strip("_") or "design"
    return platformdirs.user_data_path("calor") / "proofs" / f"{stem}.proof.json"


def sum_of(design: Design, controller: str = "python") -> str:
    """What a result is made of, as one sum."""
    data = design.model_dump(mode="json", exclude={"name": True, "notes": True, "proof": {"runs"}})
    digest = hashlib.sha256()
    for path in files_of(design):
        # where a file lies does not matter, what is in it does
        digest.update(path.name.encode() + b"\0" + _content(path) + b"\0")
    for trial in data["trial"]:
        for key in ("ambient_csv", "output_csv"):
            trial[key] = Path(trial[key]).name if trial[key] else None
    if data["law"].get("file"):
        data["law"]["file"] = Path(data["law"]["file"]).name
    own = Path(controller)
    if own.suffix in (".c", ".py"):
        controller = own.name
        digest.update(_content(own))
    text = json.dumps([FORMAT, __version__, sources_key(), controller, data], sort_keys=True)
    digest.update(text.encode())
    return digest.hexdigest()


def _content(path: Path) -> bytes:
    try:
        return path.read_bytes()
    except OSError:
        return b""


def write(progress: Progress, key: str, path: Path) -> None:
    """Keep what a proof has so far. Raises OSError where it cannot be written."""
    data = {
        "calor_proof": FORMAT,
        "key": key,
        "program": __version__,
        "design": progress.plan.design.name,
        "seed": progress.plan.seed,
        "outcomes": [_plain(progress.outcomes[number]) for number in sorted(progress.outcomes)],
        "bands": [
            [band.runs, _numbers(band.low_celsius), _numbers(band.high_celsius)] for band in progress.bands
        ],
    }  # fmt: skip
    path.parent.mkdir(parents=True, exist_ok=True)
    save_atomically(path, json.dumps(data, ensure_ascii=False, allow_nan=False, separators=(",", ":")) + "\n")


def keep(progress: Progress, key: str, path: Path) -> str:
    """Keep what a proof has so far, over an older result only; why it is not kept, empty where it is."""
    if not progress.outcomes:
        return ""
    try:
        if path.exists() and not path.read_bytes()[: len(_BEGINS)].startswith(_BEGINS):
            return "is something else, and the result is not kept"
        write(progress, key, path)
    except OSError as error:
        return f"the result is not kept ({error.strerror or error})"
    return ""


class Kept:
    """A result as it was read."""

    def __init__(self, data: dict[str, Any]) -> None:
        self.key, self.seed, self.program = str(data["key"]), int(data["seed"]), str(data["program"])
        self._data = data

    def into(self, progress: Progress) -> None:
        """Put it into a proof that is to be gone on with. Raises ValueError where it is damaged."""
        try:
            outcomes = {int(row[0]): _outcome(row) for row in self._data["outcomes"]}
            for band, (runs, low, high) in zip(progress.bands, self._data["bands"], strict=True):
                band.runs = int(runs)
                band.low_celsius[:] = [math.inf if value is None else value for value in low]
                band.high_celsius[:] = [-math.inf if value is None else value for value in high]
        except (KeyError, IndexError, TypeError) as error:
            raise ValueError(f"damaged: {error}") from None
        progress.outcomes.update(outcomes)


def read(path: Path) -> Kept | None:
    """The result that is kept at a place; None where there is none that can be read."""
    try:
        if path.stat().st_size > LARGEST_BYTES:
            return None
        data = json.loads(path.read_text(encoding="utf-8"))
        return Kept(data) if data["calor_proof"] == FORMAT else None
    except (OSError, ValueError, KeyError, TypeError, RecursionError):
        return None


def _numbers(values: Any) -> list[float | None]:
    return [float(f"{value:.6g}") if math.isfinite(value) else None for value in values]


def _finite(value: float | None) -> float | None:
    return None if value is None or not math.isfinite(value) else value


def _plain(one: Outcome) -> list[Any]:
    """An outcome as a list; what is no finite number is null."""
    return [
        one.number, one.passes, _limits(one.limits), _limits(one.others),
        *(_finite(value) for value in (one.highest_celsius, one.highest_at_s, one.lowest_celsius)),
        one.ended_by, one.ended_s, one.off_s, _finite(one.end_share), list(one.told), one.cut_out_s, one.failed,
        one.at_s, one.energy_wh,
    ]  # fmt: skip


def _limits(judged: tuple[Judged, ...]) -> list[list[Any]]:
    return [[one.name, one.limit, one.value, one.passes] for one in judged]


def _outcome(row: list[Any]) -> Outcome:
    nan = math.nan
    highest, highest_at_s, lowest = (nan if value is None else float(value) for value in row[4:7])
    return Outcome(
        int(row[0]), bool(row[1]), tuple(Judged(*one) for one in row[2]), tuple(Judged(*one) for one in row[3]),
        highest, highest_at_s, lowest, str(row[7]), row[8], row[9], nan if row[10] is None else float(row[10]),
        tuple(str(word) for word in row[11]), row[12], str(row[13]), float(row[14]), row[15],
    )  # fmt: skip
