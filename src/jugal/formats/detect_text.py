"""Text and the formats written in it, told from their first lines."""

from __future__ import annotations

import json
import re

import numpy as np

from jugal.binary.source import Source

_SAMPLE = 1 << 16


def decode_sample(source: Source) -> str | None:
    """The file's first 64 KiB as text, or None where they are no text in UTF-8, UTF-16 or an 8-bit code."""
    data = source.read(0, _SAMPLE)
    if not data:
        return None
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return data[: len(data) & ~1].decode("utf-16", "replace")
    data = data.removeprefix(b"\xef\xbb\xbf")
    values = np.frombuffer(data, np.uint8)
    control = (values < 32) & (values != 9) & (values != 10) & (values != 13) & (values != 12) & (values != 27)
    if float(control.mean()) > 0.02:
        # A text with a zeroed stretch is still a text: judge what is left of it.
        kept = values[values != 0]
        if kept.size < 64 or float(control.sum() - (values == 0).sum()) / kept.size > 0.02:
            return None
        if kept.size < 0.3 * values.size:
            return None
        data = kept.tobytes()
        values = kept
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError as error:
        if error.start >= len(data) - 3:
            return data[: error.start].decode("utf-8")
    high = float((values >= 0x80).mean())
    printable = float(((values >= 32) & (values < 127)).mean())
    if high < 0.25 and printable > 0.6:
        return data.decode("latin-1")
    return None


def text_format(source: Source) -> str | None:
    """``text``, ``html``, ``xml``, ``json``, ``eml``, ``mbox`` or None."""
    text = decode_sample(source)
    if text is None:
        return None
    start = text.lstrip("\ufeff \t\r\n")
    low = start[:2048].lower()
    if low.startswith(("<!doctype html", "<html")) or re.match(r"(<!--.*?-->\s*)?<(html|head|body)\b", low, re.S):
        return "html"
    if low.startswith("<?xml"):
        return "html" if "<html" in low else "xml"
    if re.match(r"<[a-z][\w:.-]*(\s[^<>]*)?/?>", low) and low.rstrip().count("<") > 1:
        return "xml"
    if text.startswith("From ") and re.search(r"^[A-Za-z-]+: ", text[:4096], re.M):
        return "mbox"
    headers = re.findall(
        r"^(from|to|subject|date|message-id|received|mime-version|return-path|content-type|reply-to|delivered-to):",
        text[:8192].split("\n\n")[0].replace("\r", ""),
        re.M | re.I,
    )
    if len({h.lower() for h in headers}) >= 3:
        return "eml"
    if start[:1] in "{[" and _is_json_like(start, len(start) < _SAMPLE):
        return "json"
    return "text"


def _is_json_like(text: str, whole: bool) -> bool:
    if whole:
        try:
            json.loads(text)
            return True
        except ValueError:
            pass
        except RecursionError:
            return True
    return bool(re.match(r'\{\s*"[^"]*"\s*:|\[\s*(\{\s*"|\[|"|-?\d+\s*,)', text))
