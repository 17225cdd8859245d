"""The HTML report: the sections of the PDF in one file that needs nothing from elsewhere; figures as SVG, tables as CSV."""

from __future__ import annotations

import base64
import csv
import io
import re
from importlib import resources
from urllib.parse import quote

from jinja2 import Environment, StrictUndefined
from markupsafe import Markup
from reportlab.graphics import renderSVG

from mandorla import __version__
from mandorla.core.report.blocks import Picture, Rows, Section
from mandorla.core.report.fonts import REGULAR, STRONG, register_fonts

_HEADER = re.compile(r"^.*?(?=<svg)", re.DOTALL)


def svg_of(picture: Picture) -> str:
    """A figure as SVG without an XML header, for a page or a file."""
    text = _HEADER.sub("", renderSVG.drawToString(picture.drawing), count=1)
    # a browser knows the strong face as a weight of the family
    text = text.replace(f"font-family: {STRONG};", f"font-family: {REGULAR}, sans-serif; font-weight: 600;")
    text = text.replace(f"font-family: {REGULAR};", f"font-family: {REGULAR}, sans-serif;")
    # one page holds several: each keeps to its own frame
    return text.replace('id="clip"', f'id="clip-{picture.name}"').replace("url(#clip)", f"url(#clip-{picture.name})")


def csv_of(rows: Rows) -> str:
    """A table as CSV, its heading first."""
    out = io.StringIO()
    csv.writer(out, lineterminator="\n").writerows(rows.rows)
    return out.getvalue()


def _inside(data: bytes, kind: str) -> str:
    return f"data:{kind};base64,{base64.b64encode(data).decode()}"


def as_html(sections: tuple[Section, ...], title: str, logo: bytes = b"") -> str:
    """The report as one page of HTML."""
    register_fonts()
    data = resources.files("mandorla.data")
    fonts = (data.joinpath(f"fonts/{name}.ttf").read_bytes() for name in ("Inter-Regular", "Inter-SemiBold"))
    regular, strong = (base64.b64encode(font).decode() for font in fonts)
    page = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True).from_string(
        data.joinpath("report.html.j2").read_text(encoding="utf-8")
    )
    kind = "image/jpeg" if logo[:2] == b"\xff\xd8" else "image/png"
    return page.render(
        sections=list(sections), title=title, version=__version__, font=regular, font_strong=strong,
        logo=_inside(logo, kind) if logo else "",
        svg=lambda p: Markup(svg_of(p)),  # drawn by us: its texts are escaped where it is written
        svg_file=lambda p: f"data:image/svg+xml;charset=utf-8,{quote(svg_of(p))}",
        csv_file=lambda rows: f"data:text/csv;charset=utf-8,{quote(csv_of(rows))}",
    )  # fmt: skip
