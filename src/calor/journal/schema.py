"""The journal's tables, and how a journal of an older kind becomes one of today's.

Version 1 had no pins and no tags of their own; a run's tags were words in its note. Each step is done as a whole or not
at all, after a copy of the file was made.
"""

from __future__ import annotations

import sqlite3

VERSION = 2
FIRST = """
CREATE TABLE runs (
    number INTEGER PRIMARY KEY AUTOINCREMENT, uid TEXT NOT NULL UNIQUE, made TEXT NOT NULL, kind TEXT NOT NULL,
    design TEXT NOT NULL, trial TEXT NOT NULL, span_s REAL NOT NULL, seed INTEGER, controller TEXT NOT NULL,
    version TEXT NOT NULL, passes INTEGER, note TEXT NOT NULL, metrics TEXT NOT NULL, limits TEXT NOT NULL,
    curve BLOB NOT NULL
);
CREATE TABLE contents (sum TEXT PRIMARY KEY, bytes BLOB NOT NULL) WITHOUT ROWID;
CREATE TABLE parts (
    run INTEGER NOT NULL REFERENCES runs(number) ON DELETE CASCADE, name TEXT NOT NULL,
    sum TEXT NOT NULL REFERENCES contents(sum), PRIMARY KEY (run, name)
) WITHOUT ROWID;
CREATE INDEX parts_by_sum ON parts(sum);
"""
STEPS = {
    2: """
ALTER TABLE runs ADD COLUMN pinned INTEGER NOT NULL DEFAULT 0;
ALTER TABLE runs ADD COLUMN tags TEXT NOT NULL DEFAULT '[]';
CREATE INDEX runs_by_made ON runs(made);
"""
}
"""What makes a journal of the version before one of each version."""


def create(connection: sqlite3.Connection) -> None:
    """All tables of today, in an empty journal."""
    _script(connection, FIRST + "".join(STEPS[version] for version in sorted(STEPS)), VERSION)


def version_of(connection: sqlite3.Connection) -> int:
    """The version of a journal; 0 where it is empty."""
    return int(connection.execute("PRAGMA user_version").fetchone()[0])


def migrate(connection: sqlite3.Connection) -> None:
    """Bring a journal of an older version to today's, step by step."""
    for version in range(version_of(connection) + 1, VERSION + 1):
        _script(connection, STEPS[version], version)


def _script(connection: sqlite3.Connection, text: str, version: int) -> None:
    """Some statements and the new version, as a whole or not at all."""
    connection.execute("BEGIN IMMEDIATE")
    try:
        if version_of(connection) < version:  # another process may have been quicker
            for statement in text.split(";"):
                if statement.strip():
                    connection.execute(statement)
            connection.execute(f"PRAGMA user_version = {version}")
        connection.execute("COMMIT")
    except BaseException:
        connection.execute("ROLLBACK")
        raise
