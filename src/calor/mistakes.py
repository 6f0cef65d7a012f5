"""Mistakes of Calor's own: said in a line without an exception's name; the details go to a file."""

from __future__ import annotations

import contextlib
import os
import traceback
from pathlib import Path

from calor.errors import CalorError


def details_file() -> Path:
    """Where the details of mistakes are kept, the newest last."""
    import platformdirs

    return Path(platformdirs.user_state_dir("calor")) / "trouble.log"


def in_words(error: BaseException) -> str:
    """What went wrong, in a line for whoever uses Calor."""
    if isinstance(error, CalorError):
        return str(error)
    if isinstance(error, MemoryError):
        return "there is not enough memory for it"
    if isinstance(error, OSError) and error.strerror:
        return f"{error.filename}: {error.strerror}" if error.filename else str(error.strerror)
    place = details_file()
    with contextlib.suppress(OSError):
        place.parent.mkdir(parents=True, exist_ok=True)
        handle = os.open(place, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
        with os.fdopen(handle, "a", encoding="utf-8") as stream:
            stream.writelines(traceback.format_exception(error))
        return f"Calor made a mistake; details: {place}"
    return "Calor made a mistake"
