"""Steps of the loop that run as C: written once in Python, translated, built by the machine's compiler, kept on disk.

The Python is the only source and the reference. `compiled` marks a step: called from Python it is the function it
always was, on any numbers; called by another step inside an `entry` it runs as C. An `entry` is where Python goes over
into C: a whole run, or a step over the rows of a column. Its `.python` is the same function, uncompiled.

What a step may use is written down in docs/compiled-steps.md; `translate` refuses everything else by file and line.
"""

from __future__ import annotations

from calor.compiled.entries import ENTRIES, Entry, compiled, entry, entry_in_one_piece
from calor.compiled.kinds import Column, Counts, Flags, Singles, Table
from calor.compiled.library import Kernel, built_elsewhere, kernel, listen, prepare

__all__ = [
    "ENTRIES", "Column", "Counts", "Entry", "Flags", "Kernel", "Singles", "Table", "built_elsewhere", "compiled",
    "entry", "entry_in_one_piece", "kernel", "listen", "prepare",
]  # fmt: skip
