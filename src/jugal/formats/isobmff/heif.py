"""HEIC and AVIF still pictures (ISO/IEC 23008-12): every item's place and the chain of units in it."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from jugal.formats.base import Report, Subject
from jugal.formats.fills import foreign_text, holes
from jugal.formats.isobmff.boxes import Box, Tree, find_box
from jugal.formats.isobmff.following import still_fault
from jugal.formats.isobmff.items import CODED, Item, Items, read_items
from jugal.formats.isobmff.pictures import pictures_share
from jugal.formats.isobmff.video import VideoStream, read_avc_record, read_hevc_record
from jugal.formats.jpeg.parse import Frame, Structure
from jugal.formats.jpeg.preview import largest_preview
from jugal.formats.tiff.exif import capture_data, read_exif
from jugal.kernels.nal import walk_samples
from jugal.model import scoring
from jugal.model.codes import Cause, FindingCode
from jugal.model.finding import Severity
from jugal.model.span import ByteSpan
from jugal.model.strip import Matter

#: Brands of still pictures (ISO/IEC 23008-12 10, AVIF, CR3).
_STILL_BRANDS = frozenset((b"heic", b"heix", b"mif1", b"msf1", b"avif", b"avis", b"crx "))
#: Share of a file that is still pictures where nothing else is, and percent that such are worth with a lent index.
_MOSTLY, _LENT = 0.5, 95.0
_MOST_EXIF = 1 << 20
#: By how much items have moved most likely: whole sectors and clusters lost or put in. Else they are sought nearby.
_LIKELY = tuple(sign * unit * k for unit in (512, 4096, 32768) for k in range(1, 9) for sign in (-1, 1))
_REACH, _MOST_TRIED = 1 << 18, 4096
#: Items that were sought in vain after which no more are: their data are gone, not moved.
_MOST_GIVEN_UP = 3
#: Open bitstream units of AV1 that may begin an item or follow in it (AV1 6.2.2).
_OBU_KINDS = frozenset({1, 2, 3, 4, 5, 6, 7, 8, 15})


def _size_of_primary(subject: Subject, meta: Box) -> tuple[int, int] | None:
    """The largest image spatial extent: the picture itself, since tiles and thumbnails are smaller."""
    ipco = meta.child(b"iprp", b"ipco")
    sizes = []
    for box in ipco.all(b"ispe") if ipco else []:
        raw = subject.source.read(box.body, 12)
        if len(raw) == 12:
            sizes.append((int.from_bytes(raw[4:8], "big"), int.from_bytes(raw[8:12], "big")))
    return max(sizes, key=lambda s: s[0] * s[1], default=None)


def examine_items(subject: Subject, report: Report, tree: Tree, meta: Box) -> None:
    """Judges a still picture by the items it is made of; damage to others is minor."""
    size = _size_of_primary(subject, meta)
    if size:
        report.media.update(width=size[0], height=size[1])
    items = read_items(subject.source, meta)
    if items is None:
        report.add(
            FindingCode.MP4_TABLES,
            Severity.FATAL,
            "The item locations are missing or cut short.",
            meta.start,
            meta.end,
        )
        report.score = report.attainable = 0.0
        plan_donor_items(subject, report)
        plan_preview(subject, report, size)
        return
    _capture_data(subject, report, items)
    picture = [i for i in items.picture() if i.extents]
    parts = {i.ident for i in picture} or {i.ident for i in items.by_ident.values()}
    if len(picture) > 1:
        report.media["tiles"] = len(picture)
    good = total = 0.0
    for item in items.by_ident.values():
        own = item.ident in parts
        if own and item.kind in CODED and item.extents and not item.size:
            report.add(
                FindingCode.MP4_TABLES,
                Severity.MAJOR,
                f"Item {item.ident} of the picture has no data.",
                meta.start,
                meta.end,
            )
            total += 1
            continue
        if not item.extents:
            continue
        label = f"item {item.ident}" if own else items.role(item.ident)
        for offset, length in item.extents:
            report.mark(offset, min(offset + length, subject.size), Matter.PAYLOAD if own else Matter.STRUCTURE, label)
        share = _judge(subject, report, item, own, label)
        if own:
            # Tiles are of one size; each shows as far as it reads.
            good += share
            total += 1
    report.score = report.attainable = scoring.share(good, total)
    if good < total:
        moved = find_moved(subject, meta, items)
        best = scoring.share(_with_moved(subject, picture, moved), total) if moved else 0.0
        if best > report.score + 1:
            report.plan("fix-items", f"Correct where {len(moved):,} items are said to lie.", best)
            report.attainable = best
        plan_preview(subject, report, size)
    report.add(FindingCode.STATISTICS_ONLY, Severity.NOTE, "The coded items were followed unit by unit, not decoded.")


def is_still(subject: Subject) -> bool:
    """Whether a file without an index is a still picture: by its brand, else by the pictures that most of it is."""
    if subject.source.read(4, 4) == b"ftyp":
        return subject.source.read(8, 4) in _STILL_BRANDS
    if find_box(subject.source, b"moof", frozenset({b"mfhd"})) is not None:
        return False
    return pictures_share(subject.source)[1] >= _MOSTLY


def plan_donor_items(subject: Subject, report: Report) -> None:
    """Pictures that are there with nothing to say what they are: a healthy file can lend its index."""
    coding, share = pictures_share(subject.source)
    if share > 0:
        report.attainable = _LENT * share
        report.plan(
            "donor-items",
            f"Lay the index of a healthy picture of the same camera over the {coding} pictures that are there.",
            report.attainable,
            True,
        )


def plan_preview(subject: Subject, report: Report, size: tuple[int, int] | None, worth: float = 1.0) -> None:
    """A whole JPEG picture that lies in the file, as a last resort, counted by its pixels and what such a picture is ``worth``."""
    main = Structure(0, False)
    if size:
        main.frame = Frame(0xC0, 8, size[1], size[0], ())
    preview = largest_preview(subject, main)
    if preview is not None:
        what = f"Take out the preview of {preview.width} × {preview.height} pixels that is whole."
        report.plan("extract-preview", what, worth * preview.share)


def _with_moved(subject: Subject, picture: list[Item], moved: dict[int, int]) -> float:
    """How many of the picture's items are good, in wholes and parts, with the offsets in ``moved``."""
    scrap = Report()
    return sum(
        _judge(
            subject,
            scrap,
            replace(i, extents=[(moved.get(i.ident, i.extents[0][0]), i.extents[0][1]), *i.extents[1:]]),
            True,
            "",
        )
        for i in picture
    )


def find_moved(subject: Subject, meta: Box, items: Items) -> dict[int, int]:
    """By item the offset at which its units make sense where they do not at the stated one; items in one piece only.

    Bytes lost or put in move all that comes after them by the same amount, so what one item needs the next most likely
    does. What is no coded picture moves with the items around it.
    """
    found: dict[int, int] = {}
    by_place = sorted((i for i in items.by_ident.values() if len(i.extents) == 1), key=lambda i: i.extents[0][0])
    delta, given_up = 0, 0
    for item in by_place:
        offset, length = item.extents[0]
        if item.kind not in CODED:
            if delta:
                found[item.ident] = offset + delta
            continue
        for near in (delta, *_LIKELY):
            at = offset + near
            if at >= 0 and at + length <= subject.size and first_fault(subject, item, at, at + length, False) is None:
                delta = near
                break
        else:
            moved = _sought(subject, item, offset + delta, length) if given_up < _MOST_GIVEN_UP else None
            if moved is None:
                given_up += 1
                continue
            delta = moved - offset
        if delta:
            found[item.ident] = offset + delta
    return found


def _sought(subject: Subject, item: Item, near: int, length: int) -> int | None:
    """The place nearest to ``near`` from which units of an item's ``length`` chain; None where there is none."""
    stream = _stream(subject, item)
    if stream is None or stream.prefix != 4 or item.kind not in (b"hvc1", b"avc1"):
        return None
    low, high = max(0, near - _REACH), min(subject.size - length + 1, near + _REACH)
    if high <= low:
        return None
    window = subject.source.array[low : high + 4].astype(np.int64)
    units = (window[:-4] << 24) | (window[1:-3] << 16) | (window[2:-2] << 8) | window[3:-1]
    fitting = np.flatnonzero((units >= 2) & (units + 4 <= length)) + low
    for at in fitting[np.argsort(np.abs(fitting - near), kind="stable")][:_MOST_TRIED].tolist():
        # The chain breaks at once nearly everywhere; only where it does not are the bytes looked at.
        if _chain_fault(subject, item, at, at + length) is None:
            return at if first_fault(subject, item, at, at + length, False) is None else None
    return None


def _capture_data(subject: Subject, report: Report, items: Items) -> None:
    """What the Exif item says of the picture's making (ISO/IEC 23008-12 A.2.1): a TIFF structure behind an offset."""
    for item in items.by_ident.values():
        if item.kind == b"Exif" and len(item.extents) == 1 and item.size < _MOST_EXIF:
            data = subject.source.read(*item.extents[0])
            report.media.update(capture_data(read_exif(data[4 + int.from_bytes(data[:4], "big") :])))
            return


def _judge(subject: Subject, report: Report, item: Item, own: bool, label: str) -> float:
    """Share of the item before its first fault, 0..1; the fault becomes a finding."""
    severity = Severity.MAJOR if own else Severity.MINOR
    done = 0
    for offset, length in item.extents:
        end = min(offset + length, subject.size)
        if offset + length > subject.size:
            missing = offset + length - max(offset, subject.size)
            report.add(
                FindingCode.MP4_OUTSIDE, severity, f"{missing:,} bytes of the {label} lie past the end of the file.",
                subject.size, subject.size, Cause.CUT_SHORT,
            )  # fmt: skip
        whole = offset < end and end == offset + length
        fault = first_fault(subject, item, offset, end, cut=not whole) if offset < end else None
        if fault is None and whole and (place := _slice_fault(subject, item, offset, end)) is not None:
            fault = place, FindingCode.MP4_SAMPLE, "The slices of the {} break.", end, None
        if fault is not None:
            at, code, sentence, stop, cause = fault
            report.add(code, severity, sentence.format(label), at, stop, cause)
            report.mark(at, stop, Matter.HOLE if code is FindingCode.MP4_HOLE else Matter.FOREIGN)
            return (done + at - offset) / max(1, item.size)
        if end < offset + length:
            return (done + max(0, end - offset)) / max(1, item.size)
        done += length
    return 1.0


def first_fault(
    subject: Subject, item: Item, start: int, end: int, cut: bool
) -> tuple[int, FindingCode, str, int, Cause | None] | None:
    """The first place of an extent that is filled, foreign or breaks the chain of its units, which ends early in a cut one."""
    span = ByteSpan(start, end)
    faults: list[tuple[int, FindingCode, str, int, Cause | None]] = [
        (f.span.start, FindingCode.MP4_HOLE, "A filled run lies in the {}.", f.span.end, Cause.UNREADABLE)
        for f in holes(subject, span)[:1]
    ]
    if item.kind in (b"hvc1", b"av01", b"avc1"):
        foreign = [s for s in (*foreign_text(subject, span), *subject.blocks.patterns) if s.clip(span).length]
        faults += [
            (
                max(s.start, start),
                FindingCode.MP4_SAMPLE,
                "Foreign bytes lie in the {}.",
                min(s.end, end),
                Cause.OVERWRITTEN,
            )
            for s in foreign
        ]
        at = None if cut else _chain_fault(subject, item, start, end)
        if at is not None:
            faults.append((at, FindingCode.MP4_SAMPLE, "The chain of units in the {} breaks.", end, None))
    return min(faults, key=lambda f: f[0], default=None)


def _chain_fault(subject: Subject, item: Item, start: int, end: int) -> int | None:
    """Where the units of a coded extent stop making sense; None where they lead to its end.

    An item in several extents may break a unit between them, so only items in one piece are followed.
    """
    if len(item.extents) > 1:
        return None
    if item.kind == b"av01":
        return _obu_fault(subject, start, end)
    stream = _stream(subject, item)
    if stream is None:
        return None
    state, where = np.zeros(1, np.int8), np.zeros(1, np.int64)
    offsets, sizes = np.array([start], np.int64), np.array([end - start], np.int64)
    hevc = item.kind == b"hvc1"
    walk_samples(subject.source.array, offsets, sizes, stream.prefix, hevc, True, state, where)
    return int(where[0]) if state[0] else None


def _slice_fault(subject: Subject, item: Item, start: int, end: int) -> int | None:
    """Where the slices of an item in one piece stop making sense, whose units are in order; None where they do not."""
    stream = _stream(subject, item) if len(item.extents) == 1 and end - start <= subject.limits.followed else None
    at = still_fault(subject.source.read(start, end - start), stream) if stream is not None else None
    return start + at if at is not None else None


def _stream(subject: Subject, item: Item) -> VideoStream | None:
    """The parameter sets of the item's configuration; None where it has none."""
    for box in item.properties:
        if box.kind in (b"hvcC", b"avcC"):
            body = subject.source.read(box.body, box.end - box.body)
            return read_hevc_record(body) if box.kind == b"hvcC" else read_avc_record(body)
    return None


def _obu_fault(subject: Subject, start: int, end: int) -> int | None:
    """Open bitstream units (AV1 5.3): a header, a size, as many bytes, to the end of the item."""
    at = start
    while at < end:
        head = subject.source.uint(at, 1) or 0
        if head & 0x81 or (head >> 3 & 15) not in _OBU_KINDS:
            return at
        here = at + 1 + (head >> 2 & 1)
        if not head & 2:
            return None  # the last unit may leave its size out and go on to the end
        size = shift = 0
        for _ in range(8):
            byte = subject.source.uint(here, 1)
            if byte is None:
                return at
            size |= (byte & 127) << shift
            shift += 7
            here += 1
            if byte < 128:
                break
        else:
            return at
        if here + size > end:
            return at
        at = here + size
    return None
