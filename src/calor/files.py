"""Files written so that nothing is lost: whole at any moment, in place of what may be replaced, and of nothing else.

A file is written beside its place and put there when it is whole. What belongs to a file stays: its permissions, owner,
hard links and extended attributes; where only writing into the file itself keeps them, the whole text lies beside it
until that is done. A device or a pipe is written to, a file that may not be written is not replaced.
"""

from __future__ import annotations

import contextlib
import errno
import fcntl
import hashlib
import os
import stat
import tempfile
from pathlib import Path
from typing import BinaryIO

_MARK = ".calor-"
"""In the names of files that are being written."""
_WHOLE = "-whole"
"""At the end of the name of one that is whole, and whose content is being written into the file itself."""
_LONGEST_STEM = 80
LONGEST_WRITE_S = 60.0


_PACKAGE = Path(__file__).resolve().parent


def ships(path: Path) -> bool:
    """Whether a file lies where Calor itself is installed, its demos among it: there nothing is written."""
    return path.resolve().is_relative_to(_PACKAGE)


def _refuse_shipped(path: Path) -> None:
    if ships(path):
        raise PermissionError(errno.EACCES, "it ships with Calor, and stays as it is", str(path))


def make_folder(path: Path) -> None:
    """Make a folder, and those above it, where it is missing. Raises OSError, for one where Calor is installed too."""
    _refuse_shipped(path)
    path.mkdir(parents=True, exist_ok=True)


def save_atomically(path: Path, content: str | bytes) -> None:
    """Write text, in UTF-8, or bytes to `path` so that at any moment the file is either the old or the new one, whole.

    A link is followed. What a write that was killed left behind is removed, or finished where it was whole.
    Raises OSError, for a file that may not be written too, and for one that ships with Calor.
    """
    target = path.resolve()
    _refuse_shipped(path)
    data = content.encode("utf-8") if isinstance(content, str) else content
    there = _status(target)
    if there is not None and not stat.S_ISREG(there.st_mode):
        _write_to(target, data, there)
        return
    if there is not None and not (there.st_mode & 0o222 and os.access(target, os.W_OK)):
        raise PermissionError(errno.EACCES, "it may not be written", str(path))
    finish(target)
    handle, temporary = tempfile.mkstemp(prefix=_prefix(target), dir=target.parent)
    try:
        with os.fdopen(handle, "wb") as stream:
            with contextlib.suppress(OSError):  # a file system without locks
                fcntl.flock(stream, fcntl.LOCK_EX)
            stream.write(data)
            stream.flush()
            os.fsync(stream.fileno())
            if _takes_after(temporary, target, there):
                Path(temporary).replace(target)
            else:
                _write_into(target, data, Path(temporary))
    except BaseException:
        with contextlib.suppress(OSError):
            Path(temporary).unlink()
        raise
    _settle(target.parent)


def finish(path: Path) -> None:
    """Finish or remove what a write to `path` that was killed left beside it. Whatever cannot be done is left."""
    target = path.resolve()
    with contextlib.suppress(OSError):
        for left in [one for one in target.parent.iterdir() if one.name.startswith(_prefix(target))]:
            with contextlib.suppress(OSError), left.open("rb") as stream:
                # whoever writes it holds it
                fcntl.flock(stream, fcntl.LOCK_EX | fcntl.LOCK_NB)
                if left.name.endswith(_WHOLE) and _was_being_written(target, left):
                    with target.open("r+b") as damaged:
                        _overwrite(damaged, stream.read())
                left.unlink()


def _was_being_written(target: Path, whole: Path) -> bool:
    """Whether nobody has written to a file since a write to it was killed."""
    return target.stat().st_mtime - whole.stat().st_mtime < LONGEST_WRITE_S


def is_same(one: Path, other: Path) -> bool:
    """Whether two paths lead to the same file, by whatever name."""
    with contextlib.suppress(OSError):
        return one.samefile(other)
    return one.resolve() == other.resolve()


def _status(path: Path) -> os.stat_result | None:
    try:
        return path.stat()
    except FileNotFoundError:
        return None


def _prefix(target: Path) -> str:
    name = target.name.encode(errors="surrogateescape")
    stem = name.decode(errors="replace") if len(name) <= _LONGEST_STEM else hashlib.sha256(name).hexdigest()[:16]
    return f".{stem}{_MARK}"


def _write_to(target: Path, data: bytes, there: os.stat_result) -> None:
    """Into a device, a pipe or what else is no ordinary file."""
    if stat.S_ISDIR(there.st_mode):
        raise IsADirectoryError(errno.EISDIR, "it is a folder", str(target))
    handle = os.open(target, os.O_WRONLY | os.O_NOCTTY)
    with os.fdopen(handle, "wb") as stream:
        stream.write(data)


def _takes_after(temporary: str, target: Path, there: os.stat_result | None) -> bool:
    """Give a fresh file what belongs to the one it is to replace. False where that cannot be."""
    if there is None:
        Path(temporary).chmod(0o666 & ~_umask())
        return True
    if there.st_nlink > 1:
        return False
    try:
        fresh = Path(temporary).stat()
        if (fresh.st_uid, fresh.st_gid) != (there.st_uid, there.st_gid):
            os.chown(temporary, there.st_uid, there.st_gid)
        Path(temporary).chmod(there.st_mode & 0o7777)
        for name in _attributes(target):
            os.setxattr(temporary, name, os.getxattr(target, name))
    except OSError:
        return False
    return True


def _umask() -> int:
    """What fresh files of this process may not be; read where it stands, since setting it is felt by all threads."""
    for line in Path("/proc/self/status").read_text(encoding="ascii", errors="replace").splitlines():
        if line.startswith("Umask:"):
            return int(line.split()[1], 8)
    return 0o077


def _attributes(path: Path) -> list[str]:
    try:
        return os.listxattr(path)
    except OSError:  # a file system that has none
        return []


def _write_into(target: Path, data: bytes, temporary: Path) -> None:
    """Write over a file that cannot be replaced; a kill meanwhile leaves the whole text beside it, to be finished."""
    whole = temporary.with_name(temporary.name + _WHOLE)
    temporary.rename(whole)
    with target.open("r+b") as stream:
        try:
            if len(data) > target.stat().st_size:
                os.posix_fallocate(stream.fileno(), 0, len(data))  # room for all of it, before any is lost
        except OSError as error:
            if error.errno in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG):
                whole.unlink()
                raise
        _overwrite(stream, data)
    whole.unlink()


def _overwrite(stream: BinaryIO, data: bytes) -> None:
    stream.write(data)
    stream.truncate()
    stream.flush()
    os.fsync(stream.fileno())


def _settle(folder: Path) -> None:
    """The name of the file is on disk too."""
    with contextlib.suppress(OSError):
        handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)
