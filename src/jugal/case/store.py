"""Reading and writing a case. One connection a thread; every write is a transaction."""

from __future__ import annotations

import datetime
import json
import os
import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import NamedTuple

import msgspec

from jugal.case.schema import CaseError, prepare
from jugal.model.codes import Cause, FindingCode
from jugal.model.finding import Finding, Severity
from jugal.model.result import (
    Anchor,
    Examination,
    Kind,
    MediaValue,
    Region,
    RepairOutcome,
    RepairPlan,
    RepairStatus,
    Verdict,
)
from jugal.model.small import Small
from jugal.model.sorts import Sort, sorts_of
from jugal.model.span import ByteSpan
from jugal.model.strip import StripSpan
from jugal.model.words import printable_name


class FileRow(msgspec.Struct, frozen=True, gc=False):
    """What a list of files shows of one, and what it can be filtered by.

    ``sorts`` and ``causes`` hold words joined by ``|``; ``pixels`` is width times height, 0 where there is none;
    ``copies`` says how this file stands to others with the same content (empty where there are none), ``likeness``
    numbers the group.
    """

    id: int
    path: str
    size: int
    mtime_ns: int
    kind: Kind
    format: str
    score: float | None
    attainable: float | None
    verdict: Verdict
    headline: str
    error: str | None = None
    camera: str = ""
    taken: str = ""
    pixels: int = 0
    preview: bool = False
    sorts: str = ""
    causes: str = ""
    copies: str = ""
    likeness: int = 0

    @property
    def name(self) -> str:
        """The file's own name, with what is no text in it replaced."""
        return printable_name(self.path)


@dataclass(frozen=True, slots=True)
class KeptRepair:
    """A repair made in this case."""

    id: int
    file: int
    outcome: RepairOutcome
    kept: bool


class HandedOver(NamedTuple):
    """A copy that was delivered: where it lies, its size and SHA-256, and what it is a copy of."""

    path: str
    size: int
    sha256: str
    origin: str


def _now() -> str:
    return datetime.datetime.now(datetime.UTC).isoformat(timespec="seconds")


def _headline(examination: Examination) -> str:
    if examination.error:
        return examination.error
    main = examination.main_finding
    if main is None or (examination.verdict is Verdict.INTACT and main.severity is Severity.NOTE):
        return main.message if main is not None else "Nothing wrong was found."
    return main.message


class Case:
    """An open case. Use from one thread; open another for another thread."""

    def __init__(self, path: Path) -> None:
        self.path = path
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            self._db = sqlite3.connect(path, timeout=30, check_same_thread=False)
        except (OSError, sqlite3.Error) as error:
            raise CaseError(f"{path} cannot be opened: {error}.") from error
        prepare(self._db, path.name)

    def close(self) -> None:
        self._db.close()

    # Properties and sources

    def get(self, key: str, default: str = "") -> str:
        """A property of the case."""
        row = self._db.execute("SELECT value FROM property WHERE key = ?", (key,)).fetchone()
        return row[0] if row else default

    def put(self, key: str, value: str) -> None:
        with self._db:
            self._db.execute("INSERT OR REPLACE INTO property VALUES (?, ?)", (key, value))

    def add_source(self, path: str) -> None:
        """Adds a folder or file to what the case is about."""
        with self._db:
            self._db.execute("INSERT OR IGNORE INTO source(path, added) VALUES (?, ?)", (os.fsencode(path), _now()))

    def remove_source(self, path: str) -> None:
        with self._db:
            self._db.execute("DELETE FROM source WHERE path = ?", (os.fsencode(path),))

    def sources(self) -> list[str]:
        return [os.fsdecode(r[0]) for r in self._db.execute("SELECT path FROM source ORDER BY id")]

    # Examinations

    def known(self) -> dict[str, tuple[int, int]]:
        """Path → (size, modification time) of every file that was examined without an error."""
        rows = self._db.execute("SELECT path, size, mtime_ns FROM file WHERE error IS NULL")
        return {os.fsdecode(path): (size, mtime) for path, size, mtime in rows}

    def save(self, results: Iterable[tuple[Examination, int, Small | None]]) -> list[int]:
        """Stores (examination, modification time, small picture) in one transaction; returns the files' numbers."""
        numbers = []
        with self._db:
            for examination, mtime_ns, small in results:
                numbers.append(self._save_one(examination, mtime_ns, small))
        return numbers

    def _save_one(self, e: Examination, mtime_ns: int, small: Small | None) -> int:
        db = self._db
        width, height = e.media.get("width", 0), e.media.get("height", 0)
        values = (
            os.fsencode(e.path), e.size, mtime_ns, e.kind.value, e.format, e.score, e.attainable, e.verdict.value,
            _headline(e), json.dumps(e.media), e.seconds, e.error,
            str(e.media.get("camera", "")), str(e.media.get("date_taken", "")),
            int(width) * int(height), int(any(f.code is FindingCode.JPEG_PREVIEW for f in e.findings)),
            "|".join(sorts_of(e.findings)), "|".join(dict.fromkeys(f.cause.value for f in e.findings if f.cause)),
            small.sight if small else None,
        )  # fmt: skip
        number = db.execute(_INSERT, values).fetchone()[0]
        for table in ("finding", "plan", "strip", "thumbnail"):
            db.execute(f"DELETE FROM {table} WHERE file = ?", (number,))
        db.executemany(
            "INSERT INTO finding VALUES (?,?,?,?,?,?,?,?)",
            [
                (number, i, f.code.value, f.severity.value, f.span.start if f.span else None, f.span.end if f.span else None,
                 f.message, f.cause.value if f.cause else None)
                for i, f in enumerate(e.findings)
            ],
        )  # fmt: skip
        db.executemany(
            "INSERT INTO plan VALUES (?,?,?,?,?,?)",
            [(number, i, p.method, p.summary, p.attainable, int(p.needs_donor)) for i, p in enumerate(e.repairs)],
        )
        laid = (msgspec.json.encode(x).decode() for x in (e.strip, e.regions, e.anchors))
        db.execute("INSERT INTO strip VALUES (?,?,?,?)", (number, *laid))
        if small is not None:
            db.execute("INSERT INTO thumbnail VALUES (?,?)", (number, small.jpeg))
        return int(number)

    def files(self, since: int = 0) -> Iterator[FileRow]:
        """All files with a number above ``since``, in the order they were first known."""
        cursor = self._db.execute(f"SELECT {_COLUMNS} FROM file WHERE id > ? ORDER BY id", (since,))
        return (_row(r) for r in cursor)

    def some_files(self, after: int, most: int) -> list[FileRow]:
        """At most ``most`` files with a number above ``after``; what a large case is loaded by."""
        cursor = self._db.execute(f"SELECT {_COLUMNS} FROM file WHERE id > ? ORDER BY id LIMIT ?", (after, most))
        return [_row(r) for r in cursor]

    def rows(self, numbers: Sequence[int]) -> list[FileRow]:
        """The rows with these numbers, in number order."""
        marks = ",".join("?" * len(numbers))
        return [
            _row(r)
            for r in self._db.execute(f"SELECT {_COLUMNS} FROM file WHERE id IN ({marks}) ORDER BY id", list(numbers))
        ]

    def whole_files(self, format_name: str, camera: str, most: int) -> list[int]:
        """Numbers of intact files of a format, those of a camera before all others."""
        rows = self._db.execute(
            "SELECT id FROM file WHERE format = ? AND verdict = ? AND error IS NULL ORDER BY camera <> ?, id LIMIT ?",
            (format_name, Verdict.INTACT.value, camera, most),
        )
        return [r[0] for r in rows]

    def count(self) -> int:
        return int(self._db.execute("SELECT count(*) FROM file").fetchone()[0])

    def examination(self, number: int) -> Examination | None:
        """The whole examination of a file as it was stored, without its thumbnail."""
        rows = self.rows([number])
        if not rows:
            return None
        row = rows[0]
        findings = tuple(
            Finding(
                _CODES[code],
                Severity(severity),
                message,
                None if start is None else ByteSpan(start, stop),
                Cause(cause) if cause else None,
            )
            for code, severity, start, stop, message, cause in self._db.execute(
                "SELECT code, severity, start, stop, message, cause FROM finding WHERE file = ? ORDER BY position",
                (number,),
            )
        )
        plans = tuple(
            RepairPlan(method, summary, attainable, bool(donor))
            for method, summary, attainable, donor in self._db.execute(
                "SELECT method, summary, attainable, needs_donor FROM plan WHERE file = ? ORDER BY position",
                (number,),
            )
        )
        strip, regions, anchors = self.strip(number)
        return Examination(
            row.path, row.size, row.kind, row.format, row.score, row.attainable, row.verdict, findings, plans,
            self.media(number), strip, regions, anchors, error=row.error,
        )  # fmt: skip

    def examination_of(self, path: str) -> Examination | None:
        """The examination of the file at ``path``, None where the case does not know it."""
        row = self._db.execute("SELECT id FROM file WHERE path = ?", (os.fsencode(path),)).fetchone()
        return self.examination(row[0]) if row else None

    def media(self, number: int) -> dict[str, MediaValue]:
        """What the content of a file says of itself."""
        row = self._db.execute("SELECT media FROM file WHERE id = ?", (number,)).fetchone()
        return dict(json.loads(row[0])) if row else {}

    def strip(self, number: int) -> tuple[tuple[StripSpan, ...], tuple[Region, ...], tuple[Anchor, ...]]:
        """A file's strip, what of its content is not right, and which bytes hold which part of the content."""
        row = self._db.execute("SELECT spans, regions, anchors FROM strip WHERE file = ?", (number,)).fetchone()
        if row is None:
            return (), (), ()
        spans = msgspec.json.decode(row[0], type=tuple[StripSpan, ...])
        regions = msgspec.json.decode(row[1], type=tuple[Region, ...])
        return spans, regions, msgspec.json.decode(row[2], type=tuple[Anchor, ...])

    def strips(self, numbers: Sequence[int]) -> dict[int, tuple[StripSpan, ...]]:
        """The strips of these files, those that have one."""
        marks = ",".join("?" * len(numbers))
        rows = self._db.execute(f"SELECT file, spans FROM strip WHERE file IN ({marks})", list(numbers))
        return {file: msgspec.json.decode(spans, type=tuple[StripSpan, ...]) for file, spans in rows}

    def thumbnail(self, number: int) -> bytes | None:
        row = self._db.execute("SELECT jpeg FROM thumbnail WHERE file = ?", (number,)).fetchone()
        return (row[0] or None) if row else None

    def without_picture(self) -> list[tuple[int, str, str, str]]:
        """(number, path, format, kind) of files that could have a small picture, have none, and were not tried yet."""
        rows = self._db.execute(
            "SELECT id, path, format, kind FROM file WHERE error IS NULL AND size > 0 AND verdict <> 'unrecoverable'"
            " AND (kind IN ('photo', 'video', 'audio') OR format = 'pdf')"
            " AND NOT EXISTS (SELECT 1 FROM thumbnail WHERE thumbnail.file = file.id) ORDER BY id"
        )
        return [(number, os.fsdecode(path), name, kind) for number, path, name, kind in rows]

    def put_pictures(self, pictures: Iterable[tuple[int, Small]]) -> None:
        """Stores small pictures; one with an empty JPEG says that there is none to be had."""
        with self._db:
            self._db.executemany("INSERT OR REPLACE INTO thumbnail VALUES (?, ?)", [(n, s.jpeg) for n, s in pictures])

    # Copies

    def same_sized(self) -> list[tuple[int, str, bytes | None]]:
        """(number, path, digest) of the files that share their size with another and hold any bytes."""
        rows = self._db.execute(
            "SELECT id, path, digest FROM file WHERE error IS NULL AND size IN"
            " (SELECT size FROM file WHERE size > 0 AND error IS NULL GROUP BY size HAVING count(*) > 1) ORDER BY id"
        )
        return [(number, os.fsdecode(path), digest) for number, path, digest in rows]

    def put_digests(self, digests: Iterable[tuple[int, bytes]]) -> None:
        """Stores the digest of files' bytes by their numbers."""
        with self._db:
            self._db.executemany("UPDATE file SET digest = ? WHERE id = ?", [(d, n) for n, d in digests])

    def looks(self) -> list[tuple[int, bytes | None, bytes | None, float, int, int, bool]]:
        """(number, digest, sight, score or -1, pixels, size, whether the name fits the content) of every file that has a digest or a sight."""
        rows = self._db.execute(
            "SELECT id, digest, sight, coalesce(score, -1), pixels, size, sorts FROM file"
            " WHERE digest IS NOT NULL OR sight IS NOT NULL ORDER BY id"
        )
        return [(*row[:6], Sort.NAME not in row[6].split("|")) for row in rows]

    def put_copies(self, standing: Iterable[tuple[int, str, int]]) -> list[int]:
        """Stores (number, copies, likeness) of all files that have copies; returns the numbers whose row changed."""
        wanted = {n: (words, group) for n, words, group in standing}
        with self._db:
            had = {
                n: (words, group)
                for n, words, group in self._db.execute("SELECT id, copies, likeness FROM file WHERE copies <> ''")
            }
            changed = [n for n in had.keys() | wanted.keys() if had.get(n) != wanted.get(n)]
            self._db.executemany(
                "UPDATE file SET copies = ?, likeness = ? WHERE id = ?", [(*wanted.get(n, ("", 0)), n) for n in changed]
            )
        return sorted(changed)

    # Repairs

    def add_repair(self, number: int, outcome: RepairOutcome, kept: bool) -> int:
        """Stores an outcome; where it is kept, no other repair of the file is."""
        with self._db:
            if kept:
                self._db.execute("UPDATE repair SET kept = 0 WHERE file = ?", (number,))
            cursor = self._db.execute(
                "INSERT INTO repair(file, status, output, method, donor, score_before, score_after, steps, error, kept, made)"
                " VALUES (?,?,?,?,?,?,?,?,?,?,?)",
                (
                    number, outcome.status.value, os.fsencode(outcome.output) if outcome.output else None, outcome.method,
                    os.fsencode(outcome.donor) if outcome.donor else None, outcome.score_before, outcome.score_after,
                    json.dumps(outcome.steps), outcome.error, int(kept), _now(),
                ),
            )  # fmt: skip
        return int(cursor.lastrowid or 0)

    def keep_repair(self, number: int, repair: int | None) -> None:
        """Keeps one repair of a file and no other; with None, none (the file itself goes out)."""
        with self._db:
            self._db.execute("UPDATE repair SET kept = (id = ?) WHERE file = ?", (repair or 0, number))

    def repairs(self, number: int | None = None) -> list[KeptRepair]:
        """The repairs of a file, or of the whole case."""
        where, values = ("WHERE r.file = ?", (number,)) if number is not None else ("", ())
        rows = self._db.execute(
            "SELECT r.id, r.file, f.path, r.status, r.output, r.method, r.donor, r.score_before, r.score_after, r.steps, r.error, r.kept"
            f" FROM repair r JOIN file f ON f.id = r.file {where} ORDER BY r.id",
            values,
        )
        return [
            KeptRepair(
                i, file,
                RepairOutcome(
                    os.fsdecode(path), RepairStatus(status), os.fsdecode(output) if output else None, method,
                    os.fsdecode(donor) if donor else None, before, after, tuple(json.loads(steps)), error,
                ),
                bool(kept),
            )
            for i, file, path, status, output, method, donor, before, after, steps, error, kept in rows
        ]  # fmt: skip

    # Deliveries

    def begin_delivery(self, target: str) -> int:
        with self._db:
            cursor = self._db.execute(
                "INSERT INTO delivery(target, started) VALUES (?, ?)", (os.fsencode(target), _now())
            )
        return int(cursor.lastrowid or 0)

    def add_delivered(self, delivery: int, file: int, origin: str, target: str, size: int, sha256: str) -> None:
        with self._db:
            self._db.execute(
                "INSERT OR REPLACE INTO delivered VALUES (?,?,?,?,?,?)",
                (delivery, file, os.fsencode(origin), os.fsencode(target), size, sha256),
            )

    def finish_delivery(self, delivery: int) -> None:
        with self._db:
            self._db.execute("UPDATE delivery SET finished = ? WHERE id = ?", (_now(), delivery))

    def delivered(self, target: str | None = None) -> dict[int, HandedOver]:
        """By file number the last copy of all that was delivered, to ``target`` where it is given."""
        where, values = ("WHERE d.target = ?", (os.fsencode(target),)) if target else ("", ())
        rows = self._db.execute(
            f"SELECT x.file, x.target, x.size, x.sha256, x.origin FROM delivered x JOIN delivery d ON d.id = x.delivery {where} ORDER BY d.id",
            values,
        )
        return {
            file: HandedOver(os.fsdecode(path), size, sha, os.fsdecode(origin))
            for file, path, size, sha, origin in rows
        }


_CODES = {code.value: code for code in FindingCode}
_COLUMNS = (
    "id, path, size, mtime_ns, kind, format, score, attainable, verdict, headline, error,"
    " camera, taken, pixels, preview, sorts, causes, copies, likeness"
)
_STORED = (
    "path", "size", "mtime_ns", "kind", "format", "score", "attainable", "verdict", "headline", "media", "seconds", "error",
    "camera", "taken", "pixels", "preview", "sorts", "causes", "sight",
)  # fmt: skip
#: A file examined anew loses its digest, which was of the bytes as they were.
_INSERT = (
    f"INSERT INTO file({', '.join(_STORED)}) VALUES ({','.join('?' * len(_STORED))}) ON CONFLICT(path) DO UPDATE SET "
    f"{', '.join(f'{c}=excluded.{c}' for c in _STORED[1:])}, digest=NULL, copies='', likeness=0 RETURNING id"
)
_KINDS = {kind.value: kind for kind in Kind}
_VERDICTS = {verdict.value: verdict for verdict in Verdict}


def _row(r: Sequence) -> FileRow:
    number, path, size, mtime, kind, name, score, attainable, verdict, headline, error, *rest = r
    camera, taken, pixels, preview, sorts, causes, copies, likeness = rest
    return FileRow(
        number, os.fsdecode(path), size, mtime, _KINDS[kind], name, score, attainable, _VERDICTS[verdict], headline, error,
        camera, taken, pixels, bool(preview), sorts, causes, copies, likeness,
    )  # fmt: skip
