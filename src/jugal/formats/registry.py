"""Every format in one table: short name → kind, examiner and repairs."""

from __future__ import annotations

from functools import cache
from importlib.metadata import entry_points

from jugal.formats import flac, isobmff, jpeg, mp3, pdf, png, text, wav
from jugal.formats.base import FormatSpec
from jugal.formats.zip.spec import SPECS as ZIP_SPECS
from jugal.model.result import Kind

EXAMINED: tuple[FormatSpec, ...] = (
    jpeg.SPEC,
    png.SPEC,
    *isobmff.SPECS,
    wav.SPEC,
    mp3.SPEC,
    flac.SPEC,
    pdf.SPEC,
    *ZIP_SPECS,
    text.SPEC,
)

#: Formats that are recognised and judged by their statistics only.
RECOGNISED: dict[str, Kind] = {
    **dict.fromkeys(("gif", "bmp", "tiff", "webp", "dng", "cr2", "nef", "arw", "orf", "rw2", "raf", "psd"), Kind.PHOTO),
    **dict.fromkeys(("avi", "mkv", "webm", "mxf", "mpegts", "mpegps"), Kind.VIDEO),
    **dict.fromkeys(("aiff", "ogg", "opus", "aac", "w64"), Kind.AUDIO),
    **dict.fromkeys(("doc", "xls", "ppt"), Kind.DOCUMENT),
    **dict.fromkeys(("gzip", "tar", "7z", "rar"), Kind.ARCHIVE),
    "sqlite": Kind.OTHER,
    "unknown": Kind.OTHER,
}

_EXTENSIONS = {
    "jpeg": {"jpg", "jpeg", "jpe", "jfif", "mpo", "thm"}, "tiff": {"tif", "tiff"}, "heic": {"heic", "heif", "hif"},
    "mp4": {"mp4", "m4v", "m4a", "m4b", "lrv", "insv"}, "mov": {"mov", "qt"}, "3gp": {"3gp", "3g2"}, "m4a": {"m4a", "m4b", "m4p"},
    "mpegts": {"ts", "mts", "m2ts"}, "mpegps": {"mpg", "mpeg", "vob"}, "mp3": {"mp3", "mp2", "mpa"}, "wav": {"wav", "bwf", "wave"},
    "aiff": {"aif", "aiff", "aifc"}, "ogg": {"ogg", "oga", "ogv"}, "gzip": {"gz", "tgz", "svgz", "emz"}, "html": {"html", "htm", "xhtml"},
    "zip": {"zip", "jar", "apk", "kmz", "xpi", "cbz", "whl", "3mf"}, "mkv": {"mkv", "mka", "mks"}, "pdf": {"pdf", "ai"},
}  # fmt: skip


@cache
def formats() -> dict[str, FormatSpec]:
    """Short name → spec: the built-in table, then what other packages add under ``jugal.formats``."""
    table = {name: spec for spec in EXAMINED for name in spec.names}
    for entry in entry_points(group="jugal.formats"):
        spec = entry.load()
        for name in spec.names:
            table.setdefault(name, spec)
    return table


def akin(name: str) -> tuple[str, ...]:
    """The formats whose files may lend to one of ``name``, itself first: pictures apart, all that the same repairs mend.

    What the start of a file said of its format is often just what is lost.
    """
    spec = formats().get(name)
    if spec is None or spec.kind is Kind.PHOTO:
        return (name,)
    others = (n for n, s in formats().items() if s.repairs is spec.repairs and s.kind is not Kind.PHOTO and n != name)
    return (name, *others)


def kind_of(name: str) -> Kind:
    """The kind a format belongs to."""
    spec = formats().get(name)
    return spec.kind if spec is not None else RECOGNISED.get(name, Kind.OTHER)


def extension_fits(name: str, suffix: str) -> bool:
    """Whether a file name's extension may stand for the format; no extension and unknown formats always may."""
    if not suffix or name in ("unknown", "text", "xml", "json"):
        return True
    return suffix in _EXTENSIONS.get(name, {name})


def usual_extension(name: str) -> str:
    """The extension that files of this format usually have, without the dot."""
    first = {
        "jpeg": "jpg",
        "tiff": "tif",
        "mpegts": "ts",
        "mpegps": "mpg",
        "gzip": "gz",
        "text": "txt",
        "unknown": "bin",
    }
    return first.get(name, name)
