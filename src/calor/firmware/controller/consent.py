"""Consent to run code that others may have written: given once by the user, and remembered by the code's content.

A design may come from somebody else, and its law may be a program. It runs only when exactly this content has been
allowed on this machine; a changed file is asked about again. What the user writes in Calor is allowed as it is saved.
What is allowed is the text in hand, not what its file holds by then.
"""

from __future__ import annotations

import json
from pathlib import Path

import platformdirs

from calor.caches import own_file
from calor.errors import ConsentError, FirmwareError
from calor.files import save_atomically
from calor.firmware.controller.own_source import OwnSource

MOST_KEPT = 2000


def _kept() -> Path:
    return own_file(platformdirs.user_state_path("calor") / "allowed-code.json")


def _known() -> list[str]:
    try:
        known = json.loads(_kept().read_text())
    except (OSError, ValueError):
        return []
    return [str(item) for item in known] if isinstance(known, list) else []


def is_allowed(source: OwnSource) -> bool:
    """Whether a content has been allowed."""
    return source.digest in _known()


def allow(source: OwnSource) -> None:
    """Allow this content. Raises FirmwareError where this cannot be kept."""
    known = _known()
    if source.digest in known:
        return
    try:
        _kept().parent.mkdir(parents=True, exist_ok=True)
        save_atomically(_kept(), json.dumps([*known, source.digest][-MOST_KEPT:], indent=0))
    except OSError as error:
        raise FirmwareError(_kept(), f"cannot be written ({error.strerror or error})", "", "make it writable") from None


def check(source: OwnSource) -> None:
    """Raises ConsentError where a content has not been allowed."""
    if not is_allowed(source):
        raise ConsentError(
            source.path,
            "is code, and what it holds now has not been allowed on this machine",
            "",
            "read it, then allow it",
        )
