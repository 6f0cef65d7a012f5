"""Templates of C filled in: names, literals, and the files that come of it."""

from __future__ import annotations

import math
import re
import unicodedata
from collections.abc import Iterable
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from calor.firmware.sources import constants
from calor.firmware.sources.form import PLAIN, Form

if TYPE_CHECKING:
    from jinja2 import Environment

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

    from calor.firmware.sources.kept_templates import KeptTemplates

    # autoescape is for web pages; these templates write C
    environment = Environment(
        loader=FunctionLoader(_template), undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True,
        keep_trailing_newline=True, autoescape=False, bytecode_cache=KeptTemplates(),
    )  # fmt: skip
    environment.filters["f"] = c_float
    environment.tests["finite"] = lambda value: bool(math.isfinite(value))
    environment.filters["rows"] = _rows
    environment.filters["kind_name"] = lambda number, names: names[number]
    environment.filters["b"] = lambda value: "true" if value else "false"
    return environment


def plain_text(name: str) -> str:
    """A name as it may stand in a comment."""
    return re.sub(r"[^\x20-\x7e]|\*/|/\*", "?", name)


def render(template: str, context: dict[str, Any]) -> str:
    """A template filled with `context`; parts that are left out leave no more than one empty line."""
    text = _environment().get_template(template).render(context)
    return re.sub(r"\n{3,}", "\n\n", text).rstrip("\n") + "\n"
