"""Memory that was freed stays with the process: the columns of a run, and what is worked out of them, are taken anew at
every edit, and to give them back to the system and ask for them again costs as much as the judging."""

from __future__ import annotations

import ctypes
import os

TRIM_THRESHOLD, MMAP_THRESHOLD = -1, -3
"""What mallopt calls them. Source: malloc.h of the GNU C library."""
MOST_KEPT_BYTES, LARGEST_BYTES = 64 * 2**20, 16 * 2**20
"""So much freed memory stays at most; a single array that is larger goes back at once."""


def keep_freed_memory() -> bool:
    """Have the C library keep it; False where it knows no such thing, or the user has set it by its own variables."""
    if any(name.startswith("MALLOC_") for name in os.environ):
        return False
    try:
        mallopt = ctypes.CDLL(None).mallopt
    except (OSError, AttributeError):
        return False
    return bool(mallopt(TRIM_THRESHOLD, MOST_KEPT_BYTES)) and bool(mallopt(MMAP_THRESHOLD, LARGEST_BYTES))
