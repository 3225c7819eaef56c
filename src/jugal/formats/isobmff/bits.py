"""Header fields read bit by bit: parameter sets, slice headers, descriptors. For headers only, never for payload."""

from __future__ import annotations


def unescape(data: bytes) -> bytes:
    """A NAL unit's payload without its emulation prevention bytes (ISO/IEC 14496-10 7.4.1)."""
    if b"\0\0\3" not in data:
        return data
    out, at = bytearray(), 0
    while (hit := data.find(b"\0\0\3", at)) >= 0:
        out += data[at : hit + 2]
        at = hit + 3
    return bytes(out + data[at:])


class BitReader:
    """Big-endian bits of ``data``; zeros past the end, which ``overrun`` tells."""

    __slots__ = ("_left", "_value")

    def __init__(self, data: bytes) -> None:
        self._value, self._left = int.from_bytes(data, "big"), 8 * len(data)

    @property
    def overrun(self) -> bool:
        return self._left < 0

    def position(self, data: bytes) -> int:
        """How many bits of ``data``, which is being read, are behind."""
        return 8 * len(data) - self._left

    def take(self, count: int) -> int:
        """The next ``count`` bits as an unsigned number."""
        self._left -= count
        shifted = self._value >> self._left if self._left >= 0 else self._value << min(-self._left, 64)
        return shifted & ((1 << count) - 1)

    def skip(self, count: int) -> None:
        self._left -= count

    def more(self) -> bool:
        """There is more to come than the bit that ends it (7.2: more_rbsp_data)."""
        left = self._value & ((1 << max(self._left, 0)) - 1)
        return left != 0 and left & (left - 1) != 0

    def ue(self) -> int:
        """An Exp-Golomb code (9.1); 2³²−1 where there is none."""
        left = max(self._left, 0)
        zeros = left - (self._value & ((1 << left) - 1)).bit_length()
        self._left -= min(zeros, 31) + 1
        if zeros > 31 or zeros == left:
            return 2**32 - 1
        return (1 << zeros) - 1 + self.take(zeros)

    def se(self) -> int:
        """A signed Exp-Golomb code (9.1.1)."""
        code = self.ue()
        return (code + 1) // 2 if code & 1 else -(code // 2)


class BitWriter:
    """Header fields written bit by bit."""

    __slots__ = ("_count", "_value")

    def __init__(self) -> None:
        self._value = self._count = 0

    def put(self, value: int, count: int) -> None:
        """``value`` in ``count`` bits."""
        self._value = self._value << count | value
        self._count += count

    def ue(self, value: int) -> None:
        """An Exp-Golomb code (ISO/IEC 14496-10 9.1)."""
        self.put(value + 1, 2 * (value + 1).bit_length() - 1)

    def se(self, value: int) -> None:
        self.ue(2 * value - 1 if value > 0 else -2 * value)

    def plain(self) -> bytes:
        """The bits, filled up to a byte with zeros."""
        fill = -self._count % 8
        return (self._value << fill).to_bytes((self._count + fill) // 8, "big")

    def stuffed(self) -> bytes:
        """The bits, filled up with a zero and ones as before a start code (ISO/IEC 14496-2 5.2.4)."""
        fill = 8 - self._count % 8
        return (self._value << fill | (1 << (fill - 1)) - 1).to_bytes((self._count + fill) // 8, "big")

    def unit(self) -> bytes:
        """The bits with a stop bit, filled up to a byte, made safe against start codes (7.4.1)."""
        count = self._count + 1
        fill = -count % 8
        plain = ((self._value << 1 | 1) << fill).to_bytes((count + fill) // 8, "big")
        out, zeros = bytearray(), 0
        for byte in plain:
            if zeros == 2 and byte < 4:
                out.append(3)
                zeros = 0
            out.append(byte)
            zeros = zeros + 1 if byte == 0 else 0
        return bytes(out)
