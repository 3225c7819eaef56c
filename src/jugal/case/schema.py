"""The case's tables and how an older case is brought up to date. A newer one is refused, never touched."""

from __future__ import annotations

import sqlite3

VERSION = 1


class CaseError(Exception):
    """The case cannot be opened or written; the message is one sentence."""


_TABLES = """
CREATE TABLE property (key TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE source (id INTEGER PRIMARY KEY, path BLOB NOT NULL UNIQUE, added TEXT NOT NULL);
CREATE TABLE file (
    id INTEGER PRIMARY KEY, path BLOB NOT NULL UNIQUE, size INTEGER NOT NULL, mtime_ns INTEGER NOT NULL,
    kind TEXT NOT NULL, format TEXT NOT NULL, score REAL, attainable REAL, verdict TEXT NOT NULL,
    headline TEXT NOT NULL, media TEXT NOT NULL, seconds REAL NOT NULL, error TEXT);
CREATE TABLE finding (
    file INTEGER NOT NULL REFERENCES file(id) ON DELETE CASCADE, position INTEGER NOT NULL, code TEXT NOT NULL,
    severity TEXT NOT NULL, start INTEGER, stop INTEGER, message TEXT NOT NULL, cause TEXT, PRIMARY KEY (file, position)) WITHOUT ROWID;
CREATE TABLE plan (
    file INTEGER NOT NULL REFERENCES file(id) ON DELETE CASCADE, position INTEGER NOT NULL, method TEXT NOT NULL,
    summary TEXT NOT NULL, attainable REAL NOT NULL, needs_donor INTEGER NOT NULL, PRIMARY KEY (file, position)) WITHOUT ROWID;
CREATE TABLE strip (file INTEGER PRIMARY KEY REFERENCES file(id) ON DELETE CASCADE, spans TEXT NOT NULL, regions TEXT NOT NULL);
CREATE TABLE thumbnail (file INTEGER PRIMARY KEY REFERENCES file(id) ON DELETE CASCADE, jpeg BLOB NOT NULL);
CREATE TABLE repair (
    id INTEGER PRIMARY KEY, file INTEGER NOT NULL REFERENCES file(id) ON DELETE CASCADE, status TEXT NOT NULL, output BLOB,
    method TEXT, donor BLOB, score_before REAL, score_after REAL, steps TEXT NOT NULL, error TEXT, kept INTEGER NOT NULL, made TEXT NOT NULL);
CREATE TABLE delivery (id INTEGER PRIMARY KEY, target BLOB NOT NULL, started TEXT NOT NULL, finished TEXT);
CREATE TABLE delivered (
    delivery INTEGER NOT NULL REFERENCES delivery(id) ON DELETE CASCADE, file INTEGER NOT NULL, origin BLOB NOT NULL,
    target BLOB NOT NULL, size INTEGER NOT NULL, sha256 TEXT NOT NULL, PRIMARY KEY (delivery, file)) WITHOUT ROWID;
CREATE INDEX repair_by_file ON repair(file);
"""


def prepare(connection: sqlite3.Connection, name: str) -> None:
    """Makes or checks the tables. Raises CaseError for a file that is no case, or a newer one."""
    try:
        version = connection.execute("PRAGMA user_version").fetchone()[0]
        if version > VERSION:
            raise CaseError(f"{name} was made by a newer version of Jugal; this version leaves it untouched.")
        connection.execute("PRAGMA journal_mode = WAL")
        connection.execute("PRAGMA synchronous = NORMAL")
        connection.execute("PRAGMA foreign_keys = ON")
        if version == 0:
            if connection.execute("SELECT count(*) FROM sqlite_master").fetchone()[0]:
                raise CaseError(f"{name} is a database, but no case of Jugal's.")
            connection.executescript(f"BEGIN; {_TABLES} PRAGMA user_version = {VERSION}; COMMIT;")
    except sqlite3.DatabaseError as error:
        raise CaseError(f"{name} cannot be opened as a case: {error}.") from error
