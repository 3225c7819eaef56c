"""PNG pictures (W3C PNG, third edition)."""

from jugal.formats.base import FormatSpec
from jugal.formats.png.check import examine
from jugal.formats.png.repair import REPAIRS
from jugal.model.result import Kind

SPEC = FormatSpec(("png",), Kind.PHOTO, examine, REPAIRS, "png")
