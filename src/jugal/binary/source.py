"""Read-only, bounded access to a file's bytes. A short read is a value, not an error."""

from __future__ import annotations

import mmap
import os
import stat
from bisect import bisect_left
from collections.abc import Iterable
from operator import itemgetter
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from jugal.binary.limits import DEFAULT_LIMITS, Limits
from jugal.kernels.blockstats import find_bytes

Bytes = NDArray[np.uint8]
_NEAR = 1 << 18


class SourceUnreadable(Exception):
    """The file could not be opened or read; the message is one sentence."""


class Source:
    """The bytes of one file. Everything outside ``0..size`` reads as nothing.

    ``array`` is a read-only uint8 array over all bytes: held in memory for small files, mapped for large.
    """

    def __init__(self, data: Bytes, name: str, keep: object = None) -> None:
        self.array = data
        self.name = name
        self.size = int(data.size)
        self._keep = keep

    @classmethod
    def from_bytes(cls, data: bytes, name: str = "memory") -> Source:
        return cls(np.frombuffer(data, dtype=np.uint8), name)

    @classmethod
    def open(cls, path: str | os.PathLike[str], limits: Limits = DEFAULT_LIMITS) -> Source:
        """Opens ``path`` read-only. Raises SourceUnreadable for anything but a readable regular file."""
        try:
            handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK | getattr(os, "O_NOATIME", 0))
        except PermissionError:
            handle = cls._open_plain(path)
        except OSError as error:
            raise SourceUnreadable(f"The file cannot be opened: {error.strerror}.") from error
        try:
            info = os.fstat(handle)
            if not stat.S_ISREG(info.st_mode):
                raise SourceUnreadable("This is not a regular file.")
            if info.st_size == 0:
                return cls(np.empty(0, np.uint8), os.fspath(path))
            if info.st_size <= limits.read_at_once:
                data = np.empty(info.st_size, np.uint8)
                view = memoryview(data)  # type: ignore[arg-type]
                done = 0
                while done < info.st_size:
                    count = os.preadv(handle, [view[done:]], done)
                    if count == 0:
                        break
                    done += count
                data = data[:done]
                data.flags.writeable = False
                return cls(data, os.fspath(path))
            if info.st_size <= limits.read_through:
                cls._read_through(handle, info.st_size)
            mapped = mmap.mmap(handle, 0, access=mmap.ACCESS_READ)
            mapped.madvise(mmap.MADV_SEQUENTIAL)
            return cls(np.frombuffer(mapped, dtype=np.uint8), os.fspath(path), mapped)
        except OSError as error:
            raise SourceUnreadable(f"The file cannot be read: {error.strerror}.") from error
        finally:
            os.close(handle)

    @staticmethod
    def _read_through(handle: int, size: int) -> None:
        """Reads all bytes once: an OSError tells of a bad medium, where reading the mapping would end the process."""
        room = bytearray(min(size, 1 << 20))
        for at in range(0, size, len(room)):
            os.preadv(handle, [room], at)

    @staticmethod
    def _open_plain(path: str | os.PathLike[str]) -> int:
        # O_NOATIME is refused on files of other owners; reading them is still allowed.
        try:
            return os.open(path, os.O_RDONLY | os.O_NONBLOCK)
        except OSError as error:
            raise SourceUnreadable(f"The file cannot be opened: {error.strerror}.") from error

    def release(self) -> None:
        """Gives back the memory that bytes of a mapped file took when they were read; they are read again where they are needed."""
        if isinstance(self._keep, mmap.mmap):
            self._keep.madvise(mmap.MADV_DONTNEED)

    @property
    def suffix(self) -> str:
        """The file name's extension, lower case, without the dot."""
        return Path(self.name).suffix.lower().lstrip(".")

    def read(self, start: int, length: int) -> bytes:
        """Up to ``length`` bytes from ``start``; fewer at the end, none outside."""
        if start < 0 or length <= 0 or start >= self.size:
            return b""
        return self.array[start : start + length].tobytes()

    def view(self, start: int, length: int) -> bytes | memoryview:
        """What ``read`` gives, without a copy where none is needed."""
        if start < 0 or length <= 0 or start >= self.size:
            return b""
        return memoryview(self.array[start : start + length])  # type: ignore[arg-type]

    def uint(self, start: int, length: int, order: str = "big") -> int | None:
        """An unsigned integer of ``length`` bytes, or None where the file is too short."""
        data = self.read(start, length)
        if len(data) < length:
            return None
        return int.from_bytes(data, "big" if order == "big" else "little")

    def find(self, needle: bytes, start: int = 0, end: int | None = None) -> int:
        """Offset of the first ``needle`` of two bytes or more at or after ``start`` that ends by ``end``; -1 if none."""
        stop = self.size if end is None else min(end, self.size)
        at = max(0, start)
        # Most is found or not in a few kilobytes, which bytes do themselves; long stretches are not copied.
        near = min(stop, at + _NEAR)
        hit = self.array[at:near].tobytes().find(needle) if at < near else -1
        if hit >= 0 or near == stop:
            return at + hit if hit >= 0 else -1
        found = int(find_bytes(self.array, np.frombuffer(needle, np.uint8), near - len(needle) + 1, stop))
        self.release()
        return found

    def rfind(self, needle: bytes, start: int = 0, end: int | None = None) -> int:
        """Offset of the last ``needle`` that lies in ``start..end``; -1 if none."""
        stop = self.size if end is None else min(end, self.size)
        window = 1 << 22
        overlap = len(needle) - 1
        while stop > start:
            low = max(start, stop - window - overlap)
            hit = self.array[low:stop].tobytes().rfind(needle)
            if hit >= 0:
                return low + hit
            if low == start:
                break
            stop = low + overlap
        return -1


class PatchedSource(Source):
    """A source as it would read with other bytes at some places; ``array`` and searches still see the bytes themselves."""

    def __init__(self, source: Source, patches: Iterable[tuple[int, bytes]]) -> None:
        super().__init__(source.array, source.name, source)
        self._source = source
        # Of two at one place the later one counts.
        self._patches = sorted(patches, key=itemgetter(0))
        self._start = self._patches[0][0] if self._patches else self.size
        self._end = max((at + len(data) for at, data in self._patches), default=0)
        self._longest = max((len(data) for _, data in self._patches), default=0)

    def view(self, start: int, length: int) -> bytes:
        return self.read(start, length)

    def read(self, start: int, length: int) -> bytes:
        data = self._source.read(start, length)
        end = start + len(data)
        if end <= self._start or start >= self._end:
            return data
        changed = bytearray(data)
        near = slice(
            bisect_left(self._patches, start - self._longest, key=itemgetter(0)),
            bisect_left(self._patches, end, key=itemgetter(0)),
        )
        for at, patch in self._patches[near]:
            low, high = max(at, start), min(at + len(patch), end)
            if low < high:
                changed[low - start : high - start] = patch[low - at : high - at]
        return bytes(changed)
