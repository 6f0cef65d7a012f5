"""The compiled loop in this process: found, built or done without, and its entries called."""

from __future__ import annotations

import ctypes
import os
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from calor import caches
from calor.compiled.entries import FINDERS
from calor.compiled.freed_memory import keep_freed_memory
from calor.errors import CalorError

if TYPE_CHECKING:
    from calor.compiled.annotations import Annotations
    from calor.compiled.build import Built
    from calor.compiled.compiler import Compiler
    from calor.compiled.entries import Entry

UNCOMPILED = "python"
"""What the variable CALOR_KERNEL is set to for a run of the steps as they are."""


class Kernel:
    """How entries are called: `how` is "shipped", "kept", "built" or "uncompiled"; `said` are lines for the user."""

    def __init__(self, how: str, said: tuple[str, ...], library: ctypes.CDLL | None = None) -> None:
        from calor.compiled.annotations import Annotations

        self.how, self.said, self.took_s = how, said, 0.0
        self._library, self._annotations = library, Annotations()

    def callable_of(self, entry: Entry[..., Any]) -> Callable[..., Any]:
        """A Python function that runs an entry."""
        if self._library is None:
            return uncompiled(entry)
        return call_of(self._library, self._annotations, entry)

    def address(self, name: str) -> Any:
        """The address of a function of the runtime. Raises CalorError where nothing is compiled."""
        if self._library is None:
            raise CalorError("", "a compiled loop is needed", "", " ".join(self.said))
        return ctypes.cast(self._library[name], ctypes.c_void_p)


def uncompiled(entry: Entry[..., Any]) -> Callable[..., Any]:
    """An entry as plain Python, for where nothing can be compiled."""

    def call(*args: Any, **kwargs: Any) -> Any:
        import numpy as np

        try:
            with np.errstate(all="ignore"):
                return entry.python(*args, **kwargs)
        except (ArithmeticError, ValueError) as error:
            from calor.compiled.compiler import INSTALL

            # compiled, a division by zero is an infinity and goes on
            raise CalorError(
                "", f"uncompiled, this cannot be computed ({error})", "", f"with a C compiler it can: {INSTALL}"
            ) from None

    return call


def call_of(library: ctypes.CDLL, annotations: Annotations, entry: Entry[..., Any]) -> Callable[..., Any]:
    """A Python function that calls the C of an entry."""
    from calor.compiled.kinds import NOTHING, REAL, TRUTH, WHOLE, Kind, Number
    from calor.compiled.layout import Layout

    kinds = annotations.hints(entry.python)
    result = kinds.pop("return")
    plain: dict[Kind, Any] = {REAL: ctypes.c_double, WHOLE: ctypes.c_int64, TRUTH: ctypes.c_bool, NOTHING: None}
    function = library[f"calor_{entry.name}"]
    function.argtypes = [plain.get(kind, ctypes.c_char_p) for kind in kinds.values()]
    function.restype = plain[result]
    names = tuple(kinds)
    layouts: list[Any] = [None if isinstance(kind, Number) else Layout(kind) for kind in kinds.values()]

    def call(*args: Any, **kwargs: Any) -> Any:
        if kwargs:
            args = (*args, *(kwargs[name] for name in names[len(args) :]))
        passed = [value if lay is None else lay(value) for lay, value in zip(layouts, args, strict=True)]
        return function(*passed)

    return call


_LOCK = threading.Lock()
_KERNEL: list[Kernel] = []
_ELSEWHERE: set[int] = set()
_LISTENERS: list[Callable[[str], None]] = []
COMPILING = "compiling the loop for this machine, once; some seconds"


def built_elsewhere() -> None:
    """Say that this thread, which a window's is, never waits for a compiler: until another has prepared the loop, the
    entries it calls run uncompiled."""
    _ELSEWHERE.add(threading.get_ident())


def kernel() -> Kernel:
    """The compiled loop, prepared where it is not yet."""
    return _KERNEL[0] if _KERNEL else prepare()


def waits() -> bool:
    """Whether this thread is one that does not wait for a compiler, and there is nothing compiled yet."""
    return not _KERNEL and threading.get_ident() in _ELSEWHERE


def _find(entry: Entry[..., Any]) -> tuple[Callable[..., Any], bool]:
    """What carries an entry out, and whether it is for good."""
    return (uncompiled(entry), False) if waits() else (kernel().callable_of(entry), True)


FINDERS.append(_find)


def listen(hear: Callable[[str], None] | None) -> None:
    """Have all that is said of the loop told: that a compiler is called, and whatever was wrong; None: no longer."""
    _LISTENERS[:] = [] if hear is None else [hear]


def prepare() -> Kernel:
    """Find or build the compiled loop, once for this process."""
    with _LOCK:
        if not _KERNEL:
            began_s = time.perf_counter()
            keep_freed_memory()
            made = _made()
            made.took_s = time.perf_counter() - began_s
            _KERNEL.append(made)
            for line in made.said:
                _tell(line)
        return _KERNEL[0]


def _tell(line: str) -> None:
    for hear in _LISTENERS:
        hear(line)


def cache_folder() -> Path:
    """Where the user's compiled loops are kept."""
    return caches.cache_folder("loop")


def _made() -> Kernel:
    from calor.compiled import build
    from calor.compiled.compiler import INSTALL, compilers

    if os.environ.get("CALOR_KERNEL") == UNCOMPILED:
        return Kernel("uncompiled", ("the loop runs uncompiled, as CALOR_KERNEL=python asks; some 100 times slower",))
    key, there, folder, said = build.sources_key(), compilers(), cache_folder(), list[str]()
    for how, place, compiler in (("shipped", build.SHIPPED, None), ("kept", folder, there[0] if there else None)):
        found, damaged = build.find(place, key, compiler)
        said += damaged
        loaded = _loaded(found, said)
        if loaded is not None:
            return Kernel(how, tuple(said), loaded)
    for compiler in there:
        _tell(COMPILING)
        built = _built(folder, key, compiler, said)
        if built is not None:
            return Kernel("built", tuple(said), built)
    said.append(f"no C compiler makes the loop: it runs uncompiled, some 100 times slower; {INSTALL}")
    return Kernel("uncompiled", tuple(said))


def _built(folder: Path, key: str, compiler: Compiler, said: list[str]) -> ctypes.CDLL | None:
    from calor.compiled import build

    try:
        try:
            with build.alone(folder):
                found, damaged = build.find(folder, key, compiler)
                said += damaged
                return _loaded(found or build.build(folder, key, compiler), said)
        except OSError as error:
            said.append(
                f"{folder}: cannot be written ({error.strerror or error}); the loop is compiled at every start: make"
                " it writable, or set XDG_CACHE_HOME"
            )
            with tempfile.TemporaryDirectory(prefix="calor-") as place:
                return _loaded(build.build(Path(place), key, compiler), said)
    except (build.BuildError, OSError) as error:
        said.append(f"the compiler failed: {error}")
        return None
    except CalorError as error:
        said.append(f"the loop cannot be translated: {error}")
        return None


def _loaded(built: Built | None, said: list[str]) -> ctypes.CDLL | None:
    """A library taken into the process; None, and why, where the machine refuses it. Then it is not met again."""
    if built is None:
        return None
    try:
        return ctypes.CDLL(str(built.path))
    except OSError as error:
        from calor.compiled.build import SHIPPED, set_aside

        said.append(f"{built.path}: cannot be loaded ({error})")
        if built.path.parent != SHIPPED:
            said.append(set_aside(built.path))
        return None
