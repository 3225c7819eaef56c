"""JPEG still pictures (ITU-T T.81, JFIF, Exif)."""

from jugal.formats.base import FormatSpec
from jugal.formats.jpeg.check import examine
from jugal.formats.jpeg.repair import REPAIRS
from jugal.model.result import Kind

SPEC = FormatSpec(("jpeg",), Kind.PHOTO, examine, REPAIRS, "jpg")
