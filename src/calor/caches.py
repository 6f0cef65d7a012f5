"""Where what can be made again is kept: builds, compiled templates, the runtime of the packaged compiler."""

from __future__ import annotations

import os
import stat
import tempfile
from functools import lru_cache
from pathlib import Path


def cache_folder(name: str) -> Path:
    """The folder for one kind of what is kept, with the user's caches.

    Where these cannot be written, it lies in a folder for this user alone among the temporary files, so that nothing
    is built anew each time.
    """
    import platformdirs

    usual = platformdirs.user_cache_path("calor") / name
    if _can_write(usual):
        return usual
    place = _temporary() / name
    place.mkdir(parents=True, exist_ok=True)
    return place


def own_file(usual: Path) -> Path:
    """Where a small file of the user's own lies: where it usually does, else beside what is kept for this user alone,
    so that nothing is refused that was allowed before."""
    return usual if _can_write(usual.parent) else _temporary() / usual.name


@lru_cache(maxsize=64)
def _can_write(folder: Path) -> bool:
    """Whether a folder takes files, or can be made."""
    there = next(place for place in (folder, *folder.parents) if place.exists())
    return there.is_dir() and os.access(there, os.W_OK | os.X_OK)


@lru_cache(maxsize=1)
def _temporary() -> Path:
    """A folder of this user alone; one of this process, where another user has taken its name."""
    place = Path(tempfile.gettempdir()) / f"calor-{os.getuid()}"
    try:
        place.mkdir(mode=0o700, exist_ok=True)
        found = place.lstat()
    except OSError:
        return Path(tempfile.mkdtemp(prefix="calor-"))
    # what lies here is loaded and run: nobody else may write into it
    own = stat.S_ISDIR(found.st_mode) and found.st_uid == os.getuid() and not found.st_mode & 0o077
    return place if own else Path(tempfile.mkdtemp(prefix="calor-"))
