"""Plain text and the formats written in it."""

from jugal.formats.base import FormatSpec
from jugal.formats.text.check import examine
from jugal.model.result import Kind

SPEC = FormatSpec(("text", "html", "xml", "json", "eml", "mbox", "rtf"), Kind.DOCUMENT, examine)
