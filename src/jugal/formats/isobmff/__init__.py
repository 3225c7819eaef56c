"""MP4, MOV, M4A, 3GP, HEIC, AVIF and CR3: formats made of ISO base media boxes."""

from jugal.formats.base import FormatSpec
from jugal.formats.isobmff.check import examine
from jugal.formats.isobmff.repair import REPAIRS
from jugal.model.result import Kind

SPECS = (
    FormatSpec(("mp4", "mov", "3gp"), Kind.VIDEO, examine, REPAIRS),
    FormatSpec(("m4a",), Kind.AUDIO, examine, REPAIRS),
    FormatSpec(("heic", "avif", "cr3"), Kind.PHOTO, examine, REPAIRS),
)
