"""What stands in a report: the answers first, then the pictures and tables that prove them, run sheet and assumptions."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np
from reportlab.lib.pagesizes import A4
from reportlab.lib.units import mm

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
from mandorla.core.failure.state import State
from mandorla.core.failure.words import chance_of, clause, full_headline, headline
from mandorla.core.measure.records import record_text
from mandorla.core.part.geometry import PartGeometry
from mandorla.core.part.mesh import Floats
from mandorla.core.project.models import Project
from mandorla.core.report.blocks import Beside, Block, Picture, Rows, Section, Words, table
from mandorla.core.report.figures import (
    PALETTE,
    Curve,
    curve_figure,
    part_figure,
    stack_figure,
    window_figure,
)
from mandorla.core.results import keys
from mandorla.core.results.corners import corners_by, corners_of
from mandorla.core.results.explained_words import figure_text
from mandorla.core.results.results import Results
from mandorla.core.results.suggestions import Suggested
from mandorla.core.tune.messages import offered, tune_sentence
from mandorla.core.tune.operating_point import Evaluation
from mandorla.core.tune.suggestion import Suggestion
from mandorla.core.tune.window_map import Point, Window
from mandorla.core.tune.worth import Openers
from mandorla.core.units import UnitPreferences, show, show_duration
from mandorla.core.warp.fe_result import FullRun

WIDTH = A4[0] - 36 * mm - 12  # the frame pads 6 points on both sides
CAUTIONS = (
    "Heated beds on mains voltage, closed heated chambers and long unattended prints can start fires, burn and give off fumes. "
    "This report is a model's estimate; it certifies nothing. Wiring, fuses, earthing and ventilation follow the local electrical "
    "code, the makers' data and a qualified electrician."
)


@dataclass(frozen=True, slots=True)
class Wanted:
    """What a person puts on a report: a ``title`` (empty: the project's name), a ``logo`` (bytes of a PNG or JPEG file), notes."""

    title: str = ""
    logo: bytes = b""
    notes: str = ""


@dataclass(frozen=True, slots=True)
class Page:
    """What every part of the report writes from: the results, the units to write in, whether suggestions are checked in
    full before they are printed, what a person wants on top."""

    results: Results
    units: UnitPreferences
    check: bool = True
    wanted: Wanted = Wanted()

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
        return self.results.get(keys.OPENERS.of(units=self.units, check=self.check)).by_runs(self.results.run_judgement)

    @property
    def full_run(self) -> FullRun | None:
        """The finest full simulation of the project as it is, if one was run."""
        return self.results.judging_run()

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


def _summary_rows(p: Page) -> list[list[str]]:
    """Figure, value and range of everything that was asked."""
    e, settings = p.evaluation, p.project.settings
    w, use = e.warp, e.energy
    assert w is not None
    assert use is not None
    assert e.part is not None
    surface = e.heat.bands["surface"]
    soak = show_duration(settings.soak_time)
    margins = " to ".join(dict.fromkeys(margin_text(v) for v in w.band("margin", w.margin)))
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
        ["Lift at the end of the print, quick estimate", p.show(w.printed_lift, "length"),
         ranged(w.printed_lift, *w.band("lift", w.printed_lift), "length")],
        ["Flatness after release, quick estimate", p.show(abs(w.released_lift), "length"),
         ranged(abs(w.released_lift), *w.band("released", abs(w.released_lift)), "length")],
        ["Crack index, quick estimate", f"{w.crack_index:.2f}",
         f"weakest at {p.show(w.crack_height, 'length', 0)}; 1 is the limit"],
        ["Print time and mass", show_duration(e.part.plan.duration), p.show(e.part.plan.mass, "mass")],
        ["Energy at the plug", p.show(use.total, "energy"),
         f"{ranged(use.total, *use.within, 'energy')}; {use.cost:.2f} {p.project.criteria.currency}"],
    ]  # fmt: skip


def _first(p: Page, when: str) -> list[Section]:
    e, rig = p.evaluation, p.project.rig
    assert e.part is not None
    rows = [["Figure", "Value", "90 % range, or how it is meant"], *_summary_rows(p)]
    full = p.full_run
    tears = e.part.bonds_too_strongly
    said = headline(p.judgement, p.units) if full is None else (
        f"By the full simulation, {full.resolution}: {full_headline(p.judgement, full, p.units, tears)}"
    )  # fmt: skip
    offered = tune_sentence(
        p.window, p.judgement, p.suggested.offers, p.openers, p.project.rig, p.project.settings, p.units
    )
    printing = (Words(print_sentence(e.course, e.part, rig.chamber.enclosed, p.units)),) if e.course else ()
    answers = Section("", (
        Words(p.wanted.title or p.project.name, "title"),
        Words(f"{rig.name} · {e.part.polymer.name} on {e.part.surface.name} · {when} · Mandorla {__version__}", "soft"),
        Words(said, "answer"),
        Words(offered, "answer"),
        Words(f"{heat_up_sentence(e.heat, p.units)} {limit_sentence(e.limits, p.units)}", "answer"),
        *printing,
        table("figures", rows, (0.26, 0.24, 0.5)),
    ))  # fmt: skip
    layers = stack_figure(rig, e.heat, WIDTH, 34 * mm, p.units)
    stack = Picture("bed-stack", layers, "The bed's layers with their temperatures")
    notes = [Words(line) for text in (p.project.notes, p.wanted.notes) for line in text.splitlines() if line.strip()]
    return [
        answers,
        Section("Caution", (Words(CAUTIONS, "caution"),), together=True),
        *([Section("Notes", tuple(notes))] if notes else []),
        Section("Bed stack", (stack,), together=True),
        Section("Warming up", (_heat_figure(p),), together=True),
    ]  # fmt: skip


def _heat_figure(p: Page) -> Picture:
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
    drawn = curve_figure(curves, ("Time, min", f"Temperature, {unit}"), WIDTH, 52 * mm, lines)
    return Picture("heat-up", drawn, "Temperatures of the heat-up over time")


def _part(p: Page, geometry: PartGeometry) -> list[Section]:
    e = p.evaluation
    w = e.warp
    assert w is not None
    length = p.units.unit("length").symbol
    size = " × ".join(p.show(float(v), "large_length", 0) for v in geometry.mesh.size)
    height = p.scale("length", w.height)[0]
    lines = [(p.at("length", w.let_go_height), "detaches", "#b0302a", True)] if np.isfinite(w.let_go_height) else []
    peel = curve_figure(
        [Curve("peel", height, 1e-6 * w.demand, PALETTE[0]), Curve("grip", height, 1e-6 * w.capacity, PALETTE[1])],
        (f"Printed height, {length}", "Stress at the end of the foot, MPa"), WIDTH / 2 - 6, 55 * mm, lines,
    )  # fmt: skip
    crack = curve_figure(
        [Curve("crack index", height, w.crack, PALETTE[3])], (f"Height, {length}", "Crack index"), WIDTH / 2 - 6, 55 * mm,
        [(1.0, "cracks", "#b0302a", False)],
    )  # fmt: skip
    landing = curve_figure(
        [
            Curve("next layer lands", height, p.scale("temperature", w.landing)[0], PALETTE[0]),
            Curve("end of print", height, p.scale("temperature", w.end_temperature)[0], PALETTE[2]),
        ],
        (f"Height, {length}", f"Temperature of the layer, {p.units.unit('temperature').symbol}"), WIDTH, 52 * mm,
        [(p.at("temperature", e.part.polymer.softening_temperature), "softens", "#a0650b", False)] if e.part else [],
    )  # fmt: skip
    by_run = corners_by(w, p.full_run)
    rows = [["Corner", "Plate there", f"Hold margin, {'full simulation' if by_run else 'estimate'}",
             *(["Hold margin, estimate"] if by_run else []), "Lift, estimate"]]  # fmt: skip
    rows += [
        [c.name, p.show(c.plate, "temperature"), margin_text(c.margin), *([margin_text(c.estimate)] if by_run else []),
         p.show(c.lift, "length")]
        for c in corners_of(w, p.full_run)
    ]  # fmt: skip
    return [
        Section("Part and warp", (
            Picture("part", part_figure(geometry.shown, WIDTH, 62 * mm), "The part"),
            Words(f"{size}, {len(geometry.mesh.faces)} triangles, volume {p.show(geometry.mesh.volume, 'volume')}.", "soft"),
        ), together=True),
        Section("", (
            Beside((Picture("peel-and-grip", peel, "Peel and grip over the printed height"),
                    Picture("cracks", crack, "Crack index over the height"))),
            Picture("layers", landing, "Temperatures of the layers over the height"),
            table("corners", rows, (1.0 / len(rows[0]),) * len(rows[0])),
        )),
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


_NONE: Final = "none found"


def _suggestion_row(name: str, s: Suggestion | None, p: Page, none: str = _NONE) -> list[str]:
    if s is None:
        return [name, none, "", "", "", ""]
    second = p.show(s.settings.chamber, "temperature", 0) if p.window.heated else "not heated"
    bed = f"{p.show(s.settings.bed_first, 'set_point', 0)}, then {p.show(s.settings.bed_rest, 'set_point', 0)}"
    return [name, bed, second, probability_text(s.judgement.anything), p.show(s.energy, "energy"), s.proof]


def _scenarios(p: Page) -> list[Section]:
    """Pinned scenarios beside the present state; none where nothing is pinned."""
    project = p.project
    if not project.scenarios:
        return []
    each = [(s.name, s.settings, p.results.get(keys.SCENARIO.of(scenario=s.name))) for s in project.scenarios]
    columns = [
        *((name, s, e, p.results.get(keys.SCENARIO_JUDGEMENT.of(scenario=name, check=p.check))) for name, s, e in each),
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
    widths = (0.2, *((0.8 / len(columns),) * len(columns)))
    found = table("scenarios", [["", *(name for name, _, _, _ in columns)], *rows], widths)
    return [Section("Scenarios, what differs first", (found,), together=True)]


def _ways_table(p: Page) -> Rows:
    """Every way to fail that counts, the likeliest first."""
    j = p.judgement
    order = sorted(j.counted, key=lambda k: -j.counted[k].probability if np.isfinite(j.counted[k].probability) else 0.0)
    rows = [["Way to fail", "State", "Chance", "What is found", "Model"]] + [
        [j.titles[k], j.counted[k].state.value, chance_of(j.counted[k]), clause(j, k, p.units), j.counted[k].source]
        for k in order
    ]
    return table("ways-to-fail", rows, (0.21, 0.1, 0.11, 0.5, 0.08))


def _tune(p: Page) -> list[Section]:
    e, window, records = p.evaluation, p.window, p.project.measurements.records
    standing = record_text(records[-1], p.project.rig) if records else "The rig has not been verified by measurements."
    by_key = offered(p.suggested.offers, p.judgement)
    points = [["", "Bed", "Chamber", "Anything fails", "Energy", "Proof"], _point_row("Now", window.present, p)]
    holds = p.judgement.whole is State.HOLDS
    none = "none needed" if holds else _NONE
    points.append(_suggestion_row("Smallest change", by_key.get("nearest"), p, none))
    points.append(_suggestion_row("Cheapest", by_key.get("cheapest"), p))
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
    drawn = window_figure(window, WIDTH, 86 * mm, p.units, {k: s.point for k, s in by_key.items()})
    key = (
        "Amber: holds and nothing is over its limit. Plum: only the part's needs are met. Blue: only machine, plate and polymer "
        "allow it."
    )
    return [
        Section("Operating window", (
            Picture("operating-window", drawn, "The operating window"), Words(key, "soft"),
        ), together=True),
        Section("", (table("suggestions", points, (0.15, 0.22, 0.14, 0.13, 0.12, 0.24)),)),
        *_scenarios(p),
        Section("Every way to fail", (_ways_table(p),)),
        Section("Ratings", (table("ratings", limits, (0.2, 0.11, 0.1, 0.1, 0.49)),)),
        Section("How these figures were made", tuple(Words(n, "soft") for n in notes), together=True),
    ]  # fmt: skip


def _verification(p: Page) -> list[Section]:
    """The newest verification record, whether it still holds for this rig, and where a fitted rig comes from."""
    records, fitted = p.project.measurements.records, p.project.rig.fitted
    if not records and fitted is None:
        return []
    found: list[Block] = []
    if records:
        last = records[-1]
        rows = [["", "Measured", "Predicted", ""], *([r.what, r.measured, r.predicted, r.verdict] for r in last.rows)]
        found += [
            Words(record_text(last, p.project.rig), "answer"), Words(last.sentence),
            table("verification", rows, (0.3, 0.25, 0.33, 0.12)),
        ]  # fmt: skip
    if fitted is not None:
        rows = [["Fitted", "Before", "After", "Range left"]]
        rows += [[v.name, v.before, v.after, f"{100 * min(v.share, 1.0):.0f} %"] for v in fitted.values]
        found += [
            Words(f"The rig was fitted on {fitted.date} to {', '.join(fitted.logs)}."),
            table("fitted", rows, (0.4, 0.22, 0.22, 0.16)),
        ]
    return [Section("Verification", tuple(found), together=True)]


def _assumptions(p: Page) -> list[Section]:
    """What is taken for granted, with its range, its source and how far it moves what decides."""
    judged = p.results.judgement_key()
    cards = [
        p.results.get(keys.EXPLAINED.of(figure=key, full=judged["full"], bodies=judged["bodies"]))
        for key in ("surface", "hold_margin")
    ]
    seen, rows = set(), [["Assumed", "Value", "Range", "Source"]]
    for row in (r for card in cards for r in card.inputs if np.isfinite(r.low)):
        if row.title not in seen:
            seen.add(row.title)
            low, high = (p.show(v, row.kind) for v in (row.low, row.high))
            rows.append([row.title, p.show(row.value, row.kind), f"{low} to {high}", row.source])
    least = [["Least known", "Surface, or hold margin, over its range", "What would tell"]]
    for card in cards:
        for m in card.uncertain:
            ends = " to ".join(figure_text(v, card.kind, p.units, "") for v in (m.low, m.high))
            least.append([m.name, ends, m.test])
    return [
        Section("Assumptions", (
            table("assumptions", rows, (0.27, 0.14, 0.22, 0.37)), table("least-known", least, (0.27, 0.25, 0.48)),
        )),
    ]  # fmt: skip


def _sheet(p: Page) -> list[Section]:
    """The run sheet in short."""
    judged = p.results.judgement_key()
    steps = p.results.get(keys.RUN_SHEET.of(full=judged["full"], bodies=judged["bodies"], units=p.units))
    rows = [["Step", "Takes", "Until, and why"]]
    rows += [
        [
            s.title,
            show_duration(s.takes[1]) if s.takes[1] > 0.0 else "",
            " ".join(f"{x[0].upper()}{x[1:].rstrip('.')}." for x in (s.gate, s.why) if x),
        ]
        for s in steps
        if not s.left_out
    ]
    return [Section("Run sheet", (table("run-sheet", rows, (0.3, 0.12, 0.58)),))]


def report_sections(p: Page, when: str) -> tuple[Section, ...]:
    """The whole report, answer first. Raises InputError without a part."""
    geometry = p.results.get(keys.GEOMETRY)
    if geometry is None:
        raise InputError("The report needs a part: open one first.")
    return (*_first(p, when), *_part(p, geometry), *_tune(p), *_verification(p), *_sheet(p), *_assumptions(p))
