"""MPEG audio, layers I to III (ISO/IEC 11172-3, 13818-3)."""

from jugal.formats.base import FormatSpec
from jugal.formats.mp3.check import examine
from jugal.formats.mp3.repair import REPAIRS
from jugal.model.result import Kind

SPEC = FormatSpec(("mp3",), Kind.AUDIO, examine, REPAIRS, "mp3")
