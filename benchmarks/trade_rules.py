"""What practitioners know, each rule as a case with an expected order or state, by the quick estimate and by full simulations.

Usage: trade_rules.py ; prints a table, rule by rule, met or not. Where the model disagrees the reason is in docs/theory.md.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cache
from typing import Final

import numpy as np
from shapes import Case, _boxes, box, hollow, prepared, rigid_bed

from mandorla.core.failure.ways.soft_foot import foot_margin
from mandorla.core.part.first_layer import FirstLayer
from mandorla.core.part.mesh import Mesh
from mandorla.core.part.plates import Plate, PlateSide
from mandorla.core.part.process import Placement, Process
from mandorla.core.project.samples import sample
from mandorla.core.units import celsius
from mandorla.core.warp.along_print import AlongPrint
from mandorla.core.warp.condensed_plate import plate_lift
from mandorla.core.warp.estimate import PartToPrint, body_of, condensed_of, estimate_warp
from mandorla.core.warp.fe_case import PrintedPart, full_run, hold_of
from mandorla.core.warp.fe_model import Boxes
from mandorla.core.warp.first_layer import first_layer_state, gap_map
from mandorla.core.warp.history import FIRST_LAYERS

LIMIT: Final = 5e-4  # m of lift that is accepted
LAG: Final = 500.0  # s, of a bed that is only cooled by its losses (three-dimensional march: 690 s for 27 of 30 K)


@dataclass(frozen=True, slots=True)
class Print:
    """One print: shape, polymer, surface, temperatures in °C, and how it is printed."""

    mesh: Callable[[], Mesh]
    polymer: str
    surface: str
    plate: float
    chamber: float
    fan: float = 0.0
    draft: float = 0.0
    magnet: bool = False
    infill: float = 0.25
    walls: int = 3
    more: tuple[tuple[str, object], ...] = ()  # of the process
    first: float | None = (
        None  # °C of the plate for the first layers, from which it follows with the lag of a heavy bed
    )
    colder: float = 0.0  # K by which the air has fallen at the end


@dataclass(frozen=True, slots=True)
class Found:
    """Figures of a print: hold margin, lifts (m), crack index, gap under a loose plate (m) and whether it comes off, how many times
    the moment of a catching nozzle the foot stands, ln margin of a soft foot."""

    margin: float
    lift: float
    released: float
    crack: float
    gap: float
    off: bool
    tips: float
    foot: float


def _case(p: Print) -> tuple[object, ...]:
    case = Case("", p.polymer, p.surface, p.plate, p.chamber, p.fan)
    mesh = p.mesh()
    part, at = prepared(case, mesh, infill=p.infill, walls=p.walls, **dict(p.more))
    return mesh, part, replace(at, draft=p.draft, along=_along(p, part))


def _along(p: Print, part: PartToPrint) -> AlongPrint | None:
    """How plate and air depart from what they are for the rest of the print."""
    if p.first is None and not p.colder:
        return None
    time = np.linspace(0.0, part.plan.duration, 400)
    done = float(part.plan.layer_time[0]) * FIRST_LAYERS / part.process.layer_height
    hotter = 0.0 if p.first is None else p.first - p.plate
    plate = hotter * np.where(time < done, 1.0, np.exp(-(time - done) / LAG))
    return AlongPrint(time, plate, p.colder * (0.5 - time / time[-1]), np.full(time.size, p.draft))


@cache
def quick(p: Print) -> Found:
    """By the quick estimate."""
    _, part, at = _case(p)
    w = estimate_warp(part, at, with_bands=False)  # type: ignore[arg-type]
    gap, off = 0.0, False
    if p.magnet:
        hold = hold_of(sample("boathouse").project.rig.bed)
        assert hold is not None
        lift = plate_lift(condensed_of(part, body_of(part, at), hold, (0.0, 0.0)), LIMIT)  # type: ignore[arg-type]
        gap, off = lift.gap, lift.off
    return Found(w.margin, w.printed_lift, abs(w.released_lift), w.crack_index, gap, off, w.tips_margin,
                 foot_margin(w.foot_strain, w.soft_base))  # fmt: skip


@cache
def full(p: Print) -> Found:
    """By a full simulation at draft resolution; what it has no model of comes from the quick one."""
    mesh, part, at = _case(p)
    bed = sample("boathouse").project.rig.bed if p.magnet else rigid_bed()
    hot = celsius(p.plate)
    run = full_run(PrintedPart(part, at, mesh, bed, Placement(), lambda q: np.full(len(q), hot)), Boxes("draft"))  # type: ignore[arg-type]
    q = quick(p)
    released = math.inf if run.stopped else run.released_lift
    return Found(run.hold_margin, run.printed_lift, released, float(run.crack.max(initial=0.0)), float(run.plate_lift.max()),
                 run.plate_off, q.tips, q.foot)  # fmt: skip


def air_for(model: Callable[[Print], Found], polymer: str, surface: str, plate: float) -> float:
    """Coldest chamber (°C) in which a tall box does not crack."""
    low, high = 20.0, 140.0
    for _ in range(6):
        middle = 0.5 * (low + high)
        tall = Print(lambda: hollow(0.2, 0.2, 0.22, 0.004), polymer, surface, plate, middle, infill=1.0)
        low, high = (middle, high) if model(tall).crack > 1.0 else (low, middle)
    return high


Model = Callable[[Print], Found]
SMOOTH, TEXTURED, TACKY, LAMINATE, GLUE = (
    "polyetherimide_smooth", "polyetherimide_textured", "tacky_sheet", "glass_fibre_laminate", "bare_glass+glue",
)  # fmt: skip


def _tall(chamber: float) -> Print:
    return Print(TALL, "abs", SMOOTH, 100.0, chamber, infill=1.0)


def TALL() -> Mesh:
    """A box of 200 mm, 220 mm tall."""
    return hollow(0.2, 0.2, 0.22, 0.004)


def BRACKET() -> Mesh:
    """A bracket of 300 mm."""
    return _boxes(((0.30, 0.05, 0.012), (0, 0, 0)), ((0.30, 0.012, 0.05), (0, 0.019, 0)))


CUBE = lambda: box(0.02, 0.02, 0.02)  # noqa: E731
PLATE = lambda: box(0.15, 0.15, 0.005)  # noqa: E731
BLOCK = lambda: box(0.20, 0.15, 0.06)  # noqa: E731
THIN = lambda: box(0.20, 0.14, 0.003)  # noqa: E731
TOWER = lambda: box(0.012, 0.012, 0.15)  # noqa: E731
MEDIUM = lambda: box(0.14, 0.05, 0.03)  # noqa: E731
KIT = lambda: box(0.03, 0.02, 0.01)  # noqa: E731
LONG = lambda: box(0.15, 0.04, 0.02)  # noqa: E731


def _fails(f: Found) -> bool:
    return f.margin < 1.0 or max(f.lift, f.released) > LIMIT


WORN: Final = Plate(key="worn", name="Worn", body="sheet_with_film", front=PlateSide(surface=TEXTURED, worn=1.0))
OFFSET: Final = 0.00004  # m that the nozzle stands too far


def _grips(m: Model) -> tuple[float, float, float]:
    """Hold margins of a PLA bar on a clean plate, one with finger marks, and a worn one."""
    ways = ((), (("plate_state", "finger_marks"),), (("plates", (WORN,)), ("plate", "worn")))
    clean, marks, worn = (m(Print(MEDIUM, "pla", TEXTURED, 57, 19, 0.8, more=more)).margin for more in ways)
    return clean, marks, worn


def _parts_on(texture: float) -> float:
    """ln margin against lines that part, 0.45 mm wide and 0.20 mm high, the nozzle too far by ``OFFSET``."""
    first = FirstLayer(offset=OFFSET)
    flat = np.zeros((3, 3))
    gaps = gap_map(first, (0.3, 0.3), None, flat, flat)
    square = np.array([[-0.1, -0.1], [0.1, -0.1], [0.1, 0.1], [-0.1, 0.1]])
    process = Process(layer_height=0.0002, line_width=0.00045, first=first)
    return first_layer_state(process, texture, gaps, square, Placement()).too_far


RULES: Final[tuple[tuple[str, Callable[[Model], tuple[bool, str]]], ...]] = (
    ("20 mm PLA cube at 60 °C holds", lambda m: (not _fails(f := m(Print(CUBE, "pla", TEXTURED, 60, 22, 0.8))),
        f"margin {f.margin:.1f}, lift {1e3 * max(f.lift, f.released):.2f} mm")),
    ("150 mm PLA plate stays flat on its sheet", lambda m: (
        not _fails(f := m(Print(PLATE, "pla", TEXTURED, 60, 22, 0.8, magnet=True))) and f.gap < 3e-4 and not f.off,
        f"gap {1e3 * f.gap:.2f} mm, released {1e3 * f.released:.2f} mm")),
    ("ABS bracket of 300 mm, open and cold, fails", lambda m: (_fails(f := m(Print(BRACKET, "abs", SMOOTH, 100, 22, draft=0.1))),
        f"margin {f.margin:.2f}, lift {1e3 * max(f.lift, f.released):.2f} mm")),
    ("ABS taller than 200 mm cracks in air of 45 °C", lambda m: ((f := m(_tall(45.0))).crack > 0.9, f"crack index {f.crack:.2f}")),
    ("... and not in air of 75 °C", lambda m: ((f := m(_tall(75.0))).crack < 0.7, f"crack index {f.crack:.2f}")),
    ("PC asks for air hotter by 20 K than ABS", lambda m: (
        (b := air_for(m, "pc", SMOOTH, 115.0)) - (a := air_for(m, "abs", SMOOTH, 100.0)) >= 20.0,
        f"ABS {a:.0f} °C, PC {b:.0f} °C")),
    ("PA12 of 150 mm warps", lambda m: (_fails(f := m(Print(LONG, "pa12", LAMINATE, 90, 25))),
        f"margin {f.margin:.2f}, lift {1e3 * max(f.lift, f.released):.2f} mm")),
    ("PP of 150 mm warps", lambda m: (_fails(f := m(Print(LONG, "pp", GLUE, 85, 25))),
        f"margin {f.margin:.2f}, lift {1e3 * max(f.lift, f.released):.2f} mm")),
    ("large ABS gains from a plate above softening", lambda m: (
        (b := m(Print(BLOCK, "abs", SMOOTH, 118, 50))).lift <= (a := m(Print(BLOCK, "abs", SMOOTH, 95, 50))).lift
        and b.margin > a.margin and b.foot > 0.0,
        f"lift {1e3 * a.lift:.2f} to {1e3 * b.lift:.2f} mm, margin {a.margin:.1f} to {b.margin:.1f}, foot {b.foot:.1f}")),
    ("a small foot loosens late; ten kelvin on a tacky plate decide", lambda m: (
        (a := m(Print(TOWER, "petg", TACKY, 24, 22))).tips < 1.0 and (b := m(Print(TOWER, "petg", TACKY, 40, 22))).tips > 1.5 *
        a.tips, f"foot stands {a.tips:.2f} times at 24 °C, {b.tips:.2f} at 40 °C")),
    ("PETG on a tacky plate at room temperature loosens early", lambda m: (
        (f := m(Print(MEDIUM, "petg", TACKY, 22, 22, 0.5))).margin < 1.0, f"margin {f.margin:.2f}")),
    ("PLA in a garage near freezing lifts, in a room it holds", lambda m: (
        (a := m(Print(MEDIUM, "pla", TEXTURED, 50, 3, 0.8))).lift > 1.5 * (b := m(Print(MEDIUM, "pla", TEXTURED, 57, 19, 0.8))).lift
        and _fails(a) and not _fails(b),
        f"lift {1e3 * a.lift:.2f} against {1e3 * b.lift:.2f} mm, released {1e3 * a.released:.2f} against {1e3 * b.released:.2f}")),
    ("small kits in a draught hold on a tacky plate", lambda m: (
        (f := m(Print(KIT, "pla", TACKY, 24, 20, 0.5, draft=0.5))).margin > 1.0, f"margin {f.margin:.2f}")),
    ("fan hurts a large thin ABS plate", lambda m: (
        (b := m(Print(THIN, "abs", SMOOTH, 100, 40, 0.7))).released > 1.3 * (a := m(Print(THIN, "abs", SMOOTH, 100, 40,
        0.0))).released, f"released {1e3 * a.released:.2f} mm without, {1e3 * b.released:.2f} with")),
    ("wide walls crack less", lambda m: (
        (b := m(Print(lambda: hollow(0.2, 0.2, 0.2, 0.008), "abs", SMOOTH, 100, 40, infill=1.0))).crack
        < (a := m(Print(lambda: hollow(0.2, 0.2, 0.2, 0.003), "abs", SMOOTH, 100, 40, infill=1.0))).crack,
        f"crack index {a.crack:.2f} with 3 mm, {b.crack:.2f} with 8 mm")),
    ("clean plate, finger marks, worn plate, in that order", lambda m: (
        (g := _grips(m))[0] > g[1] > g[2], f"margins {g[0]:.2f}, {g[1]:.2f}, {g[2]:.2f}")),
    ("a textured side forgives a gap that a smooth one does not", lambda _: (
        (a := _parts_on(5e-6)) < 0.0 < (b := _parts_on(6e-5)), f"ln margin {a:.2f} smooth, {b:.2f} textured, 0.04 mm too far")),
    ("a plate lowered after the first layers keeps large PLA", lambda m: (
        not _fails(f := m(Print(PLATE, "pla", TEXTURED, 45, 22, 0.8, magnet=True, first=60))) and not f.off,
        f"margin {f.margin:.2f}, gap {1e3 * f.gap:.2f} mm, 60 then 45 °C")),
    ("... and loses large ABS", lambda m: (
        (b := m(Print(BLOCK, "abs", SMOOTH, 70, 40, first=100))).margin
        < 0.6 * (a := m(Print(BLOCK, "abs", SMOOTH, 100, 40))).margin
        and _fails(b), f"margin {a.margin:.2f} at 100 °C, {b.margin:.2f} lowered to 70 °C")),
    ("a colder night loosens what a warm day holds", lambda m: (
        (b := m(Print(LONG, "abs", SMOOTH, 95, 14, draft=0.1, colder=16.0))).margin
        < 0.75 * (a := m(Print(LONG, "abs", SMOOTH, 100, 28))).margin,
        f"margin {a.margin:.2f} by day, {b.margin:.2f} by a night that falls by 16 K")),
    ("a big infilled ABS block lifts a magnet sheet by tenths to two millimetres", lambda m: (
        1e-4 < (f := m(Print(BLOCK, "abs", SMOOTH, 100, 40, magnet=True, infill=0.15))).gap < 2.2e-3 and not f.off,
        f"gap {1e3 * f.gap:.2f} mm{', off' if f.off else ''}")),
)  # fmt: skip


def main() -> int:
    """Print the table."""
    met = {"quick": 0, "full": 0}
    for name, rule in RULES:
        said = []
        for kind, model in (("quick", quick), ("full", full)):
            ok, figures = rule(model)
            met[kind] += ok
            said.append(f"{kind} {'met ' if ok else 'MISS'} {figures}")
        print(f"{name}\n    {said[0]}\n    {said[1]}", flush=True)
    print(f"{len(RULES)} rules: quick meets {met['quick']}, full {met['full']}")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
