"""The fonts of report and drawing, which ship with the program."""

from __future__ import annotations

from importlib import resources
from io import BytesIO
from typing import Final

from reportlab.pdfbase import pdfmetrics
from reportlab.pdfbase.ttfonts import TTFont

REGULAR: Final = "Inter"
STRONG: Final = "Inter-SemiBold"


def register_fonts() -> None:
    """Make the fonts known to the document library, once."""
    if REGULAR in pdfmetrics.getRegisteredFontNames():
        return
    folder = resources.files("mandorla.data").joinpath("fonts")
    for name, file in ((REGULAR, "Inter-Regular.ttf"), (STRONG, "Inter-SemiBold.ttf")):
        pdfmetrics.registerFont(TTFont(name, BytesIO(folder.joinpath(file).read_bytes())))
