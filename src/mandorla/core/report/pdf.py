"""The PDF report: the answers first, then the pictures and tables that prove them, assumptions and cautions last."""

from __future__ import annotations

import os
import tempfile
from datetime import datetime
from importlib import resources
from io import BytesIO
from pathlib import Path
from typing import Any

import numpy as np
from reportlab.lib.colors import HexColor
from reportlab.lib.enums import TA_LEFT
from reportlab.lib.pagesizes import A4
from reportlab.lib.styles import ParagraphStyle
from reportlab.lib.units import mm
from reportlab.pdfbase import pdfmetrics
from reportlab.pdfbase.ttfonts import TTFont
from reportlab.platypus import PageBreak, Paragraph, SimpleDocTemplate, Spacer, Table, TableStyle

from mandorla import __version__
from mandorla.core.errors import ProjectFileError
from mandorla.core.measure.compare import record_text
from mandorla.core.project.models import Project
from mandorla.core.project.session import PartGeometry
from mandorla.core.project.store import Bundle
from mandorla.core.report.figures import (
    PALETTE,
    REGULAR,
    STRONG,
    Curve,
    curve_figure,
    part_figure,
    stack_figure,
    window_figure,
)
from mandorla.core.tune.evaluate import Evaluation
from mandorla.core.tune.sentences import (
    band_text,
    heat_up_sentence,
    limit_sentence,
    margin_text,
    probability_text,
    tune_sentence,
    warp_sentence,
)
from mandorla.core.tune.window import Point, Window
from mandorla.core.units import show, show_duration
from mandorla.core.warp.estimate import Z90

_WIDTH = A4[0] - 36 * mm - 12  # the frame pads 6 points on both sides
CAUTIONS = (
    "Heated beds on mains voltage, closed heated chambers and long unattended prints can start fires, burn and give off fumes. "
    "This report is a model's estimate; it certifies nothing. Wiring, fuses, earthing and ventilation follow the local electrical "
    "code, the makers' data and a qualified electrician."
)


def _register_fonts() -> None:
    if REGULAR in pdfmetrics.getRegisteredFontNames():
        return
    folder = resources.files("mandorla.data").joinpath("fonts")
    for name, file in ((REGULAR, "Inter-Regular.ttf"), (STRONG, "Inter-SemiBold.ttf")):
        pdfmetrics.registerFont(TTFont(name, BytesIO(folder.joinpath(file).read_bytes())))


def _styles() -> dict[str, ParagraphStyle]:
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


def _table(rows: list[list[str]], widths: list[float], styles: dict[str, ParagraphStyle]) -> Table:
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


def _summary_rows(project: Project, e: Evaluation) -> list[list[str]]:
    """Figure, value and range of everything that was asked."""
    w, use, settings = e.warp, e.energy, project.settings
    assert w is not None
    assert use is not None
    assert e.part is not None
    surface, power = e.heat.bands["surface"], e.heat.bands["power"]

    def degrees(value: float) -> str:
        return show(value, "temperature", digits=0)

    soak = show_duration(settings.soak_time)
    factor = float(np.exp(Z90 * w.margin_spread))
    margins = f"{margin_text(w.margin / factor)} to {margin_text(w.margin * factor)}"
    released = sorted((abs(w.released_low), abs(w.released_high)))
    hold = f"{power.value:.0f} W hold the bed ({power.low:.0f}–{power.high:.0f})"
    return [
        ["Settings", f"bed {degrees(settings.bed_first)}, then {degrees(settings.bed_rest)}",
         f"chamber {degrees(settings.chamber)}, soak {soak}, part fan {show(settings.fan, 'fraction', digits=0)}"],
        ["Surface, centre, soaked", show(surface.value, "temperature"),
         band_text(surface.value, surface.low, surface.high, "temperature")],
        ["Coldest under the part", show(e.coldest, "temperature"), f"at the {w.corners[w.weakest].corner.name} corner"],
        ["Ready in", show_duration(e.ready_time), f"then {soak} soak"],
        ["Hold margin", margin_text(w.margin), f"{margins}; {probability_text(w.hold_probability)} to hold"],
        ["Lift at the end of the print", show(w.printed_lift, "length"),
         band_text(w.printed_lift, w.lift_low, w.lift_high, "length")],
        ["Off flat after release", show(abs(w.released_lift), "length"),
         band_text(abs(w.released_lift), released[0], released[1], "length")],
        ["Crack index", f"{w.crack_index:.2f}", f"weakest at {show(w.crack_height, 'length', digits=0)}; 1 is the limit"],
        ["Print time and mass", show_duration(e.part.plan.duration), show(e.part.plan.mass, "mass")],
        ["Energy and cost", show(use.total, "energy"), f"{use.cost:.2f} {project.criteria.currency}; {hold}"],
    ]  # fmt: skip


def _first_page(bundle: Bundle, e: Evaluation, window: Window, s: dict[str, ParagraphStyle], when: str) -> list[Any]:
    project, heat = bundle.project, e.heat
    assert e.part is not None
    settings = project.settings
    rows = [["Figure", "Value", "90 % range, or how it is meant"], *_summary_rows(project, e)]
    return [
        Paragraph(project.name, s["title"]),
        Paragraph(
            f"{project.rig.name} · {e.part.polymer.name} on {e.part.surface.name} · {when} · Mandorla {__version__}",
            s["soft"],
        ),
        Spacer(1, 8),
        Paragraph(warp_sentence(e), s["answer"]),
        Paragraph(tune_sentence(window, e, settings, project.criteria), s["answer"]),
        Paragraph(heat_up_sentence(heat) + " " + limit_sentence(e.limits), s["answer"]),
        Spacer(1, 4),
        _table(rows, [0.26 * _WIDTH, 0.24 * _WIDTH, 0.5 * _WIDTH], s),
        Paragraph("Bed stack", s["head"]),
        stack_figure(project.rig, heat, _WIDTH, 34 * mm),
        Paragraph("Warming up", s["head"]),
        _heat_figure(bundle, e),
    ]


def _heat_figure(bundle: Bundle, e: Evaluation) -> Any:
    heat = e.heat
    until = heat.ready_time if np.isfinite(heat.ready_time) else float(heat.time[-1])
    end = min(float(heat.time[-1]), max(1.6 * until + 300.0, 1500.0))
    pick = np.flatnonzero(heat.time <= end)[::6]
    minutes = heat.time[pick] / 60
    curves = [
        Curve("sensor", minutes, heat.reading[pick] - 273.15, PALETTE[1]),
        Curve("surface", minutes, heat.surface[pick] - 273.15, PALETTE[0]),
    ]
    if bundle.project.rig.chamber.enclosed:
        curves.append(Curve("chamber", minutes, heat.air[pick] - 273.15, PALETTE[2]))
    lines = [(heat.set_point - 273.15, "set point", "#525c60", False)]
    if np.isfinite(heat.ready_time):
        lines.append((heat.ready_time / 60, "ready", "#1f7a55", True))
    return curve_figure(curves, ("Time, min", "Temperature, °C"), _WIDTH, 52 * mm, lines)


def _second_page(bundle: Bundle, geometry: PartGeometry, e: Evaluation, s: dict[str, ParagraphStyle]) -> list[Any]:
    w = e.warp
    assert w is not None
    size = " × ".join(f"{1e3 * v:.0f}" for v in geometry.mesh.size)
    height = 1e3 * w.height
    lines = [(1e3 * w.let_go_height, "lets go", "#b0302a", True)] if np.isfinite(w.let_go_height) else []
    peel = curve_figure(
        [Curve("peel", height, 1e-6 * w.demand, PALETTE[0]), Curve("grip", height, 1e-6 * w.capacity, PALETTE[1])],
        ("Printed height, mm", "Stress at the end of the foot, MPa"), _WIDTH / 2 - 6, 55 * mm, lines,
    )  # fmt: skip
    crack = curve_figure(
        [Curve("crack index", height, w.crack, PALETTE[3])], ("Height, mm", "Crack index"), _WIDTH / 2 - 6, 55 * mm,
        [(1.0, "cracks", "#b0302a", False)],
    )  # fmt: skip
    landing = curve_figure(
        [
            Curve("next layer lands", height, w.landing - 273.15, PALETTE[0]),
            Curve("end of print", height, w.end_temperature - 273.15, PALETTE[2]),
        ],
        ("Height, mm", "Temperature of the layer, °C"), _WIDTH, 52 * mm,
        [(e.part.polymer.softening_temperature - 273.15, "softens", "#a0650b", False)] if e.part else [],
    )  # fmt: skip
    rows = [["Corner", "Plate there", "Hold margin", "Lift"]] + [
        [c.corner.name, show(c.plate, "temperature"), margin_text(c.margin), show(c.lift, "length")]
        for c in sorted(w.corners, key=lambda c: c.margin)
    ]
    return [
        PageBreak(),
        Paragraph("Part and warp", s["head"]),
        part_figure(geometry.shown, _WIDTH, 62 * mm),
        Paragraph(
            f"{size} mm, {len(geometry.mesh.faces)} triangles, volume {show(geometry.mesh.volume, 'volume')}.",
            s["soft"],
        ),
        Spacer(1, 6),
        Table([[peel, crack]], colWidths=[_WIDTH / 2, _WIDTH / 2], style=[("LEFTPADDING", (0, 0), (-1, -1), 0)]),
        landing,
        Spacer(1, 6),
        _table(rows, [0.25 * _WIDTH] * 4, s),
    ]


def _point_row(name: str, p: Point | None) -> list[str]:
    if p is None:
        return [name, "none on the map", "", "", "", ""]
    return [
        name, show(p.bed, "temperature", digits=0), show(p.chamber, "temperature", digits=0),
        f"{margin_text(p.margin)} ({probability_text(p.hold_probability)})", show(p.lift, "length"), show(p.energy, "energy"),
    ]  # fmt: skip


def _third_page(bundle: Bundle, e: Evaluation, window: Window, s: dict[str, ParagraphStyle]) -> list[Any]:
    records = bundle.project.measurements.records
    standing = (
        record_text(records[-1], bundle.project.rig) if records else "The rig has not been verified by measurements."
    )
    points = [["", "Bed, rest", "Chamber set", "Hold margin", "Lift", "Energy"]]
    points += [
        _point_row(n, p)
        for n, p in (("Now", window.present), ("Gentlest", window.nearest), ("Cheapest", window.cheapest))
    ]
    limits = [["Rating", "State", "Value", "Limit", "Why"]] + [
        [c.name, c.state.value, show(c.value, c.kind, digits=0), show(c.limit, c.kind, digits=0), c.reason]
        for c in e.limits
    ]
    notes = [
        "Quick models: through-stack heat flow with a lumped chamber; strip theory on a foundation that lets go. Figures "
        f"of materials are typical for their class; grip on the plate is known to a factor of two. {standing} "
        "The warp estimate has not been checked against a full simulation of this part.",
        *e.heat.notes,
        *(e.warp.notes if e.warp else ()),
    ]
    return [
        PageBreak(),
        Paragraph("Operating window", s["head"]),
        window_figure(window, _WIDTH, 92 * mm),
        Paragraph("Amber: holds and nothing is over its limit. Plum: what the part needs only. "
            "Blue: what machine, plate and polymer stand only.", s["soft"]),
        Spacer(1, 4),
        _table(points, [0.13 * _WIDTH, 0.14 * _WIDTH, 0.17 * _WIDTH, 0.24 * _WIDTH, 0.14 * _WIDTH, 0.18 * _WIDTH], s),
        Paragraph("Ratings", s["head"]),
        _table(limits, [0.2 * _WIDTH, 0.11 * _WIDTH, 0.1 * _WIDTH, 0.1 * _WIDTH, 0.49 * _WIDTH], s),
        Paragraph("What stands behind the figures", s["head"]),
        *[Paragraph(n, s["soft"]) for n in notes],
        Paragraph("Caution", s["head"]),
        Paragraph(CAUTIONS, s["soft"]),
    ]  # fmt: skip


def _verification_page(bundle: Bundle, s: dict[str, ParagraphStyle]) -> list[Any]:
    """The newest verification record, whether it still holds for this rig, and where a fitted rig comes from."""
    project = bundle.project
    records, fitted = project.measurements.records, project.rig.fitted
    if not records and fitted is None:
        return []
    found: list[Any] = [PageBreak(), Paragraph("Verification", s["head"])]
    if records:
        last = records[-1]
        found.append(Paragraph(record_text(last, project.rig), s["answer"]))
        found.append(Paragraph(last.sentence, s["base"]))
        rows = [["", "Measured", "Predicted", ""], *([r.what, r.measured, r.predicted, r.verdict] for r in last.rows)]
        found.append(_table(rows, [0.3 * _WIDTH, 0.25 * _WIDTH, 0.33 * _WIDTH, 0.12 * _WIDTH], s))
    if fitted is not None:
        text = f"The rig was fitted on {fitted.date} to {', '.join(fitted.logs)}."
        found.append(Paragraph(text, s["base"]))
        rows = [["Fitted", "Before", "After", "Range left"]]
        rows += [[v.name, v.before, v.after, f"{100 * min(v.share, 1.0):.0f} %"] for v in fitted.values]
        found.append(_table(rows, [0.4 * _WIDTH, 0.22 * _WIDTH, 0.22 * _WIDTH, 0.16 * _WIDTH], s))
    return found


def write_report(path: Path, bundle: Bundle, geometry: PartGeometry, evaluation: Evaluation, window: Window) -> None:
    """Write the report of an evaluated project with a part. Raises ProjectFileError when the file cannot be written."""
    _register_fonts()
    s = _styles()
    when = datetime.now().strftime("%Y-%m-%d %H:%M")
    story = _first_page(bundle, evaluation, window, s, when)
    story += _second_page(bundle, geometry, evaluation, s) + _third_page(bundle, evaluation, window, s)
    story += _verification_page(bundle, s)
    buffer = BytesIO()
    document = SimpleDocTemplate(
        buffer, pagesize=A4, leftMargin=18 * mm, rightMargin=18 * mm, topMargin=15 * mm, bottomMargin=14 * mm,
        title=f"{bundle.project.name} – Mandorla", author="Mandorla",
    )  # fmt: skip
    document.build(story)
    path = Path(path)
    try:
        handle, temporary = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
        with os.fdopen(handle, "wb") as stream:
            stream.write(buffer.getvalue())
        os.chmod(temporary, 0o644)
        os.replace(temporary, path)
    except OSError as error:
        raise ProjectFileError(f"“{path}” cannot be written: {error.strerror}.") from error
