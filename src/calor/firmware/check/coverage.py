"""Which branches of a design's C its check went through, by gcov where there is the compiler that it belongs to."""

from __future__ import annotations

import gzip
import json
import shutil
import subprocess
import tempfile
from pathlib import Path
from typing import Any, NamedTuple

import numpy.typing as npt

from calor.design.model import Design
from calor.errors import FirmwareError
from calor.firmware.run import host
from calor.firmware.sources.form import PLAIN, Form
from calor.firmware.sources.generate import generate
from calor.firmware.sources.outward import concerns


class Never(NamedTuple):
    """A line that never ran, or of which a branch was never taken."""

    file: str
    line: int
    text: str


class Coverage(NamedTuple):
    """How many branches of the generated files there are, how many were taken, and the lines of the others."""

    branches: int
    taken: int
    never: tuple[Never, ...]


def available() -> bool:
    """Whether the machine's own compiler is gcc, and gcov beside it."""
    if shutil.which("gcov") is None or shutil.which("gcc") is None:
        return False
    said = subprocess.run(["gcov", "--help"], capture_output=True, text=True, check=False)
    return "--json-format" in said.stdout


def measured(design: Design, given: list[npt.NDArray[Any]], form: Form = PLAIN) -> Coverage:
    """The branches that the inputs (rows as the adapter takes them, a run each) go through.

    Raises FirmwareError where the C does not build, or ends before its time.
    """
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        host.written(design, folder, form)
        names = [*generate(design, form=form).built, "runner.c"]
        command = ["gcc", "-std=c99", "-ffp-contract=off", "-O0", "--coverage", "-w", *names, "-o", "runner"]
        _done(command, folder, b"")
        for inputs in given:
            _done([str(folder / "runner")], folder, inputs.tobytes())
        _done(
            ["gcov", "--json-format", "--branch-probabilities", *(str(p) for p in folder.glob("*.gcda"))], folder, b""
        )
        # what is beside the thermostat is asked of by its line, not by these inputs
        beside = tuple(f"_{concern}.c" for concern in concerns(form))
        files: dict[str, dict[int, list[int]]] = {}
        for path in folder.glob("*.gcov.json.gz"):
            for part in json.loads(gzip.decompress(path.read_bytes()))["files"]:
                if part["file"] in names[:-1] and not part["file"].endswith(beside or ("\0",)):
                    _add(files.setdefault(part["file"], {}), part["lines"])
        never, branches, taken = [], 0, 0
        for file, lines in sorted(files.items()):
            text, never_ran = (folder / file).read_text().splitlines(), False
            for number, counts in sorted(lines.items()):
                branches += len(counts) - 1
                taken += sum(count > 0 for count in counts[1:])
                if (not counts[0] and not never_ran) or (counts[0] and not all(counts[1:])):
                    # of lines one after the other that never ran the first stands for all
                    never.append(Never(file, number, text[number - 1].strip()))
                never_ran = not counts[0]
    return Coverage(branches, taken, tuple(never))


def _add(lines: dict[int, list[int]], found: list[dict[str, Any]]) -> None:
    """Add what a file says of its lines: how often each ran, and each of its branches."""
    for line in found:
        counts = [line["count"], *(branch["count"] for branch in line["branches"] if not branch["throw"])]
        before = lines.get(line["line_number"])
        if before is None or len(before) != len(counts):
            lines[line["line_number"]] = counts
        else:
            lines[line["line_number"]] = [one + other for one, other in zip(before, counts, strict=True)]


def _done(command: list[str], folder: Path, given: bytes) -> None:
    done = subprocess.run(command, cwd=folder, input=given, capture_output=True, check=False, timeout=host.LONGEST_S)
    if done.returncode:
        said = done.stderr.decode(errors="replace").strip().splitlines()
        raise FirmwareError("", f"{command[0]} ended with code {done.returncode}: {said[0] if said else 'no message'}")
