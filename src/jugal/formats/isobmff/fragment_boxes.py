"""Boxes of movie fragments (ISO/IEC 14496-12 8.8.4 to 8.8.8) whose names, sizes, flags or numbers of samples contradict what
they hold."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

from jugal.binary.source import Source
from jugal.formats.isobmff.boxes import Box, Tree
from jugal.formats.isobmff.faults import Fault
from jugal.formats.isobmff.movie import Movie
from jugal.formats.isobmff.nesting import wrong_boxes
from jugal.formats.isobmff.runs import COLUMNS, Part, Run, head_length, run_length

_NUMBERED = b"\0\0\0\x10mfhd"
#: Boxes that a fragment's own index is made of.
_NEEDED = frozenset({b"mfhd", b"traf"})
_WITHIN = _NEEDED | {b"uuid", b"meta", b"pssh", b"free", b"skip"}
_MOST = 4096


def wrong_heads(source: Source, tree: Tree) -> list[Fault]:
    """Fragments whose own index has another name or size than what it holds says."""
    places = [box.start for box in tree.top]
    if tree.broken_at is not None:
        places.append(tree.broken_at)
    found = []
    for at in places:
        name = source.read(at + 4, 4)
        named = name == b"moof"
        if not named and source.read(at + 8, 8) != _NUMBERED:
            continue
        ends = _ends(source, at + 8)
        size = source.uint(at, 4) or 0
        if not ends or (named and at + size in ends):
            continue
        stop = ends[-1]
        said = (
            f"The fragment at {at:,} states {size:,} bytes of index where {stop - at:,} lie before its media data."
            if named
            else f"What reads as a fragment at {at:,} is not called one."
        )
        found.append(Fault(None, said, at, at + 8, ((at, (stop - at).to_bytes(4, "big") + b"moof"),)))
        if len(found) >= _MOST:
            break
    return found


def _ends(source: Source, at: int) -> list[int]:
    """Where the boxes of a fragment's index that begin at ``at`` may end, before room or the media data that follow; none
    where nothing does or they are not those of a fragment."""
    kinds: set[bytes] = set()
    ends: list[int] = []
    for _ in range(_MOST):
        size, kind = source.uint(at, 4) or 0, source.read(at + 4, 4)
        if kind not in _WITHIN or size < 8:
            break
        kinds.add(kind)
        at += size
        ends = [at] if kind in _NEEDED else [*ends, at]
    return ends if kinds >= _NEEDED and source.read(at + 4, 4) == b"mdat" else []


def wrong_shapes(source: Source, tree: Tree) -> list[Fault]:
    """Names and sizes within fragments whose boxes are not those that others have, or do not add up."""
    moofs = [box for box in tree.all(b"moof") if not box.cut]
    shapes = [_shape(source, moof) for moof in moofs]
    usual = Counter(shapes)
    known = {shape for shape, times in usual.items() if shape and times > 1}
    found: list[Fault] = []
    for moof, shape in zip(moofs, shapes, strict=True):
        if shape not in known and len(found) < _MOST:
            found += wrong_boxes(source, moof)
    return found


def _shape(source: Source, moof: Box) -> tuple[bytes, ...]:
    """The kinds of boxes in ``moof``, in order; none where they do not fill it or their version is not that of their size."""
    kinds: list[bytes] = []
    for parent in (moof, *moof.all(b"traf")):
        at = parent.body
        for box in parent.children:
            if box.start != at or box.cut:
                return ()
            wide = box.end - box.body == 12
            if box.kind == b"tfdt" and source.read(box.body, 1) != bytes([wide]):
                return ()
            kinds.append(box.kind)
            at = box.end
        if at != parent.end:
            return ()
        kinds.append(b"")
    return tuple(kinds)


def wrong_lengths(movie: Movie) -> list[Fault]:
    """Headers and runs whose flags or numbers of samples ask for another size than their box has."""
    parts = [part for moof, parts in movie.fragments if not moof.cut for part in parts]
    heads = Counter((p.ident, p.flags) for p in parts if p.head is not None and _fits(p))
    runs = Counter((p.ident, r.flags) for p in parts for r in p.runs if _right(r))
    found: list[Fault] = []
    for part in parts:
        if part.head is not None and not _fits(part):
            found += _head_fault(part, heads)
        for run in part.runs:
            if not _right(run):
                found += _run_fault(part, run, runs)
        if len(found) >= _MOST:
            break
    return found


def _fits(part: Part) -> bool:
    assert part.head is not None
    return part.head.end - part.head.body == head_length(part.flags)


def _right(run: Run) -> bool:
    return run.box.end - run.box.body == run_length(run.flags, run.count)


def _turned(flags: int) -> Iterator[int]:
    """``flags`` with one bit of those that matter for the size turned over."""
    return (flags ^ bit for bit in (1, 2, 4, 8, 16, 32, *COLUMNS))


def _head_fault(part: Part, usual: Counter[tuple[int, int]]) -> list[Fault]:
    head = part.head
    assert head is not None
    length = head.end - head.body
    own = {flags: times for (ident, flags), times in usual.items() if ident == part.ident}
    near = sorted((f for f in own if head_length(f) == length), key=lambda f: ((f ^ part.flags).bit_count(), -own[f]))
    near = near or ([f for f in _turned(part.flags) if head_length(f) == length] if own else [])
    if not near:
        return []
    said = f"A track header of its fragments has flags {part.flags:#x}, for which it is not as long as it is."
    at = head.body + 1
    return [Fault(None, said, at, at + 3, ((at, near[0].to_bytes(3, "big")),))]


def _run_fault(part: Part, run: Run, usual: Counter[tuple[int, int]]) -> list[Fault]:
    """Flags or the number of samples put right: what others of the track have is believed first."""
    length, at = run.box.end - run.box.body, run.box.body + 1
    own = {flags for ident, flags in usual if ident == part.ident}
    candidates: list[tuple[int, int]] = []
    width = 4 * len(run.columns)
    fixed = run_length(run.flags, 0)
    if width and (length - fixed) % width == 0 and length > fixed:
        candidates.append((run.flags, (length - fixed) // width))
    candidates += [(f, run.count) for f in {*_turned(run.flags), *own} if run_length(f, run.count) == length]
    candidates = [c for c in candidates if c[0] in own] or candidates
    candidates = sorted(set(candidates), key=lambda c: ((c[0] ^ run.flags).bit_count(), c))
    if not candidates or not own:
        return []  # where none is as long as its figures say, all may be of another make
    flags, count = candidates[0]
    said = (
        f"A run of its fragments states {run.count:,} samples and lists {count:,}."
        if count != run.count
        else f"A run of its fragments has flags {run.flags:#x}, for which it is not as long as it is."
    )
    right = flags.to_bytes(3, "big") + count.to_bytes(4, "big")
    return [Fault(None, said, at, at + 7, ((at, right),))]
