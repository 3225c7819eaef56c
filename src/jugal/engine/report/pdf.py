"""The client's report as a PDF, set by reportlab."""

from __future__ import annotations

import io
from xml.sax.saxutils import escape

from reportlab.lib import colors
from reportlab.lib.pagesizes import A4
from reportlab.lib.styles import ParagraphStyle, getSampleStyleSheet
from reportlab.lib.units import mm
from reportlab.pdfbase.pdfmetrics import registerFont
from reportlab.pdfbase.ttfonts import TTFError, TTFont
from reportlab.platypus import Flowable, Image, Paragraph, SimpleDocTemplate, Spacer, Table, TableStyle

from jugal.engine.report.summary import Summary

_LINE, _INK, _ACCENT = colors.HexColor("#c9cec4"), colors.HexColor("#1c2625"), colors.HexColor("#1c5f63")
_MOST_DELIVERED = 2000


def _font() -> str:
    """A font that has more than Latin letters where the machine offers one."""
    try:
        registerFont(TTFont("DejaVuSans", "DejaVuSans.ttf"))
    except (TTFError, OSError):
        return "Helvetica"
    return "DejaVuSans"


def render_pdf(summary: Summary) -> bytes:
    """The report as the bytes of a PDF."""
    font = _font()
    base = getSampleStyleSheet()["BodyText"]
    body = ParagraphStyle("body", base, fontName=font, fontSize=8.5, leading=11.5, textColor=_INK)
    head = ParagraphStyle("head", body, fontSize=12, leading=16, spaceBefore=12, spaceAfter=4, textColor=_ACCENT)
    title = ParagraphStyle("title", body, fontSize=18, leading=22)

    def text(words: str) -> Paragraph:
        return Paragraph(escape(words), body)

    def table(rows: list[list[Flowable]], widths: list[float]) -> Table:
        style = [("LINEBELOW", (0, 0), (-1, -1), 0.4, _LINE), ("VALIGN", (0, 0), (-1, -1), "TOP")]
        return Table(rows, colWidths=widths, style=TableStyle(style), hAlign="LEFT", repeatRows=0)

    story: list[Flowable] = [
        Paragraph(escape(summary.title), title),
        text(
            f"Report of {summary.date} on {summary.total:,} files, {summary.size}. Examined: {', '.join(summary.sources)}."
        ),
        Paragraph("What came back", head),
        table([[text(words), text(f"{count:,}")] for words, count in summary.verdicts], [60 * mm, 30 * mm]),
        Spacer(1, 6),
        text(
            f"{summary.repaired:,} files were repaired on copies; the originals were not changed."
            if summary.repaired
            else "No file was repaired."
        ),
    ]
    if summary.causes:
        story.append(Paragraph("Likely causes", head))
        story.append(
            table([[text(words), text(f"{count:,} files")] for words, count in summary.causes], [90 * mm, 30 * mm])
        )
    story.append(Paragraph("What is not whole", head))
    rows: list[list[Flowable]] = []
    for entry in summary.entries:
        picture: Flowable = (
            Image(io.BytesIO(entry.picture), 26 * mm, 20 * mm, kind="proportional") if entry.picture else text("")
        )
        state = f"{entry.words}, {entry.score} % usable" + (f"; {entry.repaired}" if entry.repaired else "")
        rows.append([picture, text(entry.name), text(state), text(entry.headline)])
    story.append(
        table(rows, [28 * mm, 48 * mm, 34 * mm, 64 * mm]) if rows else text("Everything that was examined is whole.")
    )
    if summary.errors:
        story.append(Paragraph("Not examined", head))
        story.append(table([[text(path), text(error)] for path, error in summary.errors], [80 * mm, 94 * mm]))
    if summary.delivered:
        story.append(Paragraph("Delivered, with checksums (SHA-256)", head))
        listed = summary.delivered[:_MOST_DELIVERED]
        story.append(table([[text(p), text(s), text(h)] for p, s, h in listed], [70 * mm, 22 * mm, 82 * mm]))
        if len(listed) < len(summary.delivered):
            story.append(
                text(
                    f"The other {len(summary.delivered) - len(listed):,} files are in the checksum list of the delivery."
                )
            )
    out = io.BytesIO()
    SimpleDocTemplate(out, pagesize=A4, title=summary.title, leftMargin=18 * mm, rightMargin=18 * mm).build(story)
    return out.getvalue()
