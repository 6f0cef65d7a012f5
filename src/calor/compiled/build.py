"""The compiled loop on disk: looked for by the content of all it is made from, and built where it is not there.

Two files belong together: a note named after the sources, the compiler and the options, and the library it speaks of,
named after its C. So an edit of a comment, or of a block that is not compiled, finds the library that is there.
"""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import importlib
import json
import os
import platform
import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any, NamedTuple

from calor.compiled.compiler import Compiler, environment
from calor.compiled.entries import ENTRIES, Entry

PACKAGE = Path(__file__).parent.parent
SHIPPED = Path(__file__).parent / "shipped"
"""Where a wheel has the library that was built with it."""
FOLDERS = ("compiled", "design", "drive", "law", "load", "loop", "sense")
"""The folders that steps, and the numbers they use, come from."""
OPTIONS = (
    # more costs twice the time to build for 3 % of speed: what counts is that the hot entries are in one piece
    "-O1", "-std=gnu11", "-shared", "-fPIC", "-fvisibility=hidden", "-ffp-contract=off", "-fno-math-errno",
    # what lies in registers is put aside around a call of the maths library: 4 % of speed, for no time; a compiler that
    # knows no such option does without, and is quiet about it
    "-fcaller-saves", "-Wno-ignored-optimization-argument",
    # a step goes through its inner loops once, so that what these would save later is not set up first; a choice of two
    # numbers is no branch, as nobody asks which of them had been out of range: 4 % together
    "-fno-ivopts", "-fno-trapping-math", "-ftree-vrp",
    # what the maths library answers is left to it, so that Python, which asks it too, has the same
    "-fno-builtin-exp", "-fno-builtin-expm1", "-fno-builtin-log", "-fno-builtin-pow", "-fno-builtin-sin",
    "-fno-builtin-cos",
)  # fmt: skip
KEPT = 8
"""So many libraries stay in the user's caches: those of other versions, environments and compilers."""


class BuildError(Exception):
    """A compiler did not make the library; the text is what it said first."""


def sources() -> list[Path]:
    """All files that the library may be made from."""
    files = [file for folder in FOLDERS for file in (PACKAGE / folder).rglob("*") if file.suffix in (".py", ".c")]
    return sorted([*files, *PACKAGE.glob("*.py")])


def sources_key() -> str:
    """Names the content of all sources, the options and the kind of machine."""
    digest = hashlib.sha256("\0".join((platform.machine(), *OPTIONS)).encode())
    for file in sources():
        digest.update(f"\0{file.relative_to(PACKAGE)}\0".encode() + file.read_bytes())
    return digest.hexdigest()[:20]


def c_text() -> str:
    """All entries and what they call, as one C file. Raises TranslationError for what is outside the subset."""
    for folder in FOLDERS:
        for file in sorted((PACKAGE / folder).glob("*.py")):
            if "@entry" in file.read_text(encoding="utf-8"):
                importlib.import_module(f"{PACKAGE.name}.{folder}.{file.stem}")
    every = list(ENTRIES.values())  # other threads may be importing more
    return translated([entry for entry in every if entry.python.__module__.startswith(f"{PACKAGE.name}.")])


def translated(entries: list[Entry[..., Any]]) -> str:
    """Entries and what they call, as one C file. Raises TranslationError for what is outside the subset."""
    from calor.compiled.unit import Unit

    unit = Unit()
    for entry in sorted(entries, key=lambda one: one.name):
        unit.export(entry)
    return unit.text()


def compile_c(source: Path, library: Path, compiler: Compiler, options: tuple[str, ...] = ()) -> None:
    """Make a library of a C file. Raises BuildError with what the compiler said first."""
    command = [*compiler.command, *OPTIONS, *options, "-o", str(library), str(source), "-lm"]
    try:
        result = subprocess.run(command, capture_output=True, text=True, check=False, env=environment())
    except OSError as error:
        raise BuildError(f"{compiler.command[0]}: {error.strerror}") from None
    if result.returncode != 0 or not library.is_file():
        said = (result.stderr or result.stdout).strip().splitlines()
        wrong = next((line for line in said if "error" in line), said[0] if said else "no message")
        raise BuildError(f"{compiler.command[0]}: {wrong}")


class Built(NamedTuple):
    """A library on disk, and the sum its content must have."""

    path: Path
    sha256: str


def _note(folder: Path, key: str, compiler: Compiler | None) -> Path | None:
    """The note about the library of some sources: of that compiler, or of any where none is named."""
    if compiler is not None:
        path = folder / f"{key}-{_short(compiler.identity)}.json"
        return path if path.is_file() else None
    return next(iter(sorted(folder.glob(f"{key}-*.json"))), None)


def _short(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()[:12]


def find(folder: Path, key: str, compiler: Compiler | None) -> tuple[Built | None, list[str]]:
    """(the library of some sources in a folder, None where there is none; what was damaged and set aside)."""
    note = _note(folder, key, compiler)
    if note is None:
        return None, []
    try:
        facts = json.loads(note.read_text(encoding="utf-8"))
        built = Built(folder / facts["library"], facts["sha256"])
        whole = hashlib.sha256(built.path.read_bytes()).hexdigest() == built.sha256
    except (OSError, ValueError, KeyError, TypeError):
        whole, built = False, Built(note, "")
    if whole:
        with contextlib.suppress(OSError):
            os.utime(built.path)
        return built, []
    return None, [set_aside(note), *([set_aside(built.path)] if built.path != note else [])]


def set_aside(path: Path) -> str:
    """Rename a damaged file so that it is not met again; what is said of it."""
    aside = path.with_name(f"{path.name}.damaged")
    try:
        path.replace(aside)
    except FileNotFoundError:
        return f"{path}: missing from the compiled loop; it is built again"
    except OSError as error:
        return f"{path}: damaged, and cannot be set aside ({error.strerror}); remove it"
    return f"{path}: damaged; set aside as {aside.name}, and the loop is compiled again"


@contextlib.contextmanager
def alone(folder: Path) -> Iterator[None]:
    """Wait until no other process builds in a folder. Raises OSError where the folder cannot be written."""
    folder.mkdir(parents=True, exist_ok=True)
    with (folder / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        yield


def build(folder: Path, key: str, compiler: Compiler, options: tuple[str, ...] = ()) -> Built:
    """Translate and compile into a folder. Raises BuildError, TranslationError, and OSError where it cannot write."""
    text = c_text()
    name = f"kernel-{_short(text + repr((compiler.identity, OPTIONS, options)))}"
    library = folder / f"{name}.so"
    if not library.is_file():
        with tempfile.TemporaryDirectory(dir=folder) as place:
            source, fresh = Path(place) / f"{name}.c", Path(place) / library.name
            source.write_text(text, encoding="utf-8")
            compile_c(source, fresh, compiler, options)
            source.replace(folder / source.name)
            fresh.replace(library)
    built = Built(library, hashlib.sha256(library.read_bytes()).hexdigest())
    facts = {"library": library.name, "sha256": built.sha256, "compiler": compiler.identity, "options": OPTIONS}
    note = folder / f"{key}-{_short(compiler.identity)}.json"
    with tempfile.NamedTemporaryFile("w", dir=folder, delete=False, encoding="utf-8") as fresh_note:
        json.dump(facts, fresh_note)
    Path(fresh_note.name).replace(note)
    _forget_old(folder)
    return built


def _forget_old(folder: Path) -> None:
    """Remove the libraries that have not been used for longest, with their sources and notes."""
    with contextlib.suppress(OSError):
        libraries = sorted(folder.glob("kernel-*.so"), key=lambda path: path.stat().st_mtime, reverse=True)
        for library in libraries[KEPT:]:
            library.unlink()
            library.with_suffix(".c").unlink(missing_ok=True)
        names = {library.name for library in libraries[:KEPT]}
        for note in folder.glob("*.json"):
            if not any(name in note.read_text(encoding="utf-8") for name in names):
                note.unlink()
