"""What is wrong with a law of the user's own, at file, line and column, before it is run."""

from __future__ import annotations

import ast
import importlib.util
import re
import sys
import tempfile
from pathlib import Path
from typing import NamedTuple

from calor.errors import FirmwareError
from calor.firmware.controller.own_build import compiled
from calor.firmware.controller.own_code import HEADER
from calor.firmware.controller.own_source import taken_in
from calor.warned import warnings_as

_LINE = re.compile(
    r"^(?P<file>[^:\n]+):(?P<line>\d+):(?:(?P<column>\d+):)? (?:fatal )?(?P<kind>error|warning): (?P<text>.*)$"
)


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
    refused = taken_in(text)
    if refused:  # before any compiler sees it
        return [Diagnostic(item.line, 1, True, item.rule) for item in refused]
    with tempfile.TemporaryDirectory() as place:
        folder, file_name = Path(place).resolve(), Path(name).name
        (folder / "calor_law.h").write_text(HEADER)
        (folder / file_name).write_text(text, encoding="utf-8", errors="replace")
        try:
            result = compiled(text, ["-Wall", "-Wextra", "-fsyntax-only", f"./{file_name}"], folder)
        except FirmwareError as error:
            if error.remedy:  # there is no compiler
                raise
            return [Diagnostic(1, 1, True, str(error))]
    diagnostics = []
    for line in result.said.splitlines():
        match = _LINE.match(line)
        if match is not None:
            at = int(match["line"]) if Path(match["file"]).name == file_name else 1
            diagnostics.append(Diagnostic(at, int(match["column"] or 1), match["kind"] == "error", match["text"]))
    if not result.is_whole and not any(item.is_error for item in diagnostics):
        diagnostics.append(Diagnostic(1, 1, True, (result.said.strip().splitlines() or ["it does not build"])[0]))
    if not diagnostics and not re.search(r"\bvoid\s+calor_law\s*\([^;{]*\)\s*\{", text):
        diagnostics.append(
            Diagnostic(1, 1, True, "defines no function void calor_law(in, out), which is what is called")
        )
    return diagnostics


def _of_python(text: str) -> list[Diagnostic]:
    try:
        with warnings_as("always") as warned:
            tree = ast.parse(text)
            compile(tree, "law", "exec")
    except SyntaxError as error:
        return [Diagnostic(error.lineno or 1, error.offset or 1, True, error.msg)]
    except (ValueError, RecursionError, MemoryError) as error:  # a null character in the text; nested too deeply
        return [Diagnostic(1, 1, True, str(error) or "is nested too deeply")]
    diagnostics = [Diagnostic(item.lineno or 1, 1, False, str(item.message)) for item in warned]
    diagnostics += _strangers(tree)
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


def _strangers(tree: ast.Module) -> list[Diagnostic]:
    """Imports that will not be found: what lies beside the file is not looked at."""
    strangers = []
    tries = (node for node in ast.walk(tree) if isinstance(node, ast.Try))
    may_fail = {id(inner) for node in tries for line in node.body for inner in ast.walk(line)}
    for node in ast.walk(tree):
        if id(node) in may_fail:
            continue
        if not isinstance(node, ast.Import | ast.ImportFrom):
            continue
        names = [alias.name for alias in node.names]
        if isinstance(node, ast.ImportFrom):
            names = [node.module or ""] if not node.level else ["."]
        for name in names:
            root = name.split(".")[0]
            if root not in sys.stdlib_module_names and (not root or not _is_installed(root)):
                rule = f"import {name}: controller code is one file; it imports the standard library and packages"
                strangers.append(Diagnostic(node.lineno, node.col_offset + 1, True, rule))
    return strangers


def _is_installed(root: str) -> bool:
    try:
        return importlib.util.find_spec(root) is not None
    except (ImportError, ValueError):
        return False
