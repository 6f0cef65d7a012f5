"""What a compiler made of generated C is kept, named after the content of all that it was made from.

The name covers the compiler (its place, size and time), the command, and every file in the folder that is compiled:
what is found under it is what the compiler would make again.
"""

from __future__ import annotations

import contextlib
import hashlib
import shutil
import subprocess
import tempfile
from pathlib import Path

from calor.compiled.compiler import environment, identity_of
from calor.errors import FirmwareError

MOST_FILES = 600
"""So many builds are kept; beyond, only the two thirds that were used last stay."""


def cache_folder() -> Path:
    """Where the user's builds are kept."""
    import platformdirs

    return platformdirs.user_cache_path("calor") / "builds"


def compile_into(command: list[str], output: Path, where: str = "") -> None:
    """Run a compiler that writes `output` from the files beside it, or copy what it made of them before.

    Raises FirmwareError with its diagnostics.
    """
    key = _key(command, output)
    kept = _found(key)
    if kept is not None:
        shutil.copyfile(kept, output)
        output.chmod(0o755)
        return
    result = subprocess.run(command, capture_output=True, text=True, check=False, env=environment())
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


def _sum(path: Path) -> str:
    return hashlib.sha256(path.read_bytes()).hexdigest()[:16]


def _found(key: str) -> Path | None:
    """A build that is whole: its name holds the sum of its content."""
    with contextlib.suppress(OSError):
        for path in cache_folder().glob(f"{key}-*"):
            if path.name == f"{key}-{_sum(path)}":
                path.touch()
                return path
            path.unlink()
    return None


def _keep(key: str, output: Path) -> None:
    """A folder that cannot be written keeps nothing, and nothing is lost by it."""
    folder = cache_folder()
    with contextlib.suppress(OSError):
        folder.mkdir(parents=True, exist_ok=True)
        with tempfile.NamedTemporaryFile(dir=folder, delete=False) as fresh:
            fresh.write(output.read_bytes())
        Path(fresh.name).replace(folder / f"{key}-{_sum(output)}")
        paths = list(folder.iterdir())
        if len(paths) > MOST_FILES:
            for path in sorted(paths, key=lambda one: one.stat().st_mtime)[: -(MOST_FILES * 2 // 3)]:
                path.unlink()
