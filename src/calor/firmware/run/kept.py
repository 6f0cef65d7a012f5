"""What a compiler made of generated C is kept, named after the content of all that it was made from.

The name covers the compiler (its place, size and time), the command, and every file in the folder that is compiled:
what is found under it is what the compiler would make again. A kept file begins with the sum of what was made, which
follows compressed.
"""

from __future__ import annotations

import contextlib
import contextvars
import hashlib
import subprocess
import tempfile
import zlib
from collections.abc import Iterator
from pathlib import Path

from calor import caches
from calor.compiled.compiler import environment, identity_of
from calor.errors import FirmwareError

_MAY_BUILD = contextvars.ContextVar("may_build", default=True)
MOST_FILES = 4000
"""So many builds are kept, some 30 kB each; beyond, only the two thirds that were used last stay. Fewer than are asked
for in turns would be of no use: each would go before it is wanted again."""
SUM_BYTES = 32


def cache_folder() -> Path:
    """Where the user's builds are kept."""
    return caches.cache_folder("builds")


class NotKeptError(FirmwareError):
    """A build that is not kept, where none was to be made."""


@contextlib.contextmanager
def only_kept() -> Iterator[None]:
    """Inside, no compiler is called: what is not kept raises NotKeptError."""
    token = _MAY_BUILD.set(False)
    try:
        yield
    finally:
        _MAY_BUILD.reset(token)


def compile_into(command: list[str], output: Path, where: str = "") -> None:
    """Run a compiler that writes `output` from the files beside it, or copy what it made of them before.

    Raises FirmwareError with its diagnostics.
    """
    key = _key(command, output)
    kept = _found(key)
    if kept is not None:
        output.write_bytes(kept)
        output.chmod(0o755)
        return
    if not _MAY_BUILD.get():
        raise NotKeptError("", f"nothing is kept{where}")
    try:
        result = subprocess.run(command, capture_output=True, text=True, check=False, env=environment())
    except OSError as error:
        raise FirmwareError("", f"{command[0]} cannot be started{where} ({error.strerror or error})") from None
    if result.returncode != 0:
        said = result.stderr.strip() or result.stdout.strip()
        raise FirmwareError("", f"the generated C does not build{where}: {said}")
    _keep(key, output)


def _key(command: list[str], output: Path) -> str:
    folder = str(output.parent)
    words = (identity_of(command), *(part.replace(folder, "@") for part in command))
    digest = hashlib.sha256("\0".join(words).encode())
    for file in sorted(output.parent.iterdir()):
        if file.is_file() and file.suffix in (".c", ".h", ".ld"):
            digest.update(f"\0{file.name}\0".encode() + file.read_bytes())
    return digest.hexdigest()[:32]


def _found(key: str) -> bytes | None:
    """What was made, where it is kept and whole."""
    path = cache_folder() / key
    try:
        whole = path.read_bytes()
    except OSError:
        return None
    with contextlib.suppress(zlib.error):
        made = zlib.decompress(whole[SUM_BYTES:])
        if hashlib.sha256(made).digest() == whole[:SUM_BYTES]:
            with contextlib.suppress(OSError):
                path.touch()
            return made
    return None


def _keep(key: str, output: Path) -> None:
    """A folder that cannot be written keeps nothing, and nothing is lost by it."""
    folder = cache_folder()
    made = output.read_bytes()
    with contextlib.suppress(OSError):
        folder.mkdir(parents=True, exist_ok=True)
        with tempfile.NamedTemporaryFile(dir=folder, delete=False) as fresh:
            fresh.write(hashlib.sha256(made).digest() + zlib.compress(made, 1))
        Path(fresh.name).replace(folder / key)
        paths = list(folder.iterdir())
        if len(paths) > MOST_FILES:
            for path in sorted(paths, key=lambda one: one.stat().st_mtime)[: -(MOST_FILES * 2 // 3)]:
                path.unlink()
