"""C99 sources of a design: float only, no heap, no globals that change, settings in one const struct.

Each block has a template beside the others; it says in C what the block's Python step says, line by line.
"""

from __future__ import annotations

import re
import unicodedata
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

from jinja2 import Environment, PackageLoader, StrictUndefined

from calor.design.file import save_atomically
from calor.design.model import Design
from calor.drive import registry as drives
from calor.errors import FirmwareError
from calor.law import registry as laws
from calor.sense import registry as probes

SMALLEST_FLOAT = 1.1754944e-38
"""FLT_MIN of IEEE 754 binary32."""


@dataclass(frozen=True)
class Sources:
    """The generated files by name, and the prefix of every name in them."""

    prefix: str
    files: dict[str, str]

    @property
    def header(self) -> str:
        """Name of the header."""
        return f"{self.prefix}_thermostat.h"

    @property
    def source(self) -> str:
        """Name of the C file."""
        return f"{self.prefix}_thermostat.c"


def c_name(name: str) -> str:
    """A design's name as a C identifier in lower case."""
    plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode().lower()
    word = re.sub(r"[^a-z0-9]+", "_", plain).strip("_")[:40].strip("_")
    if not word:
        return "design"
    return f"design_{word}" if word[0].isdigit() else word


def c_float(value: float) -> str:
    """A float literal in C that reads back to the nearest float; what is too small for a float is 0."""
    text = f"{float(value) if abs(value) >= SMALLEST_FLOAT else 0.0:.9g}"
    return (text if any(sign in text for sign in ".e") else text + ".0") + "f"


@cache
def _environment() -> Environment:
    # autoescape is for web pages; these templates write C
    environment = Environment(
        loader=PackageLoader("calor.firmware"), undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True,
        keep_trailing_newline=True, autoescape=False,
    )  # fmt: skip
    environment.filters["f"] = c_float
    environment.filters["b"] = lambda value: "true" if value else "false"
    return environment


def tick_s(design: Design) -> float:
    """The pace at which the generated switch is meant to be called: half-cycles, or a fine share of the step."""
    drive = design.drive
    half_cycle_s = drives.numbers(drive).time_proportional.half_cycle_s if drive.kind == "time_proportional" else 0.0
    if (
        half_cycle_s > 0.0
        and abs(design.law.period_s / half_cycle_s - round(design.law.period_s / half_cycle_s)) < 1e-6
    ):
        return half_cycle_s
    return float(design.law.period_s) / max(1, round(design.law.period_s / 0.01))


def generate(design: Design) -> Sources:
    """The C99 sources of `design`: one header and one C file."""
    prefix = c_name(design.name)
    context: dict[str, Any] = {
        "prefix": prefix,
        "guard_word": f"{prefix.upper()}_THERMOSTAT_H",
        "design_name": re.sub(r"[^\x20-\x7e]|\*/|/\*", "?", design.name),
        "design": design,
        "law": laws.numbers(design.law, design.guard),
        "drive": drives.numbers(design.drive),
        "probe": probes.numbers(design.probe),
        "tick_s": tick_s(design),
        "reads_counts": design.probe.kind != "ideal",
        "switches": design.drive.kind != "linear",
    }
    sources = Sources(prefix, {})
    for name, template in ((sources.header, "thermostat.h.j2"), (sources.source, "thermostat.c.j2")):
        sources.files[name] = _environment().get_template(template).render(context)
    return sources


def write(design: Design, folder: Path) -> list[Path]:
    """Write the sources of `design` into `folder`, made where it is missing. Raises FirmwareError."""
    written = []
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for name, text in generate(design).files.items():
            save_atomically(folder / name, text)
            written.append(folder / name)
    except OSError as error:
        raise FirmwareError(
            f"{folder}: cannot be written ({error.strerror or error}); choose a folder you may write to"
        ) from None
    return written
