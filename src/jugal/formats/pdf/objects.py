"""PDF objects (ISO 32000-2 clause 7.3), read leniently and bounded from bytes."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import Any

_SPACE = b"\0\t\n\f\r "
_DELIMITERS = b"()<>[]{}/%"
_NUMBER = re.compile(rb"[+-]?(\d+\.?\d*|\.\d+)")
_REFERENCE = re.compile(rb"(\d{1,10})[\0\t\n\f\r ]+(\d{1,5})[\0\t\n\f\r ]+R(?![A-Za-z0-9])")
_NAME_END = re.compile(rb"[\0\t\n\f\r ()<>\[\]{}/%]")
_MAX_DEPTH = 40


class Name(str):
    """A name object, without its slash."""

    __slots__ = ()


@dataclass(frozen=True, slots=True)
class Ref:
    """An indirect reference."""

    number: int
    generation: int = 0


@dataclass(slots=True)
class Stream:
    """A stream's dictionary and where its data lies in the file."""

    dictionary: dict[str, Any] = field(default_factory=dict)
    start: int = 0
    end: int = 0


def skip_space(data: bytes, at: int) -> int:
    """Past white space and comments."""
    n = len(data)
    while at < n:
        if data[at] in _SPACE:
            at += 1
        elif data[at] == 0x25:
            while at < n and data[at] not in b"\r\n":
                at += 1
        else:
            break
    return at


def parse(data: bytes, at: int, depth: int = 0) -> tuple[Any, int]:
    """The object at ``at`` and where it ends; what makes no sense reads as None and moves on a byte."""
    at = skip_space(data, at)
    if at >= len(data) or depth > _MAX_DEPTH:
        return None, at + 1
    first = data[at]
    if data.startswith(b"<<", at):
        return _dictionary(data, at + 2, depth)
    if first == 0x5B:
        return _array(data, at + 1, depth)
    if first == 0x2F:
        match = _NAME_END.search(data, at + 1)
        end = match.start() if match else len(data)
        raw = data[at + 1 : end]
        if b"#" in raw:
            raw = re.sub(rb"#([0-9A-Fa-f]{2})", lambda m: bytes([int(m[1], 16)]), raw)
        return Name(raw.decode("latin-1")), end
    if first == 0x28:
        return _string(data, at + 1)
    if first == 0x3C:
        end = data.find(b">", at)
        end = len(data) if end < 0 else end
        digits = re.sub(rb"[^0-9A-Fa-f]", b"", data[at + 1 : end])
        return bytes.fromhex((digits + b"0" * (len(digits) & 1)).decode()), end + 1
    reference = _REFERENCE.match(data, at)
    if reference:
        return Ref(int(reference[1]), int(reference[2])), reference.end()
    number = _NUMBER.match(data, at)
    if number:
        text = number[0]
        return (float(text) if b"." in text else int(text)), number.end()
    for word, value in ((b"true", True), (b"false", False), (b"null", None)):
        if data.startswith(word, at):
            return value, at + len(word)
    return None, at + 1


def _dictionary(data: bytes, at: int, depth: int) -> tuple[dict[str, Any], int]:
    found: dict[str, Any] = {}
    while True:
        at = skip_space(data, at)
        if at >= len(data):
            return found, at
        if data.startswith(b">>", at):
            return found, at + 2
        if data.startswith((b"endobj", b"stream"), at):
            return found, at
        key, at = parse(data, at, depth + 1)
        if not isinstance(key, Name):
            continue
        at = skip_space(data, at)
        if data.startswith(b">>", at):
            return found, at + 2
        found[key], at = parse(data, at, depth + 1)


def _array(data: bytes, at: int, depth: int) -> tuple[list[Any], int]:
    found: list[Any] = []
    while True:
        at = skip_space(data, at)
        if at >= len(data):
            return found, at
        if data[at] == 0x5D:
            return found, at + 1
        if data.startswith((b">>", b"endobj"), at):
            return found, at
        value, at = parse(data, at, depth + 1)
        found.append(value)


def _string(data: bytes, at: int) -> tuple[bytes, int]:
    out = bytearray()
    level = 1
    n = len(data)
    while at < n:
        byte = data[at]
        if byte == 0x5C:
            out += data[at + 1 : at + 2]
            at += 2
            continue
        if byte == 0x28:
            level += 1
        elif byte == 0x29:
            level -= 1
            if level == 0:
                return bytes(out), at + 1
        out.append(byte)
        at += 1
    return bytes(out), at
