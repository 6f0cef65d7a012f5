"""A board in the loop, for `calor run --with PORT`: which names are ports."""

from __future__ import annotations

from pathlib import Path


def is_port(name: str) -> bool:
    """Whether what is to decide is a serial port."""
    return name.startswith("/dev/") or (bool(name) and Path(name).is_char_device())
