"""What is wrong with a law of the user's own, at file, line and column, before it is run."""

from __future__ import annotations

import ast
import re
import subprocess
import tempfile
import warnings
from pathlib import Path
from typing import NamedTuple

from calor.compiled.compiler import environment
from calor.firmware.controller.own_code import HEADER
from calor.firmware.run import host

_LINE = re.compile(
    r"^(?P<file>[^:\n]+):(?P<line>\d+):(?:(?P<column>\d+):)? (?:fatal )?(?P<kind>error|warning): (?P<text>.*)$"
)
LONGEST_S = 20.0
FLAGS = ("-std=c99", "-ffp-contract=off", "-Wall", "-Wextra", "-c", "-o", "law.o")


class Diagnostic(NamedTuple):
    """One thing that is wrong: line and column from 1, whether it keeps the law from running, and what it is."""

    line: int
    column: int
    is_error: bool
    text: str


def diagnose(name: str, text: str) -> list[Diagnostic]:
    """What is wrong with the text of a law in a file called `name`, in its order. Nothing of it is run.

    Raises FirmwareError where there is no C compiler.
    """
    return _of_c(name, text) if name.endswith(".c") else _of_python(text)


def _of_c(name: str, text: str) -> list[Diagnostic]:
    with tempfile.TemporaryDirectory() as place:
        folder, file_name = Path(place), Path(name).name
        (folder / "calor_law.h").write_text(HEADER)
        (folder / file_name).write_text(text)
        command = [*host.compiler(), *FLAGS, file_name]
        try:
            result = subprocess.run(
                command, capture_output=True, text=True, check=False, cwd=folder, timeout=LONGEST_S, errors="replace",
                env={**environment(), "LC_ALL": "C"},
            )  # fmt: skip
        except subprocess.TimeoutExpired:
            return [Diagnostic(1, 1, True, f"the compiler did not end within {LONGEST_S:g} s")]
    diagnostics = []
    for line in result.stderr.splitlines():
        match = _LINE.match(line)
        if match is not None:
            at = int(match["line"]) if Path(match["file"]).name == file_name else 1
            diagnostics.append(Diagnostic(at, int(match["column"] or 1), match["kind"] == "error", match["text"]))
    if result.returncode != 0 and not any(item.is_error for item in diagnostics):
        diagnostics.append(Diagnostic(1, 1, True, (result.stderr.strip().splitlines() or ["it does not build"])[0]))
    if not diagnostics and not re.search(r"\bvoid\s+calor_law\s*\([^;{]*\)\s*\{", text):
        diagnostics.append(
            Diagnostic(1, 1, True, "defines no function void calor_law(in, out), which is what is called")
        )
    return diagnostics


def _of_python(text: str) -> list[Diagnostic]:
    try:
        with warnings.catch_warnings(record=True) as warned:
            warnings.simplefilter("always")
            tree = ast.parse(text)
            compile(tree, "law", "exec")
    except SyntaxError as error:
        return [Diagnostic(error.lineno or 1, error.offset or 1, True, error.msg)]
    except ValueError as error:  # a null character in the text
        return [Diagnostic(1, 1, True, str(error))]
    diagnostics = [Diagnostic(item.lineno or 1, 1, False, str(item.message)) for item in warned]
    law = next((node for node in tree.body if isinstance(node, ast.ClassDef) and node.name == "Law"), None)
    if law is None:
        return [*diagnostics, Diagnostic(1, 1, True, "defines no class Law, which is what is run")]
    step = next((node for node in law.body if isinstance(node, ast.FunctionDef) and node.name == "step"), None)
    if step is None:
        return [*diagnostics, Diagnostic(law.lineno, 1, True, "class Law has no method step(self, reading, dt)")]
    if len(step.args.args) != 3:
        rule = f"step takes {len(step.args.args)} parameters; it is called as step(self, reading, dt)"
        diagnostics.append(Diagnostic(step.lineno, step.col_offset + 1, True, rule))
    return diagnostics
