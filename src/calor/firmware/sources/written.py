"""Sources written into a folder, and what Calor wrote there before: so that nothing of anybody else's is lost.

What was written is remembered with the user's state, by the folder's place, each file with the sum of its content.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
from pathlib import Path

import platformdirs

from calor.caches import own_file
from calor.errors import FirmwareError, StrangersError, unwritable
from calor.files import make_folder, save_atomically
from calor.firmware.sources.templating import Sources

MOST_FOLDERS = 200
CONCERNS = (
    "thermostat", "probe", "setpoint", "law", "guard", "drive", "knob", "logarithm", "state", "q16", "text",
    "parameters", "link", "panel",
)  # fmt: skip
"""What has a file of its own, in one design or another."""


def write_files(sources: Sources, folder: Path, force: bool = False) -> list[Path]:
    """Write sources into `folder`, made where it is missing.

    Raises FirmwareError, and without `force` StrangersError where the folder holds what Calor did not write.
    """
    if not force:
        strangers = strangers_in(folder, sources.files)
        if strangers:
            raise StrangersError(folder, strangers)
    written = []
    try:
        make_folder(folder)
        for name, text in sources.files.items():
            (folder / name).parent.mkdir(exist_ok=True)
            save_atomically(folder / name, text)
            written.append(folder / name)
    except OSError as error:
        raise unwritable(FirmwareError, folder, error) from None
    _remove_left(sources, folder)
    _remember(folder, {name: _sum(text.encode()) for name, text in sources.files.items()})
    return written


def _remove_left(sources: Sources, folder: Path) -> None:
    """Remove what was written of this very thermostat before and is no part of it now, as its line, say: what builds
    all C there is would fail on it. What anybody has changed since stays; a table or scaling takes no place."""
    if f"{sources.prefix}_thermostat.c" not in sources.files:
        return
    before = _every().get(_key(folder), {})
    for concern in CONCERNS:
        for name in (f"{sources.prefix}_{concern}.c", f"{sources.prefix}_{concern}.h"):
            if name in before and name not in sources.files:
                with contextlib.suppress(OSError):
                    if _sum((folder / name).read_bytes()) == before[name]:
                        (folder / name).unlink()


def strangers_in(folder: Path, files: dict[str, str]) -> list[str]:
    """What of a folder Calor did not write, and would be written over or beside.

    In a folder that Calor has written into before, only what would be written over counts: the rest is the project
    around it. One file is as good as another that says the same.
    """
    before = _every().get(_key(folder), {})
    clashing = []
    for name, text in files.items():
        try:
            there = (folder / name).read_bytes()
        except (FileNotFoundError, NotADirectoryError):
            continue
        except OSError:
            if not os.path.lexists(folder / name):
                continue  # it will not be written either, and that is said then
            there = b""
        if there != text.encode() and _sum(there) != before.get(name):
            clashing.append(name)
    if clashing or before:
        return clashing
    try:
        return sorted(path.name for path in folder.iterdir() if path.name not in files and not _is_ours(path, files))
    except (FileNotFoundError, NotADirectoryError):
        return []
    except OSError as error:
        raise unwritable(FirmwareError, folder, error) from None


def _is_ours(path: Path, files: dict[str, str]) -> bool:
    """Whether a folder holds nothing but files of these names."""
    if not path.is_dir():
        return False
    return all(f"{path.name}/{inner.name}" in files for inner in path.iterdir())


def _sum(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


def _key(folder: Path) -> str:
    return str(folder.resolve())


def _store() -> Path:
    return own_file(platformdirs.user_state_path("calor") / "written.json")


def _every() -> dict[str, dict[str, str]]:
    """What was written before, by folder; nothing where that is lost."""
    try:
        every = json.loads(_store().read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return {}
    return {key: sums for key, sums in every.items() if isinstance(sums, dict)} if isinstance(every, dict) else {}


def _remember(folder: Path, sums: dict[str, str]) -> None:
    """A state that cannot be written remembers nothing: then it is asked once more."""
    every = _every()
    before = every.pop(_key(folder), {})
    every[_key(folder)] = before | sums
    kept = dict(list(every.items())[-MOST_FOLDERS:])
    with contextlib.suppress(OSError):
        _store().parent.mkdir(parents=True, exist_ok=True)
        save_atomically(_store(), json.dumps(kept, indent=0))
