"""Copies within a case: the same bytes under several names, the same picture in several sizes; and which is the best."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np
import xxhash
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from jugal.case.store import Case
from jugal.engine.sight import distances

_BLOCK = 1 << 22
#: Signatures of one picture re-encoded or scaled differ in fewer bits than this; those of two shots of a series in more.
_ALIKE_BITS = 10
_CROWD = 400


class Standing(StrEnum):
    """How a file stands to its copies."""

    IDENTICAL_FIRST = "first of identical files"
    IDENTICAL = "identical to another"
    ALIKE_BEST = "best of one picture"
    ALIKE = "same picture as a better one"


@dataclass(frozen=True, slots=True)
class Look:
    """What copies are told by: ``score`` is -1 where there is none, ``named`` false where the name lies."""

    number: int
    digest: bytes | None
    sight: bytes | None
    score: float
    pixels: int
    size: int
    named: bool = True

    @property
    def rank(self) -> tuple[float, int, int, bool, int]:
        """The best copy has the highest: by score, pixels and bytes, then a true name, then the first that was found."""
        return self.score, self.pixels, self.size, self.named, -self.number


def digest_of(path: str) -> bytes | None:
    """A digest of 128 bits of a file's bytes, None where it cannot be read. It tells equality, it proves nothing."""
    hasher = xxhash.xxh3_128()
    try:
        with open(path, "rb", buffering=0) as stream:
            while block := stream.read(_BLOCK):
                hasher.update(block)
    except OSError:
        return None
    return hasher.digest()


def find_copies(case: Case) -> Iterator[tuple[int, ...]]:
    """Reads what has to be read, groups the case's files anew and stores it; yields numbers of rows that changed.

    Empty tuples come between files read, so that whoever waits can stop.
    """
    fresh: list[tuple[int, bytes]] = []
    for number, path, digest in case.same_sized():
        if digest is not None:
            continue
        found = digest_of(path)
        if found is not None:
            fresh.append((number, found))
        if len(fresh) >= 200:
            case.put_digests(fresh)
            fresh = []
        yield ()
    case.put_digests(fresh)
    yield tuple(case.put_copies(standings([Look(*row) for row in case.looks()])))


def standings(looks: Sequence[Look]) -> list[tuple[int, str, int]]:
    """(number, standing, group) of every file that has a copy among ``looks``."""
    out: list[tuple[int, str, int]] = []
    by_bytes: dict[tuple[bytes, int], list[Look]] = defaultdict(list)
    for look in looks:
        if look.digest is not None:
            by_bytes[look.digest, look.size].append(look)
    further: set[int] = set()
    for group in by_bytes.values():
        if len(group) > 1:
            first = max(group, key=lambda look: look.rank).number
            for look in group:
                if look.number != first:
                    further.add(look.number)
                    out.append((look.number, Standing.IDENTICAL.value, first))
    single = [look for look in looks if look.number not in further]
    alike: set[int] = set()
    for pictures in _alike([look for look in single if look.sight is not None]):
        best = max(pictures, key=lambda look: look.rank)
        for look in pictures:
            alike.add(look.number)
            standing = Standing.ALIKE_BEST if look is best else Standing.ALIKE
            out.append((look.number, standing.value, best.number))
    firsts = {group for _, words, group in out if words == Standing.IDENTICAL.value}
    out += [(number, Standing.IDENTICAL_FIRST.value, number) for number in firsts - alike]
    return out


def _alike(looks: list[Look]) -> Iterator[list[Look]]:
    """Groups of pictures whose signatures are nearly equal.

    Signatures that differ in at most 10 of 256 bits agree in one of 11 bands at least; only those that share
    a band are compared, so that the cost stays with the number of likely pairs.
    """
    if len(looks) < 2:
        return
    sights = np.frombuffer(b"".join(look.sight or b"" for look in looks), np.uint8).reshape(len(looks), 32)
    bits = np.unpackbits(sights, axis=1)
    pairs: list[tuple[int, int]] = []
    for band in np.array_split(np.arange(256), _ALIKE_BITS + 1):
        _, group = np.unique(np.packbits(bits[:, band], axis=1), axis=0, return_inverse=True)
        order = np.argsort(group, kind="stable")
        for members in np.split(order, np.flatnonzero(np.diff(group[order])) + 1):
            # A band that a crowd shares tells nothing (one-coloured skies): its neighbours in order stand for it.
            for at in range(len(members) - 1):
                others = members[at + 1 : at + 1 + _CROWD]
                near = others[distances(sights[members[at]], sights[others]) <= _ALIKE_BITS]
                pairs.extend((int(members[at]), int(other)) for other in near)
    if not pairs:
        return
    links = np.array(pairs)
    graph = coo_array((np.ones(len(links), np.int8), (links[:, 0], links[:, 1])), shape=(len(looks), len(looks)))
    _, label = connected_components(graph, directed=False)
    order = np.argsort(label, kind="stable")
    for members in np.split(order, np.flatnonzero(np.diff(label[order])) + 1):
        if len(members) > 1:
            yield [looks[i] for i in members]
