"""Templates as they were compiled, kept with the user's caches: compiling them is most of what a first C takes."""

from __future__ import annotations

import contextlib

import platformdirs
from jinja2 import FileSystemBytecodeCache
from jinja2.bccache import Bucket


class KeptTemplates(FileSystemBytecodeCache):
    """Each by its name and the sum of its text. A folder that cannot be read or written keeps nothing."""

    def __init__(self) -> None:
        folder = platformdirs.user_cache_path("calor") / "templates"
        with contextlib.suppress(OSError):
            folder.mkdir(parents=True, exist_ok=True)
        super().__init__(str(folder), "%s.compiled")

    def load_bytecode(self, bucket: Bucket) -> None:
        """What was kept of a template, where it is whole and of the same text."""
        with contextlib.suppress(OSError):
            super().load_bytecode(bucket)

    def dump_bytecode(self, bucket: Bucket) -> None:
        """Keep a template."""
        with contextlib.suppress(OSError):
            super().dump_bytecode(bucket)
