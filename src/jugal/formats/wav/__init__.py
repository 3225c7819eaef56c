"""RIFF WAVE sound (Microsoft/IBM RIFF 1991, EBU Tech 3285 and 3306)."""

from jugal.formats.base import FormatSpec
from jugal.formats.wav.check import examine
from jugal.formats.wav.repair import REPAIRS
from jugal.model.result import Kind

SPEC = FormatSpec(("wav",), Kind.AUDIO, examine, REPAIRS, "wav")
