"""What a report is made of, before it is a page: texts, tables, figures, and what stays together; PDF and HTML are made from it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, Literal

from reportlab.graphics.shapes import Group, String

from mandorla.core.decimal_sign import with_comma

Style = Literal["title", "answer", "base", "soft", "caution"]


@dataclass(frozen=True, slots=True)
class Words:
    """A paragraph of plain text."""

    text: str
    style: Style = "base"


@dataclass(frozen=True, slots=True)
class Rows:
    """A table by ``name`` (of its CSV file): the first row is its heading, ``widths`` are shares of the page."""

    name: str
    rows: tuple[tuple[str, ...], ...]
    widths: tuple[float, ...]


@dataclass(frozen=True, slots=True)
class Picture:
    """A vector figure by ``name``, with what it shows in words; ``drawing`` is the document library's."""

    name: str
    drawing: Any
    shows: str


@dataclass(frozen=True, slots=True)
class Beside:
    """Pictures next to each other."""

    pictures: tuple[Picture, ...]


Block = Words | Rows | Picture | Beside


@dataclass(frozen=True, slots=True)
class Section:
    """A part of the report: its ``title`` (empty: the first page has none), its blocks; ``together`` keeps them on one page."""

    title: str
    blocks: tuple[Block, ...]
    together: bool = False


def read_with_comma(sections: tuple[Section, ...]) -> tuple[Section, ...]:
    """The sections as somebody reads them who likes decimal commas; texts inside their drawings are changed where they stand."""
    return tuple(replace(s, title=with_comma(s.title), blocks=tuple(_read(b) for b in s.blocks)) for s in sections)


def _read(block: Block) -> Block:
    if isinstance(block, Words):
        return replace(block, text=with_comma(block.text))
    if isinstance(block, Rows):
        return replace(block, rows=tuple(tuple(with_comma(cell) for cell in row) for row in block.rows))
    for picture in block.pictures if isinstance(block, Beside) else (block,):
        _read_drawing(picture.drawing)
    return block


def _read_drawing(group: Group) -> None:
    for item in group.contents:
        if isinstance(item, String):
            item.text = with_comma(item.text)
        elif isinstance(item, Group):
            _read_drawing(item)


def table(name: str, rows: list[list[str]], widths: tuple[float, ...]) -> Rows:
    """A table from rows of texts."""
    return Rows(name, tuple(tuple(row) for row in rows), widths)
