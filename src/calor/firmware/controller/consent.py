"""Consent to run code that a design file names: given once by the user, and remembered by the code's content.

A design may come from somebody else, and its law may be a program. It runs only when exactly this content has been
allowed on this machine; a changed file is asked about again. What the user writes in Calor is allowed as it is saved.
"""

from __future__ import annotations

import hashlib
import json
from pathlib import Path

import platformdirs

from calor.design.file import save_atomically
from calor.errors import ConsentError, FirmwareError, unreadable

MOST_KEPT = 2000


def _kept() -> Path:
    return platformdirs.user_state_path("calor") / "allowed-code.json"


def _hash(path: Path) -> str:
    try:
        return hashlib.sha256(path.read_bytes()).hexdigest()
    except OSError as error:
        raise unreadable(FirmwareError, path, error, "your own controller code, in C (.c) or Python (.py)") from None


def _known() -> list[str]:
    try:
        known = json.loads(_kept().read_text())
    except (OSError, ValueError):
        return []
    return [str(item) for item in known] if isinstance(known, list) else []


def is_allowed(path: Path) -> bool:
    """Whether the content of a file has been allowed. Raises FirmwareError where it cannot be read."""
    return _hash(path) in _known()


def allow(path: Path) -> None:
    """Allow the content a file has now. Raises FirmwareError where it cannot be read, or this cannot be kept."""
    known = _known()
    content = _hash(path)
    if content in known:
        return
    try:
        _kept().parent.mkdir(parents=True, exist_ok=True)
        save_atomically(_kept(), json.dumps([*known, content][-MOST_KEPT:], indent=0))
    except OSError as error:
        raise FirmwareError(_kept(), f"cannot be written ({error.strerror or error})", "", "make it writable") from None


def check(path: Path) -> None:
    """Raises FirmwareError where the content of a file has not been allowed."""
    if not is_allowed(path):
        raise ConsentError(
            path,
            "is code that the design names, and it has not been allowed on this machine",
            "",
            "read it, then allow it",
        )
