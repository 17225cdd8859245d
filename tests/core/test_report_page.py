"""The report as one HTML file says what the PDF says, needs nothing from elsewhere, and is the same each time."""

from __future__ import annotations

import csv
import io
import re
from itertools import combinations
from pathlib import Path
from urllib.parse import unquote

import numpy as np
import pytest
from lxml import etree
from lxml import html as page_of
from PIL import Image
from pypdf import PdfReader
from reportlab.graphics.shapes import PolyLine, String
from reportlab.pdfbase.pdfmetrics import stringWidth

from mandorla.cli import run
from mandorla.core.decimal_sign import with_comma
from mandorla.core.errors import InputError
from mandorla.core.project.store import Bundle, write_bundle
from mandorla.core.report.blocks import Rows
from mandorla.core.report.figures import Curve, curve_figure
from mandorla.core.report.sections import Page, Wanted, report_sections
from mandorla.core.report.write import moment, read_logo, write_report
from mandorla.core.results.results import Results
from mandorla.core.units import METRIC, UnitPreferences
from tests.core.bundles import small_bundle

HOSTILE = '<script>alert("1")</script> & co'


@pytest.fixture(scope="module")
def results() -> Results:
    bundle = small_bundle()
    notes = f"First line\n{HOSTILE}"
    return Results(Bundle(bundle.project.model_copy(update={"name": HOSTILE, "notes": notes}), bundle.originals))


@pytest.fixture(scope="module")
def written(results: Results, tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("report")
    write_report(folder / "r.html", results, check=False, parts=folder / "parts")
    write_report(folder / "r.pdf", results, check=False)
    return folder


def test_the_page_says_what_the_pdf_says(results: Results, written: Path) -> None:
    page = page_of.fromstring((written / "r.html").read_text(encoding="utf-8"))
    shown = re.sub(r"\s+", "", page.text_content())
    printed = re.sub(r"\s+", "", "".join(p.extract_text() for p in PdfReader(written / "r.pdf").pages))
    cells = 0
    for section in report_sections(Page(results, METRIC, check=False), ""):
        for text in (section.title, *(c for b in section.blocks if isinstance(b, Rows) for row in b.rows for c in row)):
            tight = re.sub(r"\s+", "", text)
            assert tight in shown, text
            # the printer breaks long words and pages: what is short has to be there as it is
            assert len(tight) > 25 or tight in printed, text
            cells += 1
    assert cells > 100
    order = [h.text_content() for h in page.iter("h2")]
    assert order.index("Caution") < order.index("Part and warp") < order.index("Operating window")
    assert {"Run sheet", "Assumptions", "Every way to fail", "Notes"} <= set(order)


def test_commas_stand_in_page_print_and_tables(results: Results, written: Path, tmp_path: Path) -> None:
    comma = UnitPreferences(comma=True)
    write_report(tmp_path / "r.html", results, comma, check=False, parts=tmp_path / "parts")
    write_report(tmp_path / "r.pdf", results, comma, check=False)
    date = re.compile(r"\d{4}-\d\d-\d\d \d\d:\d\d")

    def words(folder: Path) -> list[str]:
        page = page_of.fromstring((folder / "r.html").read_text(encoding="utf-8"))
        for tag in page.xpath("//style|//a"):
            tag.drop_tree()
        return [date.sub("", text) for text in page.itertext()]

    plain, read = words(written), words(tmp_path)
    assert read == [with_comma(text) for text in plain]
    assert sum(a != b for a, b in zip(plain, read, strict=True)) > 50
    printed = [date.sub("", p.extract_text()) for p in PdfReader(tmp_path / "r.pdf").pages]
    assert printed == [with_comma(text) for text in printed]
    for file in (written / "parts").glob("*.csv"):
        told = [list(csv.reader(f.read_text().splitlines())) for f in (file, tmp_path / "parts" / file.name)]
        assert told[1] == [[with_comma(cell) for cell in row] for row in told[0]]


def test_the_page_needs_nothing_from_elsewhere_and_runs_nothing(written: Path) -> None:
    text = (written / "r.html").read_text(encoding="utf-8")
    page = page_of.fromstring(text)
    assert not list(page.iter("script", "link", "iframe", "object"))
    for node in page.iter():
        for name, value in node.attrib.items():
            if name in ("src", "href"):
                assert value.startswith(("data:", "#")), value[:60]
            assert not name.startswith("on")
    assert not re.findall(r"url\((?!#|\"data:font)", text)
    assert len(re.findall(r' id="clip-', text)) == len(set(re.findall(r' id="(clip-[^"]+)"', text))) == 7
    assert HOSTILE not in text
    assert HOSTILE in page.text_content()
    assert page.get("lang") == "en"
    for figure in page.iter("figure"):
        assert figure.get("aria-label")
        assert figure.find(".//svg") is not None


def test_tables_and_figures_are_files_of_their_own(results: Results, written: Path) -> None:
    tables = [
        b for s in report_sections(Page(results, METRIC, check=False), "") for b in s.blocks if isinstance(b, Rows)
    ]
    page = page_of.fromstring((written / "r.html").read_text(encoding="utf-8"))
    links = {a.get("download"): a.get("href") for a in page.iter("a") if a.get("download")}
    assert len({t.name for t in tables}) == len(tables)
    for each in tables:
        kept = (written / "parts" / f"{each.name}.csv").read_text(encoding="utf-8")
        assert [tuple(row) for row in csv.reader(io.StringIO(kept))] == list(each.rows)
        assert unquote(links[f"{each.name}.csv"].partition(",")[2]) == kept
    drawn = list((written / "parts").glob("*.svg"))
    assert len(drawn) == 7
    for file in drawn:
        assert etree.fromstring(file.read_bytes()).tag.endswith("svg")


def test_equal_projects_give_equal_bytes(results: Results, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("SOURCE_DATE_EPOCH", "1767225600")
    assert moment() == "2026-01-01 00:00"
    for name in ("a.html", "b.html", "a.pdf", "b.pdf"):
        write_report(tmp_path / name, Results(results.bundle), check=False)
    for kind in ("html", "pdf"):
        assert (tmp_path / f"a.{kind}").read_bytes() == (tmp_path / f"b.{kind}").read_bytes()


def test_title_logo_and_notes_are_ones_own(results: Results, tmp_path: Path) -> None:
    logo = tmp_path / "logo.png"
    Image.new("RGB", (120, 40), "teal").save(logo)
    wanted = Wanted("Bench 7", read_logo(logo), "For the Friday meeting")
    for kind in ("html", "pdf"):
        write_report(tmp_path / f"r.{kind}", results, check=False, wanted=wanted)
    page = page_of.fromstring((tmp_path / "r.html").read_text(encoding="utf-8"))
    assert page.find(".//h1").text_content() == "Bench 7"
    assert page.find(".//img").get("src").startswith("data:image/png")
    first = PdfReader(tmp_path / "r.pdf").pages[0]
    assert "Bench 7" in first.extract_text()
    assert "For the Friday meeting" in first.extract_text()
    assert len(first.images) == 1


@pytest.mark.parametrize(("data", "said"), [(b"no picture", "no PNG or JPEG"), (b"", "no PNG or JPEG")])
def test_what_is_no_logo_is_refused(tmp_path: Path, data: bytes, said: str) -> None:
    (tmp_path / "x.png").write_bytes(data)
    with pytest.raises(InputError, match=said):
        read_logo(tmp_path / "x.png")
    with pytest.raises(InputError, match="cannot be read"):
        read_logo(tmp_path / "none.png")
    Image.new("1", (5000, 2)).save(tmp_path / "wide.png")
    with pytest.raises(InputError, match="pixels"):
        read_logo(tmp_path / "wide.png")


def test_the_command_writes_both_and_refuses_others(
    results: Results, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    project = tmp_path / "p.mandorla"
    write_bundle(project, results.bundle)
    target = tmp_path / "out.html"
    assert run(["report", str(project), "-o", str(target), "--no-check", "--title", "Mine", "--units", "us"]) == 0
    assert "°F" in target.read_text(encoding="utf-8")
    assert run(["report", str(project), "-o", str(tmp_path / "out.doc"), "--no-check"]) == 2
    assert "neither with .pdf nor with .html" in capsys.readouterr().err


def test_names_of_curves_touch_no_curve_and_no_other_name() -> None:
    """Two curves a hair apart and reference lines: every name finds its own place."""
    x = np.linspace(0.0, 10.0, 200)
    curves = [
        Curve("sensor", x, 60.0 * (1.0 - np.exp(-x)) + 0.5 * np.sin(9 * x), "#000000"),
        Curve("surface", x, 58.0 * (1.0 - np.exp(-x)), "#000001"),
        Curve("third", x, 57.0 * (1.0 - np.exp(-2.0 * x)), "#000002"),
    ]
    drawing = curve_figure(
        curves, ("Time, min", "Temperature"), 481.0, 147.0, [(60.0, "set point", "#000003", False), (4.0, "ready", "#000004", True)]
    )  # fmt: skip
    names = [
        t for t in drawing.contents if isinstance(t, String) and t.text in ("sensor", "surface", "third", "set point", "ready")
    ]  # fmt: skip
    boxes = [
        (t.x, t.y - 0.2 * t.fontSize, t.x + stringWidth(t.text, t.fontName, t.fontSize), t.y + 0.75 * t.fontSize) for t in names
    ]  # fmt: skip
    assert len(boxes) == 5
    for a, b in combinations(boxes, 2):
        assert a[2] <= b[0] or b[2] <= a[0] or a[3] <= b[1] or b[3] <= a[1], (a, b)
    for line in (c for c in drawing.contents if isinstance(c, PolyLine)):
        p = np.array(line.points).reshape(-1, 2)
        fine = np.stack(
            [np.interp(np.linspace(0, len(p) - 1, 4000), np.arange(len(p)), p[:, k]) for k in (0, 1)], axis=1
        )
        for left, low, right, high in boxes:
            inside = (fine[:, 0] > left) & (fine[:, 0] < right) & (fine[:, 1] > low) & (fine[:, 1] < high)
            assert not inside.any()
