"""Templates of C filled in: names, literals, and the files that come of it."""

from __future__ import annotations

import hashlib
import json
import math
import os
import re
import unicodedata
from collections.abc import Iterable
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from calor.errors import FirmwareError, StrangersError, unwritable
from calor.files import save_atomically
from calor.firmware.sources import constants
from calor.firmware.sources.form import PLAIN, Form

if TYPE_CHECKING:
    from jinja2 import Environment

WRITTEN = ".calor-written.json"
"""In a folder of C: the names of what Calor wrote there, each with the sum of its content."""
SMALLEST_FLOAT = 1.1754944e-38
"""FLT_MIN of IEEE 754 binary32."""


@dataclass(frozen=True)
class Sources:
    """The generated files by name, which of them is the header to include, the prefix of every name."""

    prefix: str
    files: dict[str, str]
    header: str
    form: Form = PLAIN

    @property
    def built(self) -> list[str]:
        """The C files that make up the code."""
        return [name for name in self.files if name.endswith(".c")]

    def as_called(self, text: str) -> str:
        """C that calls this code as it is with settings of its own, as this code has to be called."""
        return constants.as_called(text, self.prefix) if self.form.constant else text

    def put(self, folder: Path) -> None:
        """Write the files into a folder of one's own, to be built there."""
        for name, text in self.files.items():
            (folder / name).write_text(text)


def c_name(name: str) -> str:
    """A design's name as a C identifier in lower case."""
    plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode().lower()
    word = re.sub(r"[^a-z0-9]+", "_", plain).strip("_")[:40].strip("_")
    if not word:
        return "design"
    return f"design_{word}" if word[0].isdigit() else word


def c_float(value: float) -> str:
    """The shortest float literal in C that reads back to the nearest float; what is too small for a float is 0."""
    text = str(np.float32(value if abs(value) >= SMALLEST_FLOAT else 0.0))
    return (text if any(sign in text for sign in ".e") else text + ".0") + "f"


def _rows(literals: Iterable[str], on_a_line: int, indent: int) -> str:
    """Literals with commas between them, so many on a line."""
    every = list(literals)
    lines = [", ".join(every[k : k + on_a_line]) for k in range(0, len(every), on_a_line)]
    return (",\n" + " " * indent).join(lines)


TEMPLATES = Path(__file__).parent / "templates"
_BLOCK = r"\{%% block %s %%\}\n(.*?)\{%% endblock %%\}"


def _template(name: str) -> str | None:
    """The text of a template. "law_pid.j2#state" is the block called state of law_pid.j2: what one kind of block is in
    C stands in one file, and a block that it has no use for is left out of it."""
    file, _, block = name.partition("#")
    try:
        text = (TEMPLATES / file).read_text(encoding="utf-8")
    except OSError:
        return None
    if not block:
        return text
    inside = re.search(_BLOCK % block, text, re.DOTALL)
    return inside[1] if inside else ""


@cache
def _environment() -> Environment:
    from jinja2 import Environment, FunctionLoader, StrictUndefined

    # autoescape is for web pages; these templates write C
    environment = Environment(
        loader=FunctionLoader(_template), undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True,
        keep_trailing_newline=True, autoescape=False,
    )  # fmt: skip
    environment.filters["f"] = c_float
    environment.tests["finite"] = lambda value: bool(math.isfinite(value))
    environment.filters["rows"] = _rows
    environment.filters["b"] = lambda value: "true" if value else "false"
    return environment


def plain_text(name: str) -> str:
    """A name as it may stand in a comment."""
    return re.sub(r"[^\x20-\x7e]|\*/|/\*", "?", name)


def render(template: str, context: dict[str, Any]) -> str:
    """A template filled with `context`; parts that are left out leave no more than one empty line."""
    text = _environment().get_template(template).render(context)
    return re.sub(r"\n{3,}", "\n\n", text).rstrip("\n") + "\n"


def write_files(sources: Sources, folder: Path, force: bool = False) -> list[Path]:
    """Write sources into `folder`, made where it is missing, with a list of what was written.

    Raises FirmwareError, and without `force` StrangersError where the folder holds what Calor did not write.
    """
    if not force:
        strangers = strangers_in(folder, sources.files)
        if strangers:
            raise StrangersError(folder, strangers)
    written = []
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for name, text in sources.files.items():
            (folder / name).parent.mkdir(exist_ok=True)
            save_atomically(folder / name, text)
            written.append(folder / name)
        save_atomically(folder / WRITTEN, json.dumps(_listed(folder) | _sums(sources.files), indent=1) + "\n")
    except OSError as error:
        raise unwritable(FirmwareError, folder, error) from None
    return written


def strangers_in(folder: Path, files: dict[str, str]) -> list[str]:
    """What of a folder Calor did not write, and would be written over or beside.

    In a folder that Calor has written into before, only what would be written over counts: the rest is the project
    around it. One file is as good as another that says the same.
    """
    listed = _listed(folder)
    clashing = []
    for name, text in files.items():
        try:
            there = (folder / name).read_bytes()
        except (FileNotFoundError, NotADirectoryError):
            continue
        except OSError:
            if not os.path.lexists(folder / name):
                continue  # it will not be written either, and that is said then
            there = b""
        if there != text.encode() and _sum(there) != listed.get(name):
            clashing.append(name)
    if clashing or listed:
        return clashing
    try:
        return sorted(path.name for path in folder.iterdir() if path.name not in files and not _is_ours(path, files))
    except (FileNotFoundError, NotADirectoryError):
        return []
    except OSError as error:
        raise unwritable(FirmwareError, folder, error) from None


def _is_ours(path: Path, files: dict[str, str]) -> bool:
    """Whether a folder holds nothing but files of these names."""
    if not path.is_dir():
        return False
    return all(f"{path.name}/{inner.name}" in files for inner in path.iterdir())


def _listed(folder: Path) -> dict[str, str]:
    """What was written into a folder before, by name."""
    try:
        listed = json.loads((folder / WRITTEN).read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return {}
    return listed if isinstance(listed, dict) else {}


def _sums(files: dict[str, str]) -> dict[str, str]:
    return {name: _sum(text.encode()) for name, text in files.items()}


def _sum(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()
