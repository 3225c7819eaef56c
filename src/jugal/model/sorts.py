"""The sorts of damage: finding codes of all formats brought under the few words a technician filters by."""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum

from jugal.model.codes import FindingCode
from jugal.model.finding import Finding, Severity


class Sort(StrEnum):
    """What is wrong, whatever the format."""

    HOLE = "a hole"
    FOREIGN = "foreign bytes"
    SHORT = "an end missing"
    HEADER = "a broken header"
    INDEX = "a broken index"
    CONTENT = "broken content"
    STRUCTURE = "broken structure"
    SURPLUS = "bytes too many"
    NAME = "a wrong name"
    REMARK = "a remark"


_C = FindingCode
_MEMBERS: dict[Sort, tuple[FindingCode, ...]] = {
    Sort.HOLE: (_C.EMPTY, _C.ONE_BYTE, _C.FILLER, _C.HOLE, _C.JPEG_HOLE, _C.MP4_HOLE, _C.WAV_HOLE, _C.MP3_HOLE),
    Sort.FOREIGN: (_C.FOREIGN, _C.JPEG_FOREIGN, _C.WAV_FOREIGN, _C.TEXT_BINARY),
    Sort.SHORT: (
        _C.JPEG_EOI, _C.JPEG_SHORT, _C.PNG_SHORT, _C.PNG_END, _C.WAV_SHORT, _C.MP3_SHORT, _C.FLAC_SHORT, _C.PDF_EOF, _C.TEXT_FORM,
    ),
    Sort.HEADER: (
        _C.JPEG_SOI, _C.JPEG_HEADER, _C.JPEG_TABLES, _C.PNG_SIGNATURE, _C.PNG_HEADER, _C.MP4_FTYP, _C.WAV_HEADER, _C.FLAC_MARKER,
        _C.FLAC_STREAMINFO, _C.PDF_HEADER,
    ),
    Sort.INDEX: (
        _C.MP4_INDEX, _C.MP4_INDEX_BROKEN, _C.MP4_TABLES, _C.MP4_OUTSIDE, _C.MP4_SHIFTED, _C.MP4_FRAGMENT, _C.PDF_XREF, _C.PDF_OFFSET,
        _C.PDF_TRAILER, _C.ZIP_END, _C.ZIP_DIRECTORY,
    ),
    Sort.CONTENT: (
        _C.JPEG_CODE, _C.JPEG_MARKER, _C.JPEG_RESTART, _C.JPEG_BREAK, _C.PNG_DATA, _C.PNG_CRC, _C.MP4_MEDIA, _C.MP4_SAMPLE, _C.WAV_DATA,
        _C.FLAC_FRAME, _C.FLAC_LOST, _C.MP3_COUNT, _C.PDF_STREAM, _C.ZIP_MEMBER, _C.ZIP_CRC,
    ),
    Sort.STRUCTURE: (
        _C.JPEG_SEGMENT, _C.JPEG_EXIF, _C.JPEG_FURTHER, _C.PNG_CHUNK, _C.PNG_CRC_ONLY, _C.BOX_SIZE, _C.BOX_DEPTH, _C.WAV_SIZE, _C.FLAC_METADATA,
        _C.PDF_PAGES, _C.PDF_LOOP, _C.PDF_OBJECT, _C.PDF_LENGTH, _C.ZIP_LOCAL, _C.PACKAGE_PART, _C.PACKAGE_XML,
    ),
    Sort.SURPLUS: (
        _C.TAIL, _C.FLAC_BEFORE, _C.JPEG_BEFORE, _C.JPEG_BETWEEN, _C.JPEG_SURPLUS, _C.PNG_SURPLUS, _C.MP3_JUNK, _C.FLAC_GAP,
    ),
    Sort.NAME: (_C.NAME,),
    Sort.REMARK: (
        _C.UNKNOWN, _C.STATISTICS_ONLY, _C.BUDGET, _C.EXAMINER, _C.JPEG_WALKED, _C.JPEG_PREVIEW, _C.PDF_ENCRYPTED, _C.ZIP_BOMB,
        _C.ZIP_ENCRYPTED, _C.ZIP_METHOD,
    ),
}  # fmt: skip
_SORT_OF = {code: sort for sort, codes in _MEMBERS.items() for code in codes}
#: Notes of these sorts say something that people look for; other notes do not.
_WORTH_A_NOTE = (Sort.SURPLUS, Sort.NAME)


def sort_of(code: FindingCode) -> Sort:
    """The sort a finding code belongs to."""
    return _SORT_OF[code]


def told_sort(code: FindingCode, severity: Severity) -> Sort | None:
    """The sort that a finding puts a file under; None for notes that nobody looks for."""
    sort = sort_of(code)
    return sort if severity is not Severity.NOTE or sort in _WORTH_A_NOTE else None


def sorts_of(findings: Iterable[Finding]) -> tuple[Sort, ...]:
    """The sorts of damage among ``findings``, each once, in the order of the enumeration."""
    found = {told_sort(f.code, f.severity) for f in findings}
    return tuple(sort for sort in Sort if sort in found)
