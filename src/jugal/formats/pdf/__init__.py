"""PDF documents (ISO 32000-2)."""

from jugal.formats.base import FormatSpec
from jugal.formats.pdf.check import examine
from jugal.formats.pdf.repair import REPAIRS
from jugal.model.result import Kind

SPEC = FormatSpec(("pdf",), Kind.DOCUMENT, examine, REPAIRS, "pdf")
