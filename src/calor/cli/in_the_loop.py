"""A board in the loop, for `calor run --with PORT`: which names are ports."""

from __future__ import annotations

from pathlib import Path


def is_port(name: str) -> bool:
    """Whether what is to decide is a serial port: also one that is not plugged in, and no file that lies in memory
    (/dev/shm)."""
    if not name or Path(name).is_file():
        return False
    return name.startswith("/dev/") or Path(name).is_char_device()
