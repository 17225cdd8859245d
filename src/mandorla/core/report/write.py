"""Writes the report of a project as PDF or HTML, by the file's ending; tables and figures as files of their own where asked."""

from __future__ import annotations

import os
from datetime import UTC, datetime
from io import BytesIO
from pathlib import Path

from PIL import Image, UnidentifiedImageError

from mandorla.core.errors import InputError
from mandorla.core.input_file import bytes_of
from mandorla.core.project.atomic import target_of, write_atomically
from mandorla.core.report.blocks import Beside, Picture, Rows, read_with_comma
from mandorla.core.report.html_page import as_html, csv_of, svg_of
from mandorla.core.report.pdf import as_pdf
from mandorla.core.report.sections import Page, Wanted, report_sections
from mandorla.core.results.results import Results
from mandorla.core.units import METRIC, UnitPreferences

_MOST_LOGO = 4 << 20  # bytes
_MOST_PIXELS = 4000


def moment() -> str:
    """Now, or the moment of SOURCE_DATE_EPOCH (in universal time) where it is set, as it stands in the report."""
    fixed = os.environ.get("SOURCE_DATE_EPOCH", "")
    when = datetime.fromtimestamp(int(fixed), UTC) if fixed.isdigit() else datetime.now()
    return when.strftime("%Y-%m-%d %H:%M")


def read_logo(path: Path) -> bytes:
    """A logo's bytes. Raises InputError where it is no PNG or JPEG of moderate size."""
    try:
        data = bytes_of(path, _MOST_LOGO)
        with Image.open(BytesIO(data), formats=("PNG", "JPEG")) as image:
            if max(image.size) > _MOST_PIXELS:
                raise InputError(f"“{path.name}” has more than {_MOST_PIXELS} pixels along a side: no logo.")
            image.verify()
    except UnidentifiedImageError:
        raise InputError(f"“{path.name}” is no PNG or JPEG picture.") from None
    except (OSError, SyntaxError, ValueError) as error:
        raise InputError(f"“{path.name}” cannot be read as a picture: {error}.") from None
    return data


def write_report(
    path: Path, results: Results, units: UnitPreferences = METRIC, check: bool = True, wanted: Wanted | None = None,
    parts: Path | None = None,
) -> None:  # fmt: skip
    """Write the report of a project with a part; with ``check`` after its suggestions have been run in full.

    Parameters
    ----------
    path
        Ends with ``.pdf`` or ``.html``.
    results, units, check
        What it is made from, the units to write in, whether suggestions are checked first.
    wanted
        Title, logo and notes of one's own.
    parts
        A folder that every table is written into as CSV, as it is printed, and every figure as SVG.

    Raises
    ------
    InputError
        Without a part, or with another ending.
    ProjectFileError
        When a file cannot be written.
    """
    target_of(path)  # refused before a minute is spent on simulations
    kind = path.suffix.lower()
    if kind not in (".pdf", ".html", ".htm"):
        raise InputError(f"“{path.name}” ends neither with .pdf nor with .html.")
    wanted = wanted if wanted is not None else Wanted()
    sections = report_sections(Page(results, units, check, wanted), moment())
    sections = read_with_comma(sections) if units.comma else sections
    title = wanted.title or results.bundle.project.name
    made = as_pdf(sections, title, wanted.logo) if kind == ".pdf" else as_html(sections, title, wanted.logo).encode()
    write_atomically(path, made)
    if parts is None:
        return
    parts.mkdir(parents=True, exist_ok=True)
    for block in (b for section in sections for b in section.blocks):
        if isinstance(block, Rows):
            write_atomically(parts / f"{block.name}.csv", csv_of(block).encode())
        for picture in block.pictures if isinstance(block, Beside) else (block,) if isinstance(block, Picture) else ():
            write_atomically(parts / f"{picture.name}.svg", svg_of(picture).encode())
