"""Judges ZIP archives and the packages built on them: every member inflated and checked."""

from __future__ import annotations

import itertools

from jugal.formats.base import Report, Subject
from jugal.formats.zip.members import Content, all_contents
from jugal.formats.zip.names import format_of_members
from jugal.formats.zip.package import ESSENTIAL, is_body, is_xml, xml_error
from jugal.formats.zip.parse import Archive, find_moved, read_archive, scan_locals
from jugal.model import scoring
from jugal.model.codes import Cause, FindingCode
from jugal.model.finding import Severity
from jugal.model.result import Region
from jugal.model.strip import Matter

_WORDS = {
    "broken": (FindingCode.ZIP_MEMBER, "its compressed data breaks"),
    "short": (FindingCode.ZIP_MEMBER, "its data ends early"),
    "gone": (FindingCode.ZIP_MEMBER, "it lay ahead of where the file begins now"),
    "crc": (FindingCode.ZIP_CRC, "its content does not match its CRC"),
    "no-header": (FindingCode.ZIP_LOCAL, "its local header is damaged"),
    "bomb": (FindingCode.ZIP_BOMB, "it inflates beyond every reasonable size and was not followed"),
}


def gather(subject: Subject) -> tuple[Archive, list[Content], bool]:
    """The archive, its members' contents, and whether the directory served (else local headers were scanned)."""
    archive = read_archive(subject.source, subject.limits)
    served = archive.end_at is not None and archive.directory_ok
    members = list(archive.members)
    if served:
        find_moved(subject.source, members, subject.limits)
    else:
        by_place = {m.local: m for m in members}
        for member in scan_locals(subject.source, subject.limits):
            by_place.setdefault(member.local, member)
        members = sorted(by_place.values(), key=lambda m: m.local)
    archive.locals = members
    return archive, all_contents(subject, archive, members), served


def examine(subject: Subject, report: Report) -> None:
    """Examines the archive in ``subject``; never raises for its content."""
    archive, contents, served = gather(subject)
    names = {m.text for m in archive.locals}
    mimetype = next((c.data.strip() for c in contents if c.member.name == b"mimetype"), b"")
    kind = format_of_members(names, mimetype)
    report.format = kind
    _structure(subject, report, archive, contents, served)
    opens = served
    if not contents and not archive.locals:
        if archive.end_at is not None and archive.stated_entries == 0:
            report.score = report.attainable = scoring.FULL
            return
        report.score = report.attainable = 0.0
        return
    report.media["entries"] = len(contents)
    now, best, total = 0, 0, 0
    broken_parts: set[str] = set()
    salvageable = False
    for content in contents:
        name = content.member.text
        total += 1
        _member_finding(report, content, kind)
        if content.whole:
            now += 1
            best += 1
        elif content.state in ("no-header", "moved"):
            best += 1
        else:
            # What is saved of it opens again, but it is not whole: only whole entries count.
            broken_parts.add(name)
            salvageable |= content.share > 0 and is_xml(name) and kind != "zip"
    missing = archive.stated_entries - len(archive.locals) if archive.stated_entries > len(archive.locals) else 0
    if kind == "zip":
        total += missing
    for part in ESSENTIAL.get(kind, ()):
        if part not in names:
            broken_parts.add(part)
            report.add(
                FindingCode.PACKAGE_PART,
                Severity.FATAL,
                f"The part {part} that the document needs is missing.",
            )
    _well_formed(report, contents, kind)
    score, attainable = scoring.share(now, total), scoring.share(best, total)
    essential_lost = [p for p in ESSENTIAL.get(kind, ()) if p in broken_parts]
    if not opens or any(p not in names for p in essential_lost):
        score = min(score, scoring.UNOPENABLE)
    if essential_lost and any(not is_body(kind, p) and p not in names for p in essential_lost):
        attainable = min(attainable, 90.0)
    report.score, report.attainable = score, max(score, attainable)
    for content in contents:
        if not content.whole:
            low, high = content.member.local / subject.size, content.packed_end / subject.size
            report.regions.append(Region(min(low, 1.0), min(max(low, high), 1.0), content.member.text))
    if not served or (report.worst is not Severity.NOTE and (attainable > score or salvageable)):
        what = (
            "Write the central directory anew from the members' own headers."
            if not served
            else "Write the archive anew from its good members, damaged ones as far as they go."
        )
        report.plan("rebuild-directory" if not served else "salvage-members", what, report.attainable)
    elif report.worst is not Severity.NOTE:
        report.plan(
            "salvage-members",
            "Write the archive anew from its good members, damaged ones as far as they go.",
            report.attainable,
        )


def _structure(subject: Subject, report: Report, archive: Archive, contents: list[Content], served: bool) -> None:
    size = subject.size
    for content in contents:
        report.mark(content.member.local, content.member.data, Matter.STRUCTURE, "local header")
        report.mark(
            content.member.data,
            content.packed_end,
            Matter.PAYLOAD if content.whole else Matter.DAMAGED,
            content.member.text,
        )
    if archive.directory_at is not None:
        report.mark(archive.directory_at, archive.end_at or size, Matter.STRUCTURE, "central directory")
    if archive.end_at is None:
        last = max((c.packed_end for c in contents), default=0)
        report.add(
            FindingCode.ZIP_END,
            Severity.FATAL,
            "The end record is missing, so that no program lists the archive.",
            max(last, 0) if last < size else size,
            size,
            Cause.CUT_SHORT,
        )
        return
    end = archive.end_at + archive.end_length
    if not archive.directory_ok:
        at = archive.directory_at if archive.directory_at is not None else archive.end_at
        found = len(archive.members)
        place = at + sum(len(m.record) for m in archive.members)
        report.add(
            FindingCode.ZIP_DIRECTORY,
            Severity.FATAL,
            f"The central directory lists {found:,} of {archive.stated_entries:,} members.",
            min(place, size),
            archive.end_at,
        )
    if any(c.member.moved for c in contents):
        _moved_finding(report, contents)
    elif archive.base > 0:
        report.add(
            FindingCode.TAIL,
            Severity.NOTE,
            f"{archive.base:,} bytes stand before the archive.",
            0,
            archive.base,
        )
    if end < size:
        report.add(FindingCode.TAIL, Severity.NOTE, f"{size - end:,} bytes follow the end record.", end, size)
        report.mark(end, size, Matter.PAST_END)


def _moved_finding(report: Report, contents: list[Content]) -> None:
    """Members beside the place that the directory gives: bytes were put in or lost where that changes from one to the next."""
    ordered = sorted(contents, key=lambda c: c.member.local)
    moved = sum(bool(c.member.moved) for c in contents)
    for before, behind in itertools.pairwise(ordered):
        change = behind.member.moved - before.member.moved
        if change:
            at = _end_of_good(before)
            what = f"{abs(change):,} bytes were {'put in' if change > 0 else 'lost'} ahead of '{behind.member.text}'"
            break
    else:
        # All lie where they always did: it is the directory that came nearer or went away.
        at = next((_end_of_good(c) for c in ordered if c.state not in ("whole", "moved")), _end_of_good(ordered[-1]))
        change = ordered[0].member.moved
        what = f"{abs(change):,} bytes were {'lost' if change > 0 else 'put in'} behind them"
    report.add(
        FindingCode.ZIP_DIRECTORY,
        Severity.MAJOR,
        f"{moved:,} of {len(contents):,} members do not lie where the directory says: {what}.",
        at,
        at,
    )


def _end_of_good(content: Content) -> int:
    """Up to where a member is known to be whole."""
    return content.packed_end if content.place is None or content.whole else content.place


def _member_finding(report: Report, content: Content, kind: str) -> None:
    name = content.member.text
    if content.state == "encrypted":
        if not report.has(FindingCode.ZIP_ENCRYPTED):
            report.add(
                FindingCode.ZIP_ENCRYPTED,
                Severity.NOTE,
                "Members are encrypted; their content was not judged.",
            )
        return
    if content.state == "method":
        report.add(
            FindingCode.ZIP_METHOD,
            Severity.NOTE,
            f"'{name}' uses compression method {content.member.method}, which is not covered.",
        )
        return
    if content.whole or content.state == "moved":
        return
    code, words = _WORDS[content.state]
    place = content.place if content.place is not None else content.member.data
    cause = Cause.UNREADABLE if content.filled else (Cause.CUT_SHORT if content.state == "short" else None)
    severity = Severity.MINOR if "thumbnail" in name.lower() and kind != "zip" else Severity.MAJOR
    report.add(code, severity, f"'{name}' is damaged: {words}.", place, max(place, content.packed_end), cause)
    if content.filled:
        report.mark(place, content.packed_end, Matter.HOLE)


def _well_formed(report: Report, contents: list[Content], kind: str) -> None:
    """XML parts that pass their CRC were written so; ill-formed ones are a writer's oddity worth a note."""
    if kind == "zip":
        return
    for content in contents:
        if content.state == "whole" and is_xml(content.member.text) and content.length == len(content.data):
            error = xml_error(content.data)
            if error is not None:
                report.add(
                    FindingCode.PACKAGE_XML,
                    Severity.NOTE,
                    f"'{content.member.text}' is not well formed: {error[1]}.",
                )
