"""Templates as they were compiled, kept with the user's caches: compiling them is most of what a first C takes."""

from __future__ import annotations

import contextlib
import hashlib
from pathlib import Path

from jinja2 import BytecodeCache
from jinja2.bccache import Bucket

from calor.caches import cache_folder
from calor.files import save_atomically

SUM_BYTES = hashlib.sha256().digest_size


class KeptTemplates(BytecodeCache):
    """Each in a file of its own that begins with the sum of the rest: what is damaged is compiled anew. A folder that
    cannot be read or written keeps nothing.
    """

    def __init__(self) -> None:
        self._folder = cache_folder("templates")

    def load_bytecode(self, bucket: Bucket) -> None:
        """What was kept of a template, where it is whole and of the same text."""
        with contextlib.suppress(OSError):
            kept = self._place(bucket).read_bytes()
            if hashlib.sha256(kept[SUM_BYTES:]).digest() == kept[:SUM_BYTES]:
                bucket.bytecode_from_string(kept[SUM_BYTES:])

    def dump_bytecode(self, bucket: Bucket) -> None:
        """Keep a template."""
        code = bucket.bytecode_to_string()
        with contextlib.suppress(OSError):
            self._folder.mkdir(parents=True, exist_ok=True)
            save_atomically(self._place(bucket), hashlib.sha256(code).digest() + code)

    def _place(self, bucket: Bucket) -> Path:
        return self._folder / f"{bucket.key}.compiled"
