"""Where the desk keeps what it remembers: settings, recent designs, edits not yet saved."""

from __future__ import annotations

import contextlib
import json
import os
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import platformdirs

from calor.design.file import save_atomically

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
    """An edit that a killed desk left behind."""

    kept_in: Path
    path: Path | None
    name: str
    text: str


class Keeper:
    """Keeps the open design's unsaved text on disk, under this process's number."""

    def __init__(self) -> None:
        self._file = recovery_folder() / f"{os.getpid()}.json"

    def keep(self, path: Path | None, name: str, text: str) -> None:
        """Keep `text` until it is saved or dropped."""
        with contextlib.suppress(OSError):
            self._file.parent.mkdir(parents=True, exist_ok=True)
            data = {"path": None if path is None else str(path), "name": name, "text": text}
            save_atomically(self._file, json.dumps(data))

    def drop(self) -> None:
        """Nothing is unsaved any more."""
        with contextlib.suppress(OSError):
            self._file.unlink(missing_ok=True)


def left_behind() -> list[Unsaved]:
    """Edits of desks that no longer run, latest first."""
    unsaved = []
    with contextlib.suppress(OSError):
        for file in sorted(recovery_folder().glob("*.json"), key=lambda f: f.stat().st_mtime, reverse=True):
            if file.stem.isdigit() and int(file.stem) != os.getpid() and not _runs(int(file.stem)):
                with contextlib.suppress(OSError, ValueError, KeyError, TypeError):
                    data = json.loads(file.read_text(encoding="utf-8"))
                    path = None if data["path"] is None else Path(data["path"])
                    unsaved.append(Unsaved(file, path, str(data["name"]), str(data["text"])))
    return unsaved


def _runs(process: int) -> bool:
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    # a number may have been given to another program since
    with contextlib.suppress(OSError):
        return b"calor" in Path(f"/proc/{process}/cmdline").read_bytes()
    return True
