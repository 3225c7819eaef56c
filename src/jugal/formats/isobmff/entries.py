"""Sample entries (ISO/IEC 14496-12 8.5.2, 12.1.3, 12.2.3) put right by their own make: sizes, names, and the lengths within what
decoders are told of a codec."""

from __future__ import annotations

import numpy as np

from jugal.binary.source import Source
from jugal.formats.isobmff.faults import Fault
from jugal.formats.isobmff.nesting import follow_boxes, is_plain, within
from jugal.formats.isobmff.tables import Track

#: The box in an entry of each codec without which it cannot be decoded, where there is one.
_PICTURES = {
    b"avc1": b"avcC", b"avc2": b"avcC", b"avc3": b"", b"avc4": b"", b"hvc1": b"hvcC", b"hvc2": b"hvcC", b"hvc3": b"hvcC",
    b"hev1": b"", b"hev2": b"", b"hev3": b"", b"lhv1": b"", b"lhe1": b"", b"dvh1": b"hvcC", b"dvhe": b"", b"dva1": b"",
    b"dvav": b"", b"vvc1": b"vvcC", b"vvi1": b"", b"mp4v": b"esds", b"s263": b"", b"h263": b"", b"av01": b"av1C",
    b"vp08": b"vpcC", b"vp09": b"vpcC", b"jpeg": b"", b"mjpa": b"", b"mjpb": b"", b"apch": b"", b"apcn": b"", b"apcs": b"",
    b"apco": b"", b"ap4h": b"", b"ap4x": b"", b"raw ": b"", b"png ": b"", b"CRAW": b"", b"dvc ": b"", b"dvcp": b"",
    b"encv": b"",
}  # fmt: skip
_SOUNDS = {
    b"mp4a": b"esds", b"alac": b"alac", b"twos": b"", b"sowt": b"", b"in24": b"", b"in32": b"", b"fl32": b"", b"fl64": b"",
    b"lpcm": b"", b"ipcm": b"pcmC", b"fpcm": b"pcmC", b"raw ": b"", b"alaw": b"", b"ulaw": b"", b"ac-3": b"dac3",
    b"ac-4": b"dac4", b"ec-3": b"dec3", b"Opus": b"dOps", b"fLaC": b"dfLa", b"samr": b"", b"sawb": b"", b"sawp": b"",
    b"mha1": b"", b"mhm1": b"", b"dtsc": b"", b"dtsh": b"", b"dtsl": b"", b"dtse": b"", b".mp3": b"", b"ima4": b"",
    b"enca": b"",
}  # fmt: skip
_MAY = b"""colr pasp clap btrt fiel gama sinf wave chan chnl srat pcmC damr d263 bitr mdcv clli SmDm CoLL st3d sv3d dvcC dvvC ccst
    free tims frma esds alac avcC hvcC av1C vpcC dac3 dec3 dOps dfLa rtmd colr uuid cios amve stsl lhvC oinf vexu hfov""".split()
#: Bytes of an entry before its boxes: of pictures, and of sound by version (QuickTime).
_PICTURE, _SOUND = 86, {0: 36, 1: 52, 2: 72}
#: A tag of a descriptor with a length of so many bytes (ISO/IEC 14496-1 8.3.3).
_LENGTHS = (4, 1)


def wrong_entry(source: Source, track: Track) -> list[Fault]:
    """What is wrong in the one sample entry of ``track``, as far as its make tells."""
    stsd = track.box.child(b"mdia", b"minf", b"stbl", b"stsd")
    codecs = {"video": _PICTURES, "audio": _SOUNDS}.get(track.kind)
    if stsd is None or stsd.cut or codecs is None or source.uint(stsd.body + 4, 4) != 1:
        return []
    at = stsd.body + 8
    size, room = source.uint(at, 4) or 0, stsd.end - at
    spare = 4 if room > 16 and not any(source.read(stsd.end - 4, 4)) and size in (room - 4, 0) else 0
    if room < 36:
        return []
    if size != room - spare:
        said = f"Its sample description states {size:,} bytes where {room:,} are there."
        return [_fault(track, said, at, (room - spare).to_bytes(4, "big"))] if size > room or size < 16 else []
    found = _head(source, track, at)
    codec = source.read(at + 4, 4)
    near = [k for k in codecs if sum(a != b for a, b in zip(k, codec, strict=True)) == 1]
    if codec not in codecs:
        # Names that can be read may be those of codecs that came up later, unless one lists what another one needs.
        near = [k for k in near if codecs[k] in source.read(at, size) and (codecs[k] or not is_plain(codec))]
        near = [k for k in near if codecs[k]] or near
        if not near or len({codecs[k] for k in near}) > 1 or (len(near) > 1 and not codecs[near[0]]):
            return found
        codec = near[0]
        said = f"Its codec is called none that is known; it reads as '{codec.decode()}'."
        # Where there is a descriptor, decoders take the codec from that.
        found.append(_fault(track, said, at + 4, codec, codecs[codec] != b"esds"))
    begin = _PICTURE if track.kind == "video" else _SOUND.get(source.uint(at + 16, 2) or 0, 36)
    return found + _boxes(source, track, codecs[codec], at + begin, at + size)


def _fault(track: Track, said: str, at: int, right: bytes, loses: bool = True) -> Fault:
    """A fault for which, where it ``loses`` the track, no decoder shows anything of it."""
    lost = np.ones(track.offsets.size, np.bool_) if loses else None
    return Fault(track, said, at, at + len(right), ((at, right),), lost)


def _head(source: Source, track: Track, at: int) -> list[Fault]:
    """The number of the data reference, of which there is one (8.5.2.2)."""
    dref = track.box.child(b"mdia", b"minf", b"dinf", b"dref")
    stated = source.uint(at + 14, 2) or 0
    if dref is None or source.uint(dref.body + 4, 4) != 1 or stated in (0, 1):
        return []
    return [_fault(track, f"Its data reference is number {stated:,} of one.", at + 14, b"\0\1", False)]


def _boxes(source: Source, track: Track, needed: bytes, at: int, end: int) -> list[Fault]:
    """Boxes of an entry that is else right; those in the wrapping of QuickTime's sound with them."""
    wrapped, told = source.read(at + 4, 4) == b"wave", track.coding is not None or track.layer is not None
    boxes, faults = follow_boxes(source, [needed] if needed and not wrapped else [], _MAY, at, end)
    for name, body, stop in boxes:
        if name == b"wave":
            inner, more = follow_boxes(source, *within(b"wave"), body, _before_end(source, body, stop))
            boxes, faults = boxes + inner, faults + more
    if faults:
        own = next((box for box in _chain(source, at, end) if source.read(box + 4, 4) == needed), None)
        shorter = any(
            f.at == own and (source.uint(f.at, 4) or 0) < int.from_bytes(f.patches[0][1][:4], "big") for f in faults
        )
        loses = needed != b"" and (shorter or (own is None and not wrapped) or (wrapped and not told))
        return [_fault(track, f.said, f.at, f.patches[0][1], loses) for f in faults if f.patches]
    for name, body, stop in boxes:
        checks = {b"avcC": _avc_record, b"esds": _descriptors}
        right = checks[name](source.read(body, stop - body)) if name in checks else None
        if right is not None:
            said = f"The lengths in its box '{name.decode()}' are not those of what it holds."
            unread = not told or (name == b"esds" and _claims_more(source, body, right))
            return [_fault(track, said, body, right, unread)]
    return []


def _chain(source: Source, at: int, end: int) -> list[int]:
    """Where boxes begin that follow one another from ``at`` as they say themselves; one that reaches too far is the last."""
    found: list[int] = []
    while at + 8 <= end and (size := source.uint(at, 4) or 0) >= 8:
        found.append(at)
        at += size
    return found


def _before_end(source: Source, at: int, end: int) -> int:
    """Where the boxes of a wrapping end, before the empty one that closes it."""
    return end - 8 if end - at >= 8 and source.read(end - 8, 8) == b"\0\0\0\x08\0\0\0\0" else end


def _avc_record(body: bytes) -> bytes | None:
    """The record of one sequence and one picture parameter set (ISO/IEC 14496-15 5.3.3.1) with its counts and lengths as they
    must be, where one byte is another; None where they are right or it is of another make."""
    if len(body) < 16 or body[8] & 31 != 7 or not body[5] & 31 or _sets_fit(body):
        return None  # one that lists none may leave them to the stream
    found = []
    for at in range(12, len(body)):
        for stop in (len(body), len(body) - 4):
            first, second = (at - 3 - 8).to_bytes(2, "big"), max(0, stop - at).to_bytes(2, "big")
            right = (
                b"\1" + body[1:5] + bytes([body[5] & 0xE0 | 1]) + first + body[8 : at - 3] + b"\1" + second + body[at:]
            )
            if _one_differs(right, body) and _sets_fit(right):
                found.append(right)
    return found[0] if len(set(found)) == 1 else None


def _sets_fit(body: bytes) -> bool:
    """The record's parameter sets lie where their lengths say, each of its kind, and at most an extension follows."""
    if body[0] != 1:
        return False
    at = 5
    for kind, mask in ((7, 31), (8, 255)):
        if at >= len(body) or not body[at] & mask:
            return False
        count, at = body[at] & mask, at + 1
        for _ in range(count):
            length = int.from_bytes(body[at : at + 2], "big")
            at += 2
            if not length or at + length > len(body) or body[at] & 0x9F != kind:
                return False
            at += length
    return len(body) - at in (0, 4) or (len(body) - at > 4 and body[at] & 0xFC == 0xFC)


def _claims_more(source: Source, body: int, right: bytes) -> bool:
    """Whether the decoder's configuration is said to reach behind the file's end, for which decoders give the file up.

    ``right`` is the descriptor at ``body`` as it must be, by which the configuration is found.
    """
    width = next(w for w in _LENGTHS if w == 1 or right[5] == 0x80)
    at, stated = body + 4 + 2 * (1 + width) + 16 + 1, 0
    for byte in source.read(at, 4):
        stated, at = stated << 7 | byte & 0x7F, at + 1
        if byte < 0x80:
            break
    return at + stated > source.size


def _one_differs(one: bytes, other: bytes) -> bool:
    return len(one) == len(other) and sum(a != b for a, b in zip(one, other, strict=True)) == 1


def _descriptors(body: bytes) -> bytes | None:
    """An elementary stream descriptor (ISO/IEC 14496-1 7.2.6.5) with tags and lengths as they must be, where one byte is
    another; None where it is right or of another make."""
    for width in _LENGTHS:
        outer = len(body) - 4 - 1 - width
        config = outer - 3 - (1 + width) - 13 - (1 + width) - (1 + width + 1)
        if not 2 <= config < 128 or outer >= 128:
            continue
        at = 4
        right = bytearray(body)
        for tag, length, fields in ((3, outer, 3), (4, 13 + 1 + width + config, 13), (5, config, config), (6, 1, 0)):
            right[at : at + 1 + width] = bytes([tag, *([0x80] * (width - 1)), length])
            at += 1 + width + fields
        right[at:] = b"\2"
        if _one_differs(bytes(right), body):
            return bytes(right)
    return None
