"""Reading and writing a case. One connection a thread; every write is a transaction."""

from __future__ import annotations

import datetime
import json
import os
import sqlite3
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import msgspec

from jugal.case.schema import CaseError, prepare
from jugal.model.codes import Cause, FindingCode
from jugal.model.finding import Finding, Severity
from jugal.model.result import (
    Examination,
    Kind,
    MediaValue,
    Region,
    RepairOutcome,
    RepairPlan,
    RepairStatus,
    Verdict,
)
from jugal.model.span import ByteSpan
from jugal.model.strip import StripSpan


@dataclass(frozen=True, slots=True)
class FileRow:
    """What a list of files shows of one."""

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
    media_json: str = "{}"
    error: str | None = None

    @property
    def media(self) -> dict[str, MediaValue]:
        """What the content says of itself; read only where it is asked for, since lists hold many rows."""
        return dict(json.loads(self.media_json))


@dataclass(frozen=True, slots=True)
class KeptRepair:
    """A repair made in this case."""

    id: int
    file: int
    outcome: RepairOutcome
    kept: bool


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

    def save(self, results: Iterable[tuple[Examination, int, bytes | None]]) -> list[int]:
        """Stores (examination, modification time, thumbnail JPEG) in one transaction; returns the files' numbers."""
        numbers = []
        with self._db:
            for examination, mtime_ns, jpeg in results:
                numbers.append(self._save_one(examination, mtime_ns, jpeg))
        return numbers

    def _save_one(self, e: Examination, mtime_ns: int, jpeg: bytes | None) -> int:
        db = self._db
        values = (
            os.fsencode(e.path), e.size, mtime_ns, e.kind.value, e.format, e.score, e.attainable, e.verdict.value,
            _headline(e), json.dumps(e.media), e.seconds, e.error,
        )  # fmt: skip
        number = db.execute(
            "INSERT INTO file(path, size, mtime_ns, kind, format, score, attainable, verdict, headline, media, seconds, error)"
            " VALUES (?,?,?,?,?,?,?,?,?,?,?,?) ON CONFLICT(path) DO UPDATE SET size=excluded.size, mtime_ns=excluded.mtime_ns,"
            " kind=excluded.kind, format=excluded.format, score=excluded.score, attainable=excluded.attainable,"
            " verdict=excluded.verdict, headline=excluded.headline, media=excluded.media, seconds=excluded.seconds,"
            " error=excluded.error RETURNING id",
            values,
        ).fetchone()[0]
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
        spans, regions = (msgspec.json.encode(x).decode() for x in (e.strip, e.regions))
        db.execute("INSERT INTO strip VALUES (?,?,?)", (number, spans, regions))
        if jpeg:
            db.execute("INSERT INTO thumbnail VALUES (?,?)", (number, jpeg))
        return int(number)

    def files(self, since: int = 0) -> Iterator[FileRow]:
        """All files with a number above ``since``, in the order they were first known."""
        cursor = self._db.execute(f"SELECT {_COLUMNS} FROM file WHERE id > ? ORDER BY id", (since,))
        return (_row(r) for r in cursor)

    def rows(self, numbers: Sequence[int]) -> list[FileRow]:
        """The rows with these numbers, in number order."""
        marks = ",".join("?" * len(numbers))
        return [
            _row(r)
            for r in self._db.execute(f"SELECT {_COLUMNS} FROM file WHERE id IN ({marks}) ORDER BY id", list(numbers))
        ]

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
        strip, regions = self.strip(number)
        return Examination(
            row.path, row.size, row.kind, row.format, row.score, row.attainable, row.verdict, findings, plans,
            row.media, strip, regions, error=row.error,
        )  # fmt: skip

    def strip(self, number: int) -> tuple[tuple[StripSpan, ...], tuple[Region, ...]]:
        row = self._db.execute("SELECT spans, regions FROM strip WHERE file = ?", (number,)).fetchone()
        if row is None:
            return (), ()
        spans = msgspec.json.decode(row[0], type=tuple[StripSpan, ...])
        return spans, msgspec.json.decode(row[1], type=tuple[Region, ...])

    def thumbnail(self, number: int) -> bytes | None:
        row = self._db.execute("SELECT jpeg FROM thumbnail WHERE file = ?", (number,)).fetchone()
        return row[0] if row else None

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

    def delivered(self, target: str | None = None) -> dict[int, tuple[str, int, str]]:
        """File number → (target path, size, SHA-256) of all that was delivered, to ``target`` where it is given."""
        where, values = ("WHERE d.target = ?", (os.fsencode(target),)) if target else ("", ())
        rows = self._db.execute(
            f"SELECT x.file, x.target, x.size, x.sha256 FROM delivered x JOIN delivery d ON d.id = x.delivery {where} ORDER BY d.id",
            values,
        )
        return {file: (os.fsdecode(path), size, sha) for file, path, size, sha in rows}


_CODES = {code.value: code for code in FindingCode}
_COLUMNS = "id, path, size, mtime_ns, kind, format, score, attainable, verdict, headline, media, error"


_KINDS = {kind.value: kind for kind in Kind}
_VERDICTS = {verdict.value: verdict for verdict in Verdict}


def _row(r: Sequence) -> FileRow:
    return FileRow(
        r[0], os.fsdecode(r[1]), r[2], r[3], _KINDS[r[4]], r[5], r[6], r[7], _VERDICTS[r[8]], r[9], r[10], r[11]
    )
