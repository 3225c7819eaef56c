"""FLAC sound (RFC 9639)."""

from jugal.formats.base import FormatSpec
from jugal.formats.flac.check import examine
from jugal.formats.flac.repair import REPAIRS
from jugal.model.result import Kind

SPEC = FormatSpec(("flac",), Kind.AUDIO, examine, REPAIRS, "flac")
