"""Whatever comes in: no crash, no hang, findings inside the file. A slice of what ``make fuzz`` does."""

from __future__ import annotations

import time

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import HEALTHY, examine, healthy
from jugal.model.result import Verdict
from jugal.samples.harm import harm, harms_for
from jugal.samples.scenes import PARAGRAPHS


def sane(data: bytes) -> None:
    found = examine(data)
    assert not [f for f in found.findings if f.code.value == "file.examiner"], found.findings
    assert found.score is None or 0 <= found.score <= (found.attainable or 0) <= 100
    end = 0
    for span in found.strip:
        assert span.span.start >= end or span.matter.value == "missing"
        end = span.span.end
    for finding in found.findings:
        assert finding.span is None or 0 <= finding.span.start <= finding.span.end <= len(data)
    if found.verdict is Verdict.INTACT:
        assert found.score == 100


@pytest.mark.parametrize("name", HEALTHY)
def test_mutated_files_are_judged(name: str) -> None:
    data = healthy(name)
    rng = np.random.default_rng(len(data))
    for _ in range(12):
        changed = bytearray(data[: int(rng.integers(1, len(data) + 1))])
        for _ in range(int(rng.integers(1, 12))):
            at = int(rng.integers(0, min(len(changed), 4096 if rng.random() < 0.6 else len(changed))))
            changed[at] = int(rng.integers(0, 256))
        sane(bytes(changed))


@pytest.mark.parametrize("name", ["jpeg", "png", "mp4", "wav", "mp3", "flac", "pdf", "docx", "zip"])
def test_every_named_damage_is_judged(name: str) -> None:
    for what in harms_for(name):
        sane(harm(healthy(name), name, what, 77).data)


@settings(max_examples=150)
@given(
    st.sampled_from(
        [
            b"\xff\xd8\xff\xe0",
            b"\x89PNG\r\n\x1a\n",
            b"\0\0\0\x18ftypisom",
            b"RIFF\0\0\0\0WAVE",
            b"fLaC",
            b"%PDF-1.7\n",
            b"PK\x03\x04",
            b"ID3\3",
            b"{",
            b"<?xml",
        ]
    ),
    st.binary(max_size=3000),
)
def test_any_bytes_after_a_signature(start: bytes, rest: bytes) -> None:
    sane(start + rest)


def test_cost_is_bounded_for_hostile_structures() -> None:
    began = time.monotonic()
    sane(b"%PDF-1.4\n" + b"1 0 obj\n<<" * 20_000)
    sane(b"PK\x03\x04" * 20_000)
    sane(b"\xff\xd8" + b"\xff\xe1\x00\x02" * 20_000)
    sane(b"{" * 50_000)
    sane(b"<?xml version='1.0'?>" + b"<a>" * 50_000)
    sane(b"\xff\xfb\x90\x00" * 20_000)
    sane(b"\xff\xf8\xc9\x18\x00" * 20_000)
    assert time.monotonic() - began < 120  # a hang, not a speed test


def test_text_formats_are_told_apart() -> None:
    text = "\n".join(PARAGRAPHS)
    cases = {
        "text": text, "html": f"<!DOCTYPE html><html><body>{text}</body></html>", "xml": "<?xml version='1.0'?><a><b/></a>",
        "json": '{"a": [1, 2]}', "eml": f"From: a@odrell.example\nTo: b@odrell.example\nSubject: x\nDate: y\n\n{text}",
        "mbox": f"From a@odrell.example Thu\nSubject: x\n\n{text}", "rtf": "{\\rtf1 hello}",
    }  # fmt: skip
    for wanted, content in cases.items():
        found = examine(content.encode())
        assert (found.format, found.verdict) == (wanted, Verdict.INTACT), (wanted, found.findings)


def test_recognised_formats_say_only_what_they_know() -> None:
    rng = np.random.default_rng(3)
    for name, magic in {
        "gif": b"GIF89a",
        "7z": b"7z\xbc\xaf\x27\x1c",
        "rar": b"Rar!\x1a\x07\x01\x00",
        "mkv": b"\x1a\x45\xdf\xa3",
        "psd": b"8BPS",
        "w64": b"riff\x2e\x91\xcf\x11\xa5\xd6\x28\xdb\x04\xc1\0\0",
    }.items():
        data = magic + rng.bytes(60_000)
        found = examine(data)
        assert found.format == name and found.verdict is Verdict.UNRECOGNISED and found.score is None
    holed = b"GIF89a" + rng.bytes(20_474) + bytes(8192) + rng.bytes(30_000)
    found = examine(holed)
    assert (
        found.verdict is Verdict.DAMAGED
        and found.findings[0].span is not None
        and found.findings[0].span.start == 20_480
    )


def test_half_zeroed_and_foreign_tailed_files_are_found_whatever_their_format() -> None:
    rng = np.random.default_rng(8)
    for magic in (
        b"GIF89a",
        b"BM" + bytes(12) + b"\x28\0\0\0" + bytes(8) + b"\1\0\x18\0",
        b"\x1a\x45\xdf\xa3",
        b"8BPS",
        b"OggS",
        b"FORM\0\1\0\0AIFF",
    ):
        whole = magic + rng.bytes(65_536 - len(magic))
        half = whole[:32_768] + bytes(32_768)
        found = examine(half)
        assert found.verdict is Verdict.DAMAGED and found.score is not None and found.score <= 55, (
            magic,
            found.findings,
        )
        assert min(f.span.start for f in found.findings if f.span) == 32_768
    for magic in (b"GIF89a", b"\x1a\x45\xdf\xa3", b"OggS", b"FORM\0\1\0\0AIFF"):
        tailed = magic + rng.bytes(40_960 - len(magic)) + healthy("jpeg")
        found = examine(tailed)
        assert found.verdict is Verdict.DAMAGED, (magic, found.findings)
        assert min(f.span.start for f in found.findings if f.span) == 40_960
