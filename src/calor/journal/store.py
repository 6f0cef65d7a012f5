"""The journal: one SQLite file in the user's data directory.

Written with a log ahead of it (WAL) and waited for, so that what was kept is there after a kill at any instant; a full
disk refuses a run and loses none. At the start the file is checked; one that is damaged is set aside whole, what can be
read of it is put into a new one, and that is said. Before a migration a copy is made.
"""

from __future__ import annotations

import contextlib
import datetime
import hashlib
import json
import sqlite3
import threading
from collections.abc import Iterable, Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import platformdirs

from calor.errors import CalorError
from calor.journal import schema
from calor.journal.entry import Kept, Stored

BUSY_S = 20.0
LARGEST_PART_BYTES = 400_000_000
_COLUMNS = (
    "uid", "made", "kind", "design", "trial", "span_s", "seed", "controller", "version", "passes", "note", "metrics",
    "limits", "curve", "pinned", "tags",
)  # fmt: skip


def usual_place() -> Path:
    """Where the journal is kept."""
    return Path(platformdirs.user_data_dir("calor")) / "journal.sqlite"


_SET = {key: f"UPDATE runs SET {key} = ? WHERE number = ?" for key in ("note", "tags", "pinned")}


class Journal:
    """An open journal. `said` are lines that the user should know: what was mended, what was set aside."""

    def __init__(self, path: Path | None = None) -> None:
        """Open or begin the journal at `path`. Raises CalorError where that cannot be."""
        self.path = usual_place() if path is None else path
        self.said: list[str] = []
        self._lock = threading.RLock()
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            self._connection = self._open()
        except (OSError, sqlite3.Error) as error:
            raise self._error(error) from None

    def _error(self, error: Exception) -> CalorError:
        said = str(error)
        remedy = "make room on the disk" if "full" in said else "choose another place, or allow writing there"
        return CalorError(self.path, f"the journal cannot be used ({said})", "", remedy)

    def _connect(self) -> sqlite3.Connection:
        connection = sqlite3.connect(self.path, timeout=BUSY_S, isolation_level=None, check_same_thread=False)
        connection.execute(f"PRAGMA busy_timeout = {int(BUSY_S * 1000)}")
        return connection

    def _open(self) -> sqlite3.Connection:
        if self.path.exists() and not self.path.is_file():
            raise CalorError(self.path, "is no file, and the journal is one", "", "choose another place")
        connection = self._connect()
        try:
            version = schema.version_of(connection)
            if version > schema.VERSION:
                connection.close()
                raise CalorError(
                    self.path, f"is a journal of a newer Calor (version {version})", "", "open it with that one"
                )
            found = connection.execute("PRAGMA integrity_check(5)").fetchall()
            whole = found == [("ok",)] and (version > 0 or not _tables(connection))
        except sqlite3.DatabaseError as error:
            if not isinstance(error, sqlite3.OperationalError) or "disk image" in str(error):
                whole, version = False, 0
            else:
                raise
        if not whole:
            connection.close()
            return self._saved()
        self._begin(connection, version)
        return connection

    def _begin(self, connection: sqlite3.Connection, version: int) -> None:
        connection.execute("PRAGMA journal_mode = WAL")
        connection.execute("PRAGMA synchronous = FULL")
        connection.execute("PRAGMA foreign_keys = ON")
        if version == 0:
            schema.create(connection)
        elif version < schema.VERSION:
            copy = self._beside(f"version-{version}")
            with contextlib.closing(sqlite3.connect(copy)) as target:
                connection.backup(target)
            schema.migrate(connection)
            self.said.append(f"The journal is of today's kind now; a copy of what it was is {copy.name}.")

    def _beside(self, word: str) -> Path:
        """A free name beside the journal."""
        stamp = datetime.datetime.now(datetime.UTC).strftime("%Y%m%d-%H%M%S")
        for number in range(1000):
            tail = f"-{number}" if number else ""
            place = self.path.with_name(f"{self.path.stem}-{word}-{stamp}{tail}{self.path.suffix}")
            if not place.exists():
                return place
        raise OSError("no free name beside the journal")

    def _saved(self) -> sqlite3.Connection:
        """Set a damaged journal aside, and put what can be read of it into a new one."""
        aside = self._beside("damaged")
        for tail in ("", "-wal", "-shm"):
            with contextlib.suppress(FileNotFoundError):
                Path(f"{self.path}{tail}").rename(f"{aside}{tail}")
        connection = self._connect()
        self._begin(connection, 0)
        saved = 0
        for entry, parts in _readable(aside):
            with contextlib.suppress(sqlite3.Error, ValueError):
                self._insert(connection, entry, parts)
                saved += 1
        self.said.append(
            f"The journal was damaged and is set aside as {aside.name}; {saved} runs that could be read are kept on."
        )
        return connection

    # ---- writing

    @contextlib.contextmanager
    def _writing(self) -> Iterator[sqlite3.Connection]:
        """A change as a whole, or none. Raises CalorError where it cannot be written."""
        with self._lock:
            try:
                self._connection.execute("BEGIN IMMEDIATE")
                try:
                    yield self._connection
                    self._connection.execute("COMMIT")
                except BaseException:
                    with contextlib.suppress(sqlite3.Error):
                        self._connection.execute("ROLLBACK")
                    raise
            except sqlite3.Error as error:
                raise self._error(error) from None

    def keep(self, entry: Kept, parts: dict[str, bytes]) -> int:
        """Keep a run with its texts and bytes by name; its number. One of the same uid is left as it is.

        Raises CalorError where it cannot be written, and ValueError where a part is far too large.
        """
        for name, data in parts.items():
            if len(data) > LARGEST_PART_BYTES:
                raise CalorError(name, "is too large for the journal", f"{len(data) / 1e6:.0f} MB", "cut it first")
        with self._writing() as connection:
            return self._insert(connection, entry, parts)

    def _insert(self, connection: sqlite3.Connection, entry: Kept, parts: dict[str, bytes]) -> int:
        there = connection.execute("SELECT number FROM runs WHERE uid = ?", (entry.uid,)).fetchone()
        if there:
            return int(there[0])
        marks = ", ".join("?" * len(_COLUMNS))
        cursor = connection.execute(
            f"INSERT INTO runs ({', '.join(_COLUMNS)}) VALUES ({marks})",
            (
                entry.uid, entry.made, entry.kind, entry.design, entry.trial, entry.span_s, entry.seed,
                entry.controller, entry.version, None if entry.passes is None else int(entry.passes), entry.note,
                json.dumps(entry.metrics, allow_nan=False), json.dumps(entry.limits, allow_nan=False),
                entry.curve.packed(), int(entry.pinned), json.dumps(entry.tags),
            ),
        )  # fmt: skip
        number = int(cursor.lastrowid or 0)
        for name, data in parts.items():
            key = hashlib.sha256(data).hexdigest()
            connection.execute("INSERT OR IGNORE INTO contents (sum, bytes) VALUES (?, ?)", (key, data))
            connection.execute("INSERT INTO parts (run, name, sum) VALUES (?, ?, ?)", (number, name, key))
        return number

    def write(self, number: int, **values: str | bool | tuple[str, ...]) -> None:
        """Change a run's note, tags or pin. Raises CalorError where there is no such run, or it cannot be written."""
        self.read(number)
        with self._writing() as connection:
            for key, value in values.items():
                stored = json.dumps(value) if isinstance(value, tuple) else value
                connection.execute(_SET[key], (stored, number))

    def remove(self, numbers: Iterable[int]) -> None:
        """Take runs out, and what only they had. Raises CalorError where one is not there: none is removed then."""
        chosen = list(dict.fromkeys(numbers))
        for number in chosen:
            self.read(number)
        with self._writing() as connection:
            connection.executemany("DELETE FROM runs WHERE number = ?", [(number,) for number in chosen])
            connection.execute("DELETE FROM contents WHERE sum NOT IN (SELECT sum FROM parts)")

    # ---- reading

    def rows(self) -> list[Kept]:
        """All kept runs, the latest first."""
        with self._lock:
            try:
                found = self._connection.execute(
                    f"SELECT number, {', '.join(_COLUMNS)} FROM runs ORDER BY made DESC, number DESC"
                ).fetchall()
            except sqlite3.Error as error:
                raise self._error(error) from None
        return [_entry(row) for row in found]

    def count(self) -> int:
        """How many runs are kept."""
        with self._lock:
            return int(self._connection.execute("SELECT count(*) FROM runs").fetchone()[0])

    def read(self, number: int) -> Kept:
        """The run of a number. Raises CalorError where there is none."""
        with self._lock:
            row = self._connection.execute(
                f"SELECT number, {', '.join(_COLUMNS)} FROM runs WHERE number = ?", (number,)
            ).fetchone()
        if row is None:
            raise CalorError("journal", "there is no run of that number", str(number), "calor journal list shows them")
        return _entry(row)

    def parts(self, number: int) -> dict[str, bytes]:
        """The texts and bytes of a run, by name."""
        with self._lock:
            found = self._connection.execute(
                "SELECT name, bytes FROM parts JOIN contents USING (sum) WHERE run = ?", (number,)
            ).fetchall()
        return {str(name): bytes(data) for name, data in found}

    def close(self) -> None:
        """Close the file."""
        with self._lock:
            self._connection.close()

    def __enter__(self) -> Journal:
        return self

    def __exit__(self, *gone: object) -> None:
        self.close()


def _tables(connection: sqlite3.Connection) -> list[str]:
    return [str(row[0]) for row in connection.execute("SELECT name FROM sqlite_master WHERE type = 'table'")]


_PLAIN = ("number", "uid", "made", "kind", "design", "trial", "span_s", "seed", "controller", "version")


def _entry(row: tuple[Any, ...]) -> Kept:
    passes, note, metrics, limits, curve, pinned, tags = row[10:]
    values = dict(zip(_PLAIN, row[:10], strict=True))
    values.update(passes=None if passes is None else bool(passes), note=note, pinned=bool(pinned))
    return Stored.of(values, metrics, limits, tags, curve)


def _decoded(entry: Kept) -> Kept:
    """A run all of which can be decoded. Raises ValueError, TypeError."""
    return replace(entry, metrics=entry.metrics, limits=entry.limits, tags=entry.tags, curve=entry.curve)


def _readable(path: Path) -> Iterator[tuple[Kept, dict[str, bytes]]]:
    """What can be read of a damaged journal, run by run."""
    try:
        connection = sqlite3.connect(path)
        have = [str(row[1]) for row in connection.execute("PRAGMA table_info(runs)")]
    except sqlite3.Error:
        return
    with contextlib.closing(connection):
        usual = {"pinned": 0, "tags": "[]"}
        columns = [name for name in _COLUMNS if name in have]
        for number in _numbers(connection):
            try:
                row = connection.execute(
                    f"SELECT {', '.join(columns)} FROM runs WHERE number = ?", (number,)
                ).fetchone()
                if row is None:
                    continue
                values = {**usual, **dict(zip(columns, row, strict=True))}
                entry = _decoded(_entry((number, *(values[name] for name in _COLUMNS))))
                parts = connection.execute(
                    "SELECT name, bytes FROM parts JOIN contents USING (sum) WHERE run = ?", (number,)
                ).fetchall()
            except (sqlite3.Error, ValueError, KeyError, TypeError):
                continue
            yield entry, {str(name): bytes(data) for name, data in parts}


def _numbers(connection: sqlite3.Connection) -> Iterator[int]:
    """The numbers of the runs of a damaged journal: by its table, and where that breaks off, one by one."""
    seen: set[int] = set()
    try:
        for (number,) in connection.execute("SELECT number FROM runs"):
            seen.add(int(number))
            yield int(number)
    except sqlite3.Error:
        with contextlib.suppress(sqlite3.Error):
            last = connection.execute("SELECT seq FROM sqlite_sequence WHERE name = 'runs'").fetchone()
            end = int(last[0]) if last else max(seen, default=0) + 1000
            yield from (number for number in range(1, end + 1) if number not in seen)
