"""The case's tables and how an older case is brought up to date. A newer one is refused, never touched."""

from __future__ import annotations

import sqlite3

from jugal.model.codes import FindingCode
from jugal.model.finding import Severity
from jugal.model.sorts import told_sort

VERSION = 2


class CaseError(Exception):
    """The case cannot be opened or written; the message is one sentence."""


_TABLES = """
CREATE TABLE property (key TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE source (id INTEGER PRIMARY KEY, path BLOB NOT NULL UNIQUE, added TEXT NOT NULL);
CREATE TABLE file (
    id INTEGER PRIMARY KEY, path BLOB NOT NULL UNIQUE, size INTEGER NOT NULL, mtime_ns INTEGER NOT NULL,
    kind TEXT NOT NULL, format TEXT NOT NULL, score REAL, attainable REAL, verdict TEXT NOT NULL,
    headline TEXT NOT NULL, media TEXT NOT NULL, seconds REAL NOT NULL, error TEXT,
    camera TEXT NOT NULL DEFAULT '', taken TEXT NOT NULL DEFAULT '', pixels INTEGER NOT NULL DEFAULT 0, preview INTEGER NOT NULL DEFAULT 0,
    sorts TEXT NOT NULL DEFAULT '', causes TEXT NOT NULL DEFAULT '', sight BLOB, digest BLOB,
    copies TEXT NOT NULL DEFAULT '', likeness INTEGER NOT NULL DEFAULT 0);
CREATE TABLE finding (
    file INTEGER NOT NULL REFERENCES file(id) ON DELETE CASCADE, position INTEGER NOT NULL, code TEXT NOT NULL,
    severity TEXT NOT NULL, start INTEGER, stop INTEGER, message TEXT NOT NULL, cause TEXT, PRIMARY KEY (file, position)) WITHOUT ROWID;
CREATE TABLE plan (
    file INTEGER NOT NULL REFERENCES file(id) ON DELETE CASCADE, position INTEGER NOT NULL, method TEXT NOT NULL,
    summary TEXT NOT NULL, attainable REAL NOT NULL, needs_donor INTEGER NOT NULL, PRIMARY KEY (file, position)) WITHOUT ROWID;
CREATE TABLE strip (file INTEGER PRIMARY KEY REFERENCES file(id) ON DELETE CASCADE, spans TEXT NOT NULL, regions TEXT NOT NULL,
    anchors TEXT NOT NULL DEFAULT '[]');
CREATE TABLE thumbnail (file INTEGER PRIMARY KEY REFERENCES file(id) ON DELETE CASCADE, jpeg BLOB NOT NULL);
CREATE TABLE repair (
    id INTEGER PRIMARY KEY, file INTEGER NOT NULL REFERENCES file(id) ON DELETE CASCADE, status TEXT NOT NULL, output BLOB,
    method TEXT, donor BLOB, score_before REAL, score_after REAL, steps TEXT NOT NULL, error TEXT, kept INTEGER NOT NULL, made TEXT NOT NULL);
CREATE TABLE delivery (id INTEGER PRIMARY KEY, target BLOB NOT NULL, started TEXT NOT NULL, finished TEXT);
CREATE TABLE delivered (
    delivery INTEGER NOT NULL REFERENCES delivery(id) ON DELETE CASCADE, file INTEGER NOT NULL, origin BLOB NOT NULL,
    target BLOB NOT NULL, size INTEGER NOT NULL, sha256 TEXT NOT NULL, PRIMARY KEY (delivery, file)) WITHOUT ROWID;
CREATE INDEX repair_by_file ON repair(file);
CREATE INDEX file_by_size ON file(size);
"""

#: From version 1: what lists filter by stands in columns of its own. Filled from what the case holds; sight and
#: digest are filled when the files are looked at again.
_TO_2 = """
ALTER TABLE file ADD COLUMN camera TEXT NOT NULL DEFAULT '';
ALTER TABLE file ADD COLUMN taken TEXT NOT NULL DEFAULT '';
ALTER TABLE file ADD COLUMN pixels INTEGER NOT NULL DEFAULT 0;
ALTER TABLE file ADD COLUMN preview INTEGER NOT NULL DEFAULT 0;
ALTER TABLE file ADD COLUMN sorts TEXT NOT NULL DEFAULT '';
ALTER TABLE file ADD COLUMN causes TEXT NOT NULL DEFAULT '';
ALTER TABLE file ADD COLUMN sight BLOB;
ALTER TABLE file ADD COLUMN digest BLOB;
ALTER TABLE file ADD COLUMN copies TEXT NOT NULL DEFAULT '';
ALTER TABLE file ADD COLUMN likeness INTEGER NOT NULL DEFAULT 0;
ALTER TABLE strip ADD COLUMN anchors TEXT NOT NULL DEFAULT '[]';
CREATE INDEX file_by_size ON file(size);
UPDATE file SET camera = coalesce(json_extract(media, '$.camera'), ''), taken = coalesce(json_extract(media, '$.date_taken'), ''),
    pixels = coalesce(json_extract(media, '$.width') * json_extract(media, '$.height'), 0),
    preview = EXISTS (SELECT 1 FROM finding WHERE finding.file = file.id AND code = 'jpeg.preview'),
    sorts = coalesce((SELECT group_concat(DISTINCT sort_of(code, severity)) FROM finding WHERE finding.file = file.id), ''),
    causes = coalesce((SELECT group_concat(cause, '|') FROM (SELECT DISTINCT cause FROM finding WHERE finding.file = file.id AND cause IS NOT NULL)), '');
UPDATE file SET sorts = trim(replace(replace(sorts, ',', '|'), '||', '|'), '|');
"""


_CODES = {code.value: code for code in FindingCode}


def _sort_for_table(code: str, severity: str) -> str:
    sort = told_sort(_CODES[code], Severity(severity))
    return sort.value if sort is not None else ""


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
        elif version == 1:
            connection.create_function("sort_of", 2, _sort_for_table)
            connection.executescript(f"BEGIN; {_TO_2} PRAGMA user_version = 2; COMMIT;")
    except sqlite3.DatabaseError as error:
        raise CaseError(f"{name} cannot be opened as a case: {error}.") from error
