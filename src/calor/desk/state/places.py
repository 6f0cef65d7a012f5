"""Where the desk keeps what it remembers: settings, recent designs, edits not yet saved."""

from __future__ import annotations

import contextlib
import fcntl
import json
import uuid
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

import platformdirs

from calor.files import save_atomically

MOST_RECENT = 8


def config_file() -> Path:
    """The settings' file in the platform's directory."""
    return Path(platformdirs.user_config_dir("calor")) / "settings.json"


def recovery_folder() -> Path:
    """Where edits are kept until they are saved."""
    return Path(platformdirs.user_state_dir("calor")) / "unsaved"


class Remembered:
    """Settings of the desk. A file that is damaged or cannot be written is as good as none."""

    def __init__(self) -> None:
        self._values: dict[str, Any] = {}
        with contextlib.suppress(OSError, ValueError):
            values = json.loads(config_file().read_text(encoding="utf-8"))
            self._values = values if isinstance(values, dict) else {}

    def get(self, key: str, default: Any = None) -> Any:
        """What is remembered under `key`."""
        return self._values.get(key, default)

    def put(self, key: str, value: Any) -> None:
        """Remember `value` under `key`."""
        self._values[key] = value
        with contextlib.suppress(OSError):
            config_file().parent.mkdir(parents=True, exist_ok=True)
            save_atomically(config_file(), json.dumps(self._values, indent=1))

    def recent(self) -> list[Path]:
        """Designs opened lately that are still there, latest first."""
        names = self._values.get("recent", [])
        paths = [Path(name) for name in names if isinstance(name, str)] if isinstance(names, list) else []
        return [path for path in paths if path.is_file()]

    def add_recent(self, path: Path) -> None:
        """Put `path` at the head of the recent designs."""
        names = [str(path.resolve()), *(str(p) for p in self.recent() if p.resolve() != path.resolve())]
        self.put("recent", names[:MOST_RECENT])


@dataclass(frozen=True)
class Unsaved:
    """An edit that a killed desk left behind, when it was kept, and what its file held when it was opened."""

    kept_in: Path
    path: Path | None
    name: str
    text: str
    kept_at_s: float
    base: str = ""

    @property
    def is_older_than_file(self) -> bool:
        """Whether its file was written after the edit was kept."""
        with contextlib.suppress(OSError):
            return self.path is not None and self.path.stat().st_mtime > self.kept_at_s
        return False

    def drop(self) -> None:
        """It is taken back, or not wanted."""
        with contextlib.suppress(OSError):
            self.kept_in.unlink(missing_ok=True)
            _lock_of(self.kept_in).unlink(missing_ok=True)


class Keeper:
    """Keeps the open design's unsaved text on disk, under a name of its own, which it holds as long as it lives.

    The number of a process comes again, in a container with every start: it does not tell one desk from another.
    """

    def __init__(self) -> None:
        self._file = recovery_folder() / f"{uuid.uuid4().hex}.json"
        self._lock: IO[str] | None = None

    def keep(self, path: Path | None, name: str, text: str, base: str = "") -> None:
        """Keep `text` until it is saved or dropped; `base` is what its file held."""
        with contextlib.suppress(OSError):
            self._file.parent.mkdir(parents=True, exist_ok=True)
            if self._lock is None:
                self._lock = _lock_of(self._file).open("w", encoding="utf-8")
                fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
            data = {"path": None if path is None else str(path), "name": name, "text": text, "base": base}
            save_atomically(self._file, json.dumps(data))

    def drop(self) -> None:
        """Nothing is unsaved any more."""
        with contextlib.suppress(OSError):
            self._file.unlink(missing_ok=True)
        if self._lock is not None:
            with contextlib.suppress(OSError):
                _lock_of(self._file).unlink(missing_ok=True)
            self._lock.close()
            self._lock = None


def _lock_of(kept_in: Path) -> Path:
    return kept_in.with_suffix(".lock")


def left_behind() -> list[Unsaved]:
    """Edits of desks that no longer run, latest first."""
    unsaved = []
    with contextlib.suppress(OSError):
        for file in sorted(recovery_folder().glob("*.json"), key=lambda f: f.stat().st_mtime, reverse=True):
            if not _is_held(file):
                with contextlib.suppress(OSError, ValueError, KeyError, TypeError):
                    data = json.loads(file.read_text(encoding="utf-8"))
                    path = None if data["path"] is None else Path(data["path"])
                    kept_at_s = file.stat().st_mtime
                    base = str(data.get("base", ""))
                    unsaved.append(Unsaved(file, path, str(data["name"]), str(data["text"]), kept_at_s, base))
    return unsaved


def _is_held(kept_in: Path) -> bool:
    """Whether the desk that keeps this still runs."""
    try:
        with _lock_of(kept_in).open(encoding="utf-8") as lock:
            fcntl.flock(lock, fcntl.LOCK_SH | fcntl.LOCK_NB)
    except FileNotFoundError:
        return False
    except OSError:
        return True
    return False
