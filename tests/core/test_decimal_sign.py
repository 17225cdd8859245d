"""Texts with decimal commas: figures change, names do not."""

from __future__ import annotations

import re
from dataclasses import replace

import numpy as np
import pytest

from mandorla.core.decimal_sign import with_comma
from mandorla.core.report.blocks import Picture, Rows, Section, Words, read_with_comma
from mandorla.core.report.figures import Curve, curve_figure
from mandorla.core.report.fonts import register_fonts
from mandorla.core.report.html_page import svg_of
from mandorla.core.units import KINDS, METRIC, UnitPreferences, parse_quantity, show

COMMA = UnitPreferences(comma=True)


@pytest.mark.parametrize(
    ("text", "read"),
    [
        ("1.5 mm", "1,5 mm"), ("(1.26–1.57 kWh)", "(1,26–1,57 kWh)"), ("−0.4/0.6 mm.", "−0,4/0,6 mm."), ("×1.5", "×1,5"),
        ("2.5e-3", "2,5e-3"), ("<b style='font-size:9.5pt'>2.5</b>", "<b style='font-size:9.5pt'>2,5</b>"),
        ("at 1.5, 2.5", "at 1,5, 2,5"), ("U = 1.5 and T<2.5 K", "U = 1,5 and T<2,5 K"), ("1,5 mm", "1,5 mm"), ("", ""),
        ("No. 5.", "No. 5."),
    ],
)  # fmt: skip
def test_figures_get_a_comma(text: str, read: str) -> None:
    assert with_comma(text) == read
    assert with_comma(read) == read


@pytest.mark.parametrize(
    "name",
    ["slab-0.2.stl", "“/home/a/0.2/b”", "version 1.2.0", "G1 X10.5 E-0.4", "--set settings.fan=0.5", "https://a.b/1.2", "~/0.5/a"],
)  # fmt: skip
def test_names_keep_their_points(name: str) -> None:
    assert with_comma(name) == name


def test_a_long_text_without_spaces_takes_no_longer_than_it_is_long() -> None:
    text = "1" * 2_000_000
    assert with_comma(f"{text} 1.5").endswith(" 1,5")


@pytest.mark.parametrize("kind", sorted(KINDS))
def test_what_is_shown_with_a_comma_is_read_back(kind: str) -> None:
    shown = show(400.0, kind, COMMA)
    assert "." not in shown
    assert shown.replace(",", ".") == show(400.0, kind, METRIC)
    unit = COMMA.unit(kind)
    assert parse_quantity(shown, kind, unit) == parse_quantity(show(400.0, kind), kind, unit)


def test_a_report_is_read_with_commas_everywhere() -> None:
    """Titles, words, tables and what stands inside drawings."""
    register_fonts()
    curve = Curve("a", np.array([0.0, 1.0]), np.array([0.0, 0.5]), "#000000")
    drawing = curve_figure([curve], ("x 1.5", "y"), 200.0, 100.0, lines=[(0.25, "0.25 mm", "#000000", False)])
    picture = Picture("p", drawing, "a line at 0.25")
    rows = Rows("t", (("a", "b"), ("1.5", "part-0.2.stl")), (0.5, 0.5))
    (read,) = read_with_comma((Section("By 1.5", (Words("2.5 K"), rows, picture)),))
    assert (read.title, read.blocks[0], read.blocks[1]) == (
        "By 1,5", Words("2,5 K"), replace(rows, rows=(("a", "b"), ("1,5", "part-0.2.stl")))
    )  # fmt: skip
    drawn = re.findall(r">([^<>]*\d[.,]\d[^<>]*)<", svg_of(picture))
    assert {"x 1,5", "0,25 mm"} <= {d.strip() for d in drawn}
    assert not [d for d in drawn if re.search(r"\d\.\d", d)]
