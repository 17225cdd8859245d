"""The PDF report: the answers first, then the pictures and tables that prove them, assumptions and cautions last."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from io import BytesIO
from pathlib import Path
from typing import Any

import numpy as np
from reportlab.lib.colors import HexColor
from reportlab.lib.enums import TA_LEFT
from reportlab.lib.pagesizes import A4
from reportlab.lib.styles import ParagraphStyle
from reportlab.lib.units import mm
from reportlab.platypus import KeepTogether, Paragraph, SimpleDocTemplate, Spacer, Table, TableStyle

from mandorla import __version__
from mandorla.core.errors import InputError
from mandorla.core.failure.messages import (
    band_text,
    heat_up_sentence,
    limit_sentence,
    margin_text,
    probability_text,
    ready_text,
)
from mandorla.core.failure.print_words import print_sentence
from mandorla.core.failure.registry import Judgement
from mandorla.core.failure.words import chance_of, clause, full_headline, headline
from mandorla.core.measure.records import record_text
from mandorla.core.part.geometry import PartGeometry
from mandorla.core.part.mesh import Floats
from mandorla.core.project.models import Project
from mandorla.core.project.store import target_of, write_atomically
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
from mandorla.core.report.fonts import register_fonts
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.results.suggestions import Suggested
from mandorla.core.tune.levers import Openers
from mandorla.core.tune.messages import tune_sentence
from mandorla.core.tune.operating_point import Evaluation
from mandorla.core.tune.suggestion import Suggestion
from mandorla.core.tune.window_map import Point, Window
from mandorla.core.units import METRIC, UnitPreferences, show, show_duration
from mandorla.core.warp.fe_result import FullRun

_WIDTH = A4[0] - 36 * mm - 12  # the frame pads 6 points on both sides
CAUTIONS = (
    "Heated beds on mains voltage, closed heated chambers and long unattended prints can start fires, burn and give off fumes. "
    "This report is a model's estimate; it certifies nothing. Wiring, fuses, earthing and ventilation follow the local electrical "
    "code, the makers' data and a qualified electrician."
)


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


@dataclass(frozen=True, slots=True)
class Page:
    """What every part of the report writes from: the results, the units to write in, the styles; whether suggestions are checked in
    full before they are printed."""

    results: Results
    units: UnitPreferences
    styles: dict[str, ParagraphStyle]
    check: bool = True

    @property
    def project(self) -> Project:
        """The project."""
        return self.results.bundle.project

    @property
    def evaluation(self) -> Evaluation:
        """The quick evaluation."""
        return self.results.get(keys.EVALUATION)

    @property
    def window(self) -> Window:
        """The operating window, as full simulations have moved it."""
        return self.suggested.window

    @property
    def judgement(self) -> Judgement:
        """The judgement that everybody shows, by a full run at draft at least where that is wished."""
        if self.check:
            self.results.get(keys.SETTINGS_CHECK)
        return self.results.get(self.results.judgement_key())

    @property
    def suggested(self) -> Suggested:
        """What Tune offers with its map, checked in full where that is wished."""
        return self.results.get(keys.SUGGESTIONS.of(check=self.check))

    @property
    def openers(self) -> Openers:
        """What would open a window on which nothing holds."""
        return self.results.get(keys.OPENERS.of(units=self.units, check=self.check))

    @property
    def full_run(self) -> FullRun | None:
        """The finest full simulation of the project as it is, if one was run."""
        asked = [
            keys.FULL_RUN.of(resolution=r, bodies=b) for r in ("fine", "standard", "draft") for b in ("all", "one")
        ]
        return next((found for key in asked if (found := self.results.there(key)) is not None), None)

    def show(self, value: float, kind: str, digits: int | None = None) -> str:
        """A figure with its unit, as the reader prefers it."""
        return show(value, kind, self.units, digits=digits)

    def scale(self, kind: str, values: Floats) -> tuple[Floats, str]:
        """Values in the preferred unit, and its symbol."""
        unit = self.units.unit(kind)
        return np.asarray(unit.from_si(values)), unit.symbol

    def at(self, kind: str, value: float) -> float:
        """One value in the preferred unit."""
        return float(self.units.unit(kind).from_si(value))

    def text(self, text: str, style: str = "base") -> Paragraph:
        """A paragraph."""
        return Paragraph(text, self.styles[style])


def _summary_rows(p: Page) -> list[list[str]]:
    """Figure, value and range of everything that was asked."""
    e, settings = p.evaluation, p.project.settings
    w, use = e.warp, e.energy
    assert w is not None
    assert use is not None
    assert e.part is not None
    surface = e.heat.bands["surface"]
    soak = show_duration(settings.soak_time)
    margins = " to ".join(margin_text(v) for v in w.band("margin", w.margin))
    coldest = min(w.corners, key=lambda c: c.plate).corner.name
    chamber = (
        f"chamber {p.show(settings.chamber, 'temperature', 0)}" if p.project.rig.heats_chamber else "chamber not heated"
    )

    def ranged(value: float, low: float, high: float, kind: str) -> str:
        return band_text(value, low, high, kind, p.units)

    return [
        ["Settings", f"bed {p.show(settings.bed_first, 'set_point', 0)}, then {p.show(settings.bed_rest, 'set_point', 0)}",
         f"{chamber}, soak {soak}, part fan {p.show(settings.fan, 'fraction', 0)}"],
        ["Surface, centre, soaked", p.show(surface.value, "temperature"),
         ranged(surface.value, surface.low, surface.high, "temperature")],
        ["Coldest under the part", p.show(e.coldest, "temperature"), f"at the {coldest} corner"],
        ["Ready in", ready_text(e.heat), f"then {soak} soak"],
        ["Hold margin, quick estimate", margin_text(w.margin),
         f"{margins}; weakest at the {w.corners[w.weakest].corner.name} corner"],
        ["Lift at the end of the print", p.show(w.printed_lift, "length"),
         ranged(w.printed_lift, *w.band("lift", w.printed_lift), "length")],
        ["Flatness after release", p.show(abs(w.released_lift), "length"),
         ranged(abs(w.released_lift), *w.band("released", abs(w.released_lift)), "length")],
        ["Crack index", f"{w.crack_index:.2f}", f"weakest at {p.show(w.crack_height, 'length', 0)}; 1 is the limit"],
        ["Print time and mass", show_duration(e.part.plan.duration), p.show(e.part.plan.mass, "mass")],
        ["Energy at the plug", p.show(use.total, "energy"),
         f"{ranged(use.total, *use.within, 'energy')}; {use.cost:.2f} {p.project.criteria.currency}"],
    ]  # fmt: skip


def _first_page(p: Page, when: str) -> list[Any]:
    e, rig = p.evaluation, p.project.rig
    assert e.part is not None
    rows = [["Figure", "Value", "90 % range, or how it is meant"], *_summary_rows(p)]
    full = p.full_run
    tears = e.part.bonds_too_strongly
    return [
        p.text(p.project.name, "title"),
        p.text(
            f"{rig.name} · {e.part.polymer.name} on {e.part.surface.name} · {when} · Mandorla {__version__}", "soft"
        ),
        Spacer(1, 8),
        p.text(
            headline(p.judgement, p.units)
            if full is None
            else f"By the full simulation, {full.resolution}: {full_headline(p.judgement, full, p.units, tears)}",
            "answer",
        ),
        p.text(
            tune_sentence(
                p.window, p.judgement, p.suggested.offers, p.openers, p.project.rig, p.project.settings, p.units
            ),
            "answer",
        ),
        p.text(f"{heat_up_sentence(e.heat, p.units)} {limit_sentence(e.limits, p.units)}", "answer"),
        p.text(print_sentence(e.course, e.part, rig.chamber.enclosed, p.units))
        if e.course and e.part
        else Spacer(1, 0),
        Spacer(1, 4),
        report_table(rows, [0.26 * _WIDTH, 0.24 * _WIDTH, 0.5 * _WIDTH], p.styles),
        KeepTogether([p.text("Bed stack", "head"), stack_figure(rig, e.heat, _WIDTH, 34 * mm, p.units)]),
        KeepTogether([p.text("Warming up", "head"), _heat_figure(p)]),
        KeepTogether([p.text("Caution", "head"), p.text(CAUTIONS, "soft")]),
    ]


def _heat_figure(p: Page) -> Any:
    heat = p.evaluation.heat
    pick = np.flatnonzero(heat.time <= heat.shown_until(p.project.settings.soak_time))[::6]
    minutes = heat.time[pick] / 60
    unit = p.units.unit("temperature").symbol
    shown = [("sensor", heat.reading, PALETTE[1]), ("surface", heat.surface, PALETTE[0])]
    if p.project.rig.chamber.enclosed:
        shown.append(("chamber", heat.air, PALETTE[2]))
    curves = [Curve(name, minutes, p.scale("temperature", curve[pick])[0], color) for name, curve, color in shown]
    lines = [(p.at("temperature", heat.set_point), "set point", "#525c60", False)]
    if np.isfinite(heat.ready_time):
        lines.append((heat.ready_time / 60, "ready", "#1f7a55", True))
    return curve_figure(curves, ("Time, min", f"Temperature, {unit}"), _WIDTH, 52 * mm, lines)


def _second_page(p: Page, geometry: PartGeometry) -> list[Any]:
    e = p.evaluation
    w = e.warp
    assert w is not None
    length = p.units.unit("length").symbol
    size = " × ".join(p.show(float(v), "large_length", 0) for v in geometry.mesh.size)
    height = p.scale("length", w.height)[0]
    lines = [(p.at("length", w.let_go_height), "detaches", "#b0302a", True)] if np.isfinite(w.let_go_height) else []
    peel = curve_figure(
        [Curve("peel", height, 1e-6 * w.demand, PALETTE[0]), Curve("grip", height, 1e-6 * w.capacity, PALETTE[1])],
        (f"Printed height, {length}", "Stress at the end of the foot, MPa"), _WIDTH / 2 - 6, 55 * mm, lines,
    )  # fmt: skip
    crack = curve_figure(
        [Curve("crack index", height, w.crack, PALETTE[3])], (f"Height, {length}", "Crack index"), _WIDTH / 2 - 6, 55 * mm,
        [(1.0, "cracks", "#b0302a", False)],
    )  # fmt: skip
    landing = curve_figure(
        [
            Curve("next layer lands", height, p.scale("temperature", w.landing)[0], PALETTE[0]),
            Curve("end of print", height, p.scale("temperature", w.end_temperature)[0], PALETTE[2]),
        ],
        (f"Height, {length}", f"Temperature of the layer, {p.units.unit('temperature').symbol}"), _WIDTH, 52 * mm,
        [(p.at("temperature", e.part.polymer.softening_temperature), "softens", "#a0650b", False)] if e.part else [],
    )  # fmt: skip
    rows = [["Corner", "Plate there", "Hold margin", "Lift"]] + [
        [c.corner.name, p.show(c.plate, "temperature"), margin_text(c.margin), p.show(c.lift, "length")]
        for c in sorted(w.corners, key=lambda c: c.margin)
    ]
    return [
        KeepTogether([
            p.text("Part and warp", "head"),
            part_figure(geometry.shown, _WIDTH, 62 * mm),
            p.text(f"{size}, {len(geometry.mesh.faces)} triangles, volume {p.show(geometry.mesh.volume, 'volume')}.", "soft"),
        ]),
        Spacer(1, 6),
        Table([[peel, crack]], colWidths=[_WIDTH / 2, _WIDTH / 2], style=[("LEFTPADDING", (0, 0), (-1, -1), 0)]),
        landing,
        Spacer(1, 6),
        report_table(rows, [0.25 * _WIDTH] * 4, p.styles),
    ]  # fmt: skip


def _point_row(name: str, point: Point | None, p: Page) -> list[str]:
    assert point is not None
    second = (
        p.show(point.y, "temperature", 0) if p.window.heated else f"{p.show(point.air, 'temperature', 0)}, not heated"
    )
    return [
        name, p.show(point.x, "temperature", 0), second, probability_text(p.judgement.anything),
        p.show(point.energy, "energy"), "",
    ]  # fmt: skip


def _suggestion_row(name: str, s: Suggestion | None, p: Page) -> list[str]:
    if s is None:
        return [name, "none found", "", "", "", ""]
    second = p.show(s.settings.chamber, "temperature", 0) if p.window.heated else "not heated"
    bed = f"{p.show(s.settings.bed_first, 'set_point', 0)}, then {p.show(s.settings.bed_rest, 'set_point', 0)}"
    return [name, bed, second, probability_text(s.judgement.anything), p.show(s.energy, "energy"), s.proof]


def _scenarios(p: Page) -> list[Any]:
    """Pinned scenarios beside the present state; none where nothing is pinned."""
    project = p.project
    if not project.scenarios:
        return []
    each = [(s.name, s.settings, p.results.get(keys.SCENARIO.of(scenario=s.name))) for s in project.scenarios]
    columns = [
        *((name, s, e, e.judgement) for name, s, e in each),
        ("Now", project.settings, p.evaluation, p.judgement),
    ]

    def set_to(name: str, kind: str) -> list[str]:
        return [p.show(getattr(s, name), kind, 0) for _, s, _, _ in columns]

    rows = [
        ["Bed, first layers", *set_to("bed_first", "set_point")], ["Bed, rest", *set_to("bed_rest", "set_point")],
        *([["Chamber", *set_to("chamber", "temperature")]] if project.rig.heats_chamber else []),
        ["Soak", *set_to("soak_time", "duration")], ["Part fan", *set_to("fan", "fraction")],
        ["Anything fails", *(probability_text(j.anything) for _, _, _, j in columns)],
        ["Fails first", *(j.titles.get(j.first, "nothing") for _, _, _, j in columns)],
        ["Energy", *(p.show(e.energy.total, "energy") if e.energy else "" for _, _, e, _ in columns)],
    ]  # fmt: skip
    rows.sort(key=lambda row: len(set(row[1:])) == 1)  # what differs comes first
    widths = [0.2 * _WIDTH, *([0.8 * _WIDTH / len(columns)] * len(columns))]
    return [
        KeepTogether([
            p.text("Scenarios, what differs first", "head"),
            report_table([["", *(name for name, _, _, _ in columns)], *rows], widths, p.styles),
        ])
    ]  # fmt: skip


def _ways_table(p: Page) -> Any:
    """Every way to fail that counts, the likeliest first."""
    j = p.judgement
    order = sorted(j.counted, key=lambda k: -j.counted[k].probability if np.isfinite(j.counted[k].probability) else 0.0)
    rows = [["Way to fail", "State", "Chance", "What is found", "Model"]] + [
        [j.titles[k], j.counted[k].state.value, chance_of(j.counted[k]), clause(j, k, p.units), j.counted[k].source]
        for k in order
    ]
    return report_table(rows, [0.21 * _WIDTH, 0.1 * _WIDTH, 0.11 * _WIDTH, 0.5 * _WIDTH, 0.08 * _WIDTH], p.styles)


def _third_page(p: Page) -> list[Any]:
    e, window, records = p.evaluation, p.window, p.project.measurements.records
    standing = record_text(records[-1], p.project.rig) if records else "The rig has not been verified by measurements."
    by_key = {s.key: s for s in p.suggested.offers}
    points = [["", "Bed", "Chamber", "Anything fails", "Energy", "Proof"], _point_row("Now", window.present, p)]
    points += [
        _suggestion_row(n, by_key.get(k), p) for n, k in (("Smallest change", "nearest"), ("Cheapest", "cheapest"))
    ]
    for key, name in (("safest", "Safest"), ("fastest", "Done soonest")):
        if (s := by_key.get(key)) is not None:
            points.append(_suggestion_row(f"{name}, soak {show_duration(s.settings.soak_time)}", s, p))
    limits = [["Rating", "State", "Value", "Limit", "Why"]] + [
        [c.name, c.state.value, p.show(c.value, c.kind, 0), p.show(c.limit, c.kind, 0), c.reason] for c in e.limits
    ]
    full = p.full_run
    checked = (
        "No full simulation of this state has been run."
        if full is None
        else f"A full simulation of this state was run, {full.resolution}; its answer is on the first page."
    )
    notes = [
        "Quick models: through-stack heat flow with a lumped chamber; strip theory on a foundation that detaches. Figures "
        f"of materials are typical for their class; grip on the plate is known to a factor of two. {standing} {checked}",
        *e.heat.notes,
        *(e.warp.notes if e.warp else ()),
    ]
    return [
        KeepTogether([
            p.text("Operating window", "head"),
            window_figure(window, _WIDTH, 86 * mm, p.units, {k: s.point for k, s in by_key.items()}),
            p.text("Amber: holds and nothing is over its limit. Plum: only the part's needs are met. "
                   "Blue: only machine, plate and polymer allow it.", "soft"),
        ]),
        Spacer(1, 4),
        report_table(points, [0.15 * _WIDTH, 0.22 * _WIDTH, 0.14 * _WIDTH, 0.13 * _WIDTH, 0.12 * _WIDTH, 0.24 * _WIDTH], p.styles),
        *_scenarios(p),
        p.text("Every way to fail", "head"),
        _ways_table(p),
        p.text("Ratings", "head"),
        report_table(limits, [0.2 * _WIDTH, 0.11 * _WIDTH, 0.1 * _WIDTH, 0.1 * _WIDTH, 0.49 * _WIDTH], p.styles),
        KeepTogether([p.text("How these figures were made", "head"), *(p.text(n, "soft") for n in notes)]),
    ]  # fmt: skip


def _verification_page(p: Page) -> list[Any]:
    """The newest verification record, whether it still holds for this rig, and where a fitted rig comes from."""
    records, fitted = p.project.measurements.records, p.project.rig.fitted
    if not records and fitted is None:
        return []
    found: list[Any] = [p.text("Verification", "head")]
    if records:
        last = records[-1]
        rows = [["", "Measured", "Predicted", ""], *([r.what, r.measured, r.predicted, r.verdict] for r in last.rows)]
        found += [
            p.text(record_text(last, p.project.rig), "answer"), p.text(last.sentence),
            report_table(rows, [0.3 * _WIDTH, 0.25 * _WIDTH, 0.33 * _WIDTH, 0.12 * _WIDTH], p.styles),
        ]  # fmt: skip
    if fitted is not None:
        rows = [["Fitted", "Before", "After", "Range left"]]
        rows += [[v.name, v.before, v.after, f"{100 * min(v.share, 1.0):.0f} %"] for v in fitted.values]
        found += [
            p.text(f"The rig was fitted on {fitted.date} to {', '.join(fitted.logs)}."),
            report_table(rows, [0.4 * _WIDTH, 0.22 * _WIDTH, 0.22 * _WIDTH, 0.16 * _WIDTH], p.styles),
        ]
    return [KeepTogether(found)]


def write_report(path: Path, results: Results, units: UnitPreferences = METRIC, check: bool = True) -> None:
    """Write the report of a project with a part; with ``check`` after its suggestions have been run in full.

    Raises
    ------
    InputError
        Without a part.
    ProjectFileError
        When the file cannot be written.
    """
    geometry = results.get(keys.GEOMETRY)
    if geometry is None:
        raise InputError("The report needs a part: open one first.")
    target_of(path)  # refused before a minute is spent on simulations
    register_fonts()
    page = Page(results, units, report_styles(), check)
    when = datetime.now().strftime("%Y-%m-%d %H:%M")
    story = _first_page(page, when) + _second_page(page, geometry) + _third_page(page) + _verification_page(page)
    buffer = BytesIO()
    document = SimpleDocTemplate(
        buffer, pagesize=A4, leftMargin=18 * mm, rightMargin=18 * mm, topMargin=15 * mm, bottomMargin=14 * mm,
        title=f"{results.bundle.project.name} – Mandorla", author="Mandorla",
    )  # fmt: skip
    document.build(story)
    write_atomically(Path(path), buffer.getvalue())
