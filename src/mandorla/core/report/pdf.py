"""The PDF report: the sections on pages of A4."""

from __future__ import annotations

from html import escape
from io import BytesIO
from typing import Any

from PIL import Image as Pixels
from reportlab.lib.colors import HexColor
from reportlab.lib.enums import TA_LEFT
from reportlab.lib.pagesizes import A4
from reportlab.lib.styles import ParagraphStyle
from reportlab.lib.units import mm
from reportlab.platypus import Image, KeepTogether, Paragraph, SimpleDocTemplate, Spacer, Table, TableStyle

from mandorla.core.report.blocks import Beside, Block, Picture, Rows, Section, Words
from mandorla.core.report.fonts import REGULAR, STRONG, register_fonts
from mandorla.core.report.sections import WIDTH


def report_styles() -> dict[str, ParagraphStyle]:
    """The styles of everything that is printed."""
    ink = HexColor("#1f2629")
    base = ParagraphStyle("base", fontName=REGULAR, fontSize=9, leading=12.5, textColor=ink, alignment=TA_LEFT)
    return {
        "base": base,
        "title": ParagraphStyle("title", parent=base, fontName=STRONG, fontSize=18, leading=23),
        "soft": ParagraphStyle("soft", parent=base, textColor=HexColor("#525c60"), fontSize=8, leading=11),
        "answer": ParagraphStyle("answer", parent=base, fontName=STRONG, fontSize=10.5, leading=14.5, spaceAfter=4),
        "head": ParagraphStyle("head", parent=base, fontName=STRONG, fontSize=11, leading=15, spaceBefore=7, spaceAfter=3,
                               textColor=HexColor("#1d5a58")),
    }  # fmt: skip


def report_table(rows: list[list[str]], widths: list[float], styles: dict[str, ParagraphStyle]) -> Table:
    """A table with its first row as heading, repeated on every page; cells may hold simple markup."""
    cells = [[Paragraph(text, styles["base"] if r else styles["soft"]) for text in row] for r, row in enumerate(rows)]
    table = Table(cells, colWidths=widths, repeatRows=1, hAlign="LEFT")
    table.setStyle(
        TableStyle(
            [
                ("LINEBELOW", (0, 0), (-1, -1), 0.4, HexColor("#cfc7b8")),
                ("VALIGN", (0, 0), (-1, -1), "TOP"),
                ("TOPPADDING", (0, 0), (-1, -1), 1.5),
                ("BOTTOMPADDING", (0, 0), (-1, -1), 2.5),
                ("LEFTPADDING", (0, 0), (-1, -1), 0),
            ]
        )
    )
    return table


def _flowables(block: Block, styles: dict[str, ParagraphStyle]) -> list[Any]:
    if isinstance(block, Words):
        style = styles["soft" if block.style == "caution" else block.style]
        return [Paragraph(escape(block.text), style)]
    if isinstance(block, Rows):
        rows = [[escape(text) for text in row] for row in block.rows]
        return [Spacer(1, 4), report_table(rows, [w * WIDTH for w in block.widths], styles)]
    if isinstance(block, Picture):
        return [block.drawing]
    assert isinstance(block, Beside)
    share = WIDTH / len(block.pictures)
    drawn = [[p.drawing for p in block.pictures]]
    return [Table(drawn, colWidths=[share] * len(block.pictures), style=[("LEFTPADDING", (0, 0), (-1, -1), 0)])]


def _logo(data: bytes) -> Image:
    with Pixels.open(BytesIO(data)) as pixels:
        wide, high = pixels.size
    tall = min(16 * mm, 60 * mm * high / wide)
    return Image(BytesIO(data), width=tall * wide / high, height=tall, hAlign="RIGHT")


def as_pdf(sections: tuple[Section, ...], title: str, logo: bytes = b"") -> bytes:
    """The report as PDF; equal sections give equal bytes where SOURCE_DATE_EPOCH is set."""
    register_fonts()
    styles = report_styles()
    story: list[Any] = [_logo(logo)] if logo else []
    for section in sections:
        head = [Paragraph(escape(section.title), styles["head"])] if section.title else []
        each = [_flowables(block, styles) for block in section.blocks]
        if section.together:
            story.append(KeepTogether([*head, *(f for found in each for f in found)]))
            continue
        # a heading stays with what follows it
        story += (
            [KeepTogether([*head, *each[0]])]
            if head and len(section.blocks[:1]) and isinstance(section.blocks[0], Words)
            else [*head, *each[0]]
        )
        story += [f for found in each[1:] for f in found]
    buffer = BytesIO()
    document = SimpleDocTemplate(
        buffer, pagesize=A4, leftMargin=18 * mm, rightMargin=18 * mm, topMargin=15 * mm, bottomMargin=14 * mm,
        title=f"{title} – Mandorla", author="Mandorla",
    )  # fmt: skip
    document.build(story)
    return buffer.getvalue()
