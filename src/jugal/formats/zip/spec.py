"""The formats that are ZIP archives."""

from jugal.formats.base import FormatSpec
from jugal.formats.zip.check import examine
from jugal.formats.zip.repair import REPAIRS
from jugal.model.result import Kind

SPECS = (
    FormatSpec(("zip",), Kind.ARCHIVE, examine, REPAIRS, "zip"),
    FormatSpec(("docx", "xlsx", "pptx", "odt", "ods", "odp", "epub"), Kind.DOCUMENT, examine, REPAIRS),
)
