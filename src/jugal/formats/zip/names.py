"""Which package a ZIP is, told from its member names and its mimetype member."""

from __future__ import annotations

from jugal.binary.source import Source

_MIMETYPES = {
    b"application/epub+zip": "epub",
    b"application/vnd.oasis.opendocument.text": "odt",
    b"application/vnd.oasis.opendocument.spreadsheet": "ods",
    b"application/vnd.oasis.opendocument.presentation": "odp",
}


def format_of_members(names: set[str], mimetype: bytes) -> str:
    """The short name for a ZIP with these member names and this content of its ``mimetype`` member."""
    for start, name in _MIMETYPES.items():
        if mimetype == start or mimetype == start + b"-template":
            return name
    if any(n.startswith("word/") for n in names):
        return "docx"
    if any(n.startswith("xl/") for n in names):
        return "xlsx"
    if any(n.startswith("ppt/") for n in names):
        return "pptx"
    return "zip"


def package_format(source: Source) -> str:
    """A quick look: local headers and directory entries found by scanning the file's first and last MiB."""
    names: set[str] = set()
    mimetype = b""
    window = 1 << 20
    for base in {0, max(0, source.size - window)}:
        data = source.read(base, window)
        for magic, fixed, length_at in ((b"PK\x03\x04", 30, 26), (b"PK\x01\x02", 46, 28)):
            at = data.find(magic)
            while at >= 0 and len(names) < 5000:
                length = int.from_bytes(data[at + length_at : at + length_at + 2], "little")
                raw = data[at + fixed : at + fixed + length]
                names.add(raw.decode("utf-8", "replace"))
                if raw == b"mimetype" and fixed == 30:
                    extra = int.from_bytes(data[at + 28 : at + 30], "little")
                    size = int.from_bytes(data[at + 18 : at + 22], "little") or 80
                    body = data[at + 38 + extra : at + 38 + extra + min(size, 128)]
                    mimetype = body.split(b"PK")[0].strip()
                at = data.find(magic, at + 4)
    return format_of_members(names, mimetype)
