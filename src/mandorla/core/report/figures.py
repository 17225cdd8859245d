"""Vector figures of the report, drawn with the document library's own shapes: no plotting library, no display."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

import numpy as np
from reportlab.graphics.shapes import Drawing, Group, Line, Polygon, PolyLine, Rect, String
from reportlab.lib.colors import Color, HexColor
from reportlab.pdfbase.pdfmetrics import stringWidth
from scipy.ndimage import zoom

from mandorla.core.part.mesh import Floats, Mesh
from mandorla.core.report.fonts import REGULAR, STRONG, register_fonts
from mandorla.core.rig.model import Rig
from mandorla.core.thermal.heatup import HeatUp
from mandorla.core.tune.window_map import Point, Window
from mandorla.core.units import METRIC, UnitPreferences, show

INK: Final = HexColor("#1f2629")
SOFT: Final = HexColor("#525c60")
LINE: Final = HexColor("#cfc7b8")
PALETTE: Final = ("#b0402a", "#1d5a58", "#3d6fa5", "#6a4c93", "#8a6a1f")
_MOST_FACES: Final = 6000


@dataclass(frozen=True, slots=True)
class Curve:
    """One named curve: x and y (n,) in the units of the axes, colour, dash."""

    name: str
    x: Floats
    y: Floats
    color: str
    dashed: bool = False


def nice_ticks(low: float, high: float, about: int = 5) -> list[float]:
    """Round tick values that cover a range."""
    raw = (high - low) / max(about, 1)
    scale = 10.0 ** np.floor(np.log10(max(raw, 1e-12)))
    step = next(s * scale for s in (1.0, 2.0, 2.5, 5.0, 10.0) if s * scale >= raw * 0.999)
    first = np.ceil(low / step - 1e-9) * step
    return [float(v) for v in np.arange(first, high + 1e-9 * step, step)]


class Axes:
    """A frame with ticks that maps data to points of the page."""

    def __init__(
        self, drawing: Drawing, box: tuple[float, float, float, float], x: tuple[float, float], y: tuple[float, float],
        labels: tuple[str, str],
    ) -> None:  # fmt: skip
        register_fonts()  # names are measured
        self.drawing, self.box, self.x, self.y = drawing, box, x, y
        left, bottom, width, height = box
        self._drawn: list[Floats] = []  # what names must not touch, as points of the page
        self._names: list[tuple[str, float, str, Color, list[tuple[float, float]]]] = []
        for tick in nice_ticks(*x):
            at = self.at(tick, y[0])
            drawing.add(Line(at[0], bottom, at[0], bottom + height, strokeColor=LINE, strokeWidth=0.4))
            drawing.add(_text(at[0], bottom - 11, f"{tick + 0.0:g}", 7, "middle", SOFT))
        for tick in nice_ticks(*y, 4):
            at = self.at(x[0], tick)
            drawing.add(Line(left, at[1], left + width, at[1], strokeColor=LINE, strokeWidth=0.4))
            drawing.add(_text(left - 4, at[1] - 2.5, f"{tick + 0.0:g}", 7, "end", SOFT))
        drawing.add(_text(left + width / 2, bottom - 22, labels[0], 7.5, "middle", SOFT))
        drawing.add(_text(left, bottom + height + 5, labels[1], 7.5, "start", SOFT))

    def at(self, x: float, y: float) -> tuple[float, float]:
        """Page coordinates of a data point."""
        left, bottom, width, height = self.box
        return (
            left + (x - self.x[0]) / (self.x[1] - self.x[0]) * width,
            bottom + (y - self.y[0]) / (self.y[1] - self.y[0]) * height,
        )

    def curve(self, curve: Curve, label_at: float = 0.6) -> None:
        """Draw a curve; its name, near ``label_at`` of its way, waits for :meth:`names`."""
        points = [self.at(float(a), float(b)) for a, b in zip(curve.x, curve.y, strict=True)]
        color = HexColor(curve.color)
        dash = [3, 2] if curve.dashed else None
        self.drawing.add(
            PolyLine([v for p in points for v in p], strokeColor=color, strokeWidth=1.4, strokeDashArray=dash)
        )
        self.avoid(points)
        tries = sorted(np.linspace(0.0, 0.95, 39), key=lambda at: abs(float(at) - label_at))
        along = [points[int(at * (len(points) - 1))] for at in tries]
        places = [(x + 3.0, y + shift) for x, y in along for shift in (4.0, -10.0)]
        self._names.append((curve.name, 7.5, STRONG, color, places))

    def line(self, value: float, text: str, color: str, *, vertical: bool) -> None:
        """A reference line with its text."""
        left, bottom, width, height = self.box
        stroke: dict[str, Any] = {"strokeColor": HexColor(color), "strokeWidth": 0.8, "strokeDashArray": [3, 2]}
        if vertical:
            x = self.at(value, self.y[0])[0]
            self.drawing.add(Line(x, bottom, x, bottom + height, **stroke))
            self.avoid([(x, bottom), (x, bottom + height)])
            wide = stringWidth(text, REGULAR, 7)
            places = [(v, bottom + height * at - 8) for at in np.linspace(1.0, 0.2, 9) for v in (x + 2, x - 2 - wide)]
        else:
            y = self.at(self.x[0], value)[1]
            self.drawing.add(Line(left, y, left + width, y, **stroke))
            self.avoid([(left, y), (left + width, y)])
            wide = stringWidth(text, REGULAR, 7)
            along = np.linspace(left + 2, left + width - wide - 2, 25)
            places = [(float(v), y + shift) for shift in (2.0, -8.0) for v in along]
        self._names.append((text, 7, REGULAR, HexColor(color), places))

    def avoid(self, points: list[tuple[float, float]]) -> None:
        """Keep names away from a line of the page."""
        self._drawn.append(_dense(points))

    def names(self) -> None:
        """Write the names, each at the first of its places where it touches no curve and no other name, else where least."""
        left, bottom, width, height = self.box
        lines = np.concatenate(self._drawn) if self._drawn else np.zeros((0, 2))
        taken: list[tuple[Floats, Floats]] = []
        for text, size, face, color, places in self._names:
            wide = stringWidth(text, face, size)
            best, at = math.inf, places[0]
            for x, y in places:
                low, high = np.array([x - 1.0, y - 0.25 * size]), np.array([x + wide + 1.0, y + 0.85 * size])
                inside = left <= x and x + wide <= left + width + 8.0 and bottom <= y <= bottom + height + 2.0
                hit = int(np.all((lines >= low) & (lines <= high), axis=1).sum()) + (0 if inside else 1000)
                hit += sum(100 for a, b in taken if np.all(low < b) and np.all(high > a))
                if hit < best:
                    best, at = hit, (x, y)
                if not hit:
                    break
            taken.append(
                (np.array([at[0] - 1.0, at[1] - 0.25 * size]), np.array([at[0] + wide + 1.0, at[1] + 0.85 * size]))
            )
            self.drawing.add(_text(*at, text, size, "start", color, face))
        self._names.clear()


def _dense(points: list[tuple[float, float]]) -> Floats:
    """A line as points (n, 2) at most a point of the page apart."""
    p = np.array(points)
    way = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(p, axis=0).T))])
    at = np.linspace(0.0, way[-1], max(2, int(way[-1]) + 1))
    return np.stack([np.interp(at, way, p[:, 0]), np.interp(at, way, p[:, 1])], axis=1)


def _text(x: float, y: float, text: str, size: float, anchor: str, color: Color, face: str = REGULAR) -> String:
    return String(x, y, text, fontName=face, fontSize=size, textAnchor=anchor, fillColor=color)


def curve_figure(
    curves: Sequence[Curve], labels: tuple[str, str], width: float, height: float,
    lines: Sequence[tuple[float, str, str, bool]] = (), x_range: tuple[float, float] | None = None,
) -> Drawing:  # fmt: skip
    """A chart of named curves; ``lines`` are (value, text, colour, vertical)."""
    drawing = Drawing(width, height)
    xs = np.concatenate([c.x for c in curves])
    ys = np.concatenate([c.y for c in curves] + [np.array([v]) for v, _, _, vertical in lines if not vertical])
    x = x_range or (float(xs.min()), float(xs.max()))
    y = (min(0.0, float(ys.min())), float(ys.max()) * 1.12 + 1e-9)
    axes = Axes(drawing, (34, 30, width - 46, height - 46), x, y, labels)
    for i, curve in enumerate(curves):
        inside = (curve.x >= x[0]) & (curve.x <= x[1])
        axes.curve(Curve(curve.name, curve.x[inside], curve.y[inside], curve.color, curve.dashed), 0.35 + 0.2 * (i % 3))
    for value, text, color, vertical in lines:
        axes.line(value, text, color, vertical=vertical)
    axes.names()
    return drawing


def stack_figure(rig: Rig, heat: HeatUp, width: float, height: float, units: UnitPreferences = METRIC) -> Drawing:
    """The bed stack as a section with the steady temperature of every layer."""
    drawing = Drawing(width, height)
    layers = rig.bed.layers
    total = sum(layer.thickness for layer in layers)
    least = 17.0
    room = height - least * len(layers)
    y = height
    for i, layer in enumerate(layers):
        tall = least + room * layer.thickness / total
        y -= tall
        metal = layer.properties().conductivity > 5
        drawing.add(
            Rect(
                0,
                y,
                width,
                tall,
                fillColor=HexColor("#dfe3e4" if metal else "#efe6d6"),
                strokeColor=LINE,
                strokeWidth=0.5,
            )
        )
        middle = y + tall / 2 - 2.5
        drawing.add(
            _text(6, middle, f"{layer.name}, {show(layer.thickness, 'length', units)}", 7.5, "start", INK, STRONG)
        )
        cells = heat.steady.cells[heat.stack.layer == i]
        steady = f"{show(float(cells.max()), 'temperature', units, digits=0)} steady"
        peak = f"{show(float(heat.peak[i]), 'temperature', units, digits=0)} peak"
        rated = f"rated {show(layer.properties().rating, 'temperature', units, digits=0)}"
        drawing.add(_text(width - 6, middle, f"{steady} · {peak} · {rated}", 7, "end", SOFT))
    return drawing


def part_figure(mesh: Mesh, width: float, height: float) -> Drawing:
    """The part in an oblique view, faces shaded and painted from back to front."""
    drawing = Drawing(width, height)
    azimuth, elevation = np.radians(-62.0), np.radians(33.0)
    right = np.array([-np.sin(azimuth), np.cos(azimuth), 0.0])
    view = np.array([np.cos(azimuth) * np.cos(elevation), np.sin(azimuth) * np.cos(elevation), np.sin(elevation)])
    up = np.cross(view, right)
    triangles = mesh.triangles
    normals = np.cross(triangles[:, 1] - triangles[:, 0], triangles[:, 2] - triangles[:, 0])
    length = np.linalg.norm(normals, axis=1)
    front = normals @ view > 0
    if front.sum() > _MOST_FACES:  # the largest faces carry the picture
        limit = np.sort(length[front])[-_MOST_FACES]
        front &= length >= limit
    triangles, normals = triangles[front], normals[front] / length[front][:, None]
    flat = np.stack([triangles @ right, triangles @ up], axis=-1)
    order = np.argsort(triangles.mean(axis=1) @ view)
    low, high = flat.reshape(-1, 2).min(axis=0), flat.reshape(-1, 2).max(axis=0)
    scale = 0.94 * min(width / (high[0] - low[0]), height / (high[1] - low[1]))
    offset = np.array([width, height]) / 2 - scale * (low + high) / 2
    light = np.clip(0.35 + 0.65 * (normals @ np.array([0.35, -0.55, 0.76])), 0.2, 1.0)
    group = Group()
    for i in order:
        shade = Color(0.86 * light[i], 0.63 * light[i], 0.28 * light[i])
        points = (scale * flat[i] + offset).ravel()
        group.add(Polygon([float(v) for v in points], fillColor=shade, strokeColor=shade, strokeWidth=0.3))
    drawing.add(group)
    return drawing


_SMOOTH: Final = 3  # tiles a computed point, so that the regions' edges look as smooth as they are


def window_figure(
    window: Window,
    width: float,
    height: float,
    units: UnitPreferences = METRIC,
    offered: Mapping[str, Point] | None = None,
) -> Drawing:
    """The operating window as a tiled map with the present point and those that are offered, by key."""
    drawing = Drawing(width, height)
    unit = units.unit("temperature")
    bed, chamber = np.asarray(unit.from_si(window.x)), np.asarray(unit.from_si(window.y))
    box = (34.0, 30.0, width - 46, height - 46)
    needs, stands, both = (
        zoom(level, _SMOOTH, order=1) >= 0.0 for level in (window.part_level, window.machine_level, window.level)
    )
    ny, nx = needs.shape
    w, h = box[2] / nx, box[3] / ny
    kinds = np.where(both, 3, np.where(needs & ~stands, 2, np.where(stands & ~needs, 1, 0)))
    colors = ("#f6f2ea", "#d3e2e8", "#e4d5e6", "#e3b25f")
    for i in range(ny):
        j = 0
        while j < nx:  # one rectangle a run of equal tiles
            kind = int(kinds[i, j])
            end = j
            while end < nx and kinds[i, end] == kind:
                end += 1
            fill = HexColor(colors[kind])
            high = h if i == ny - 1 else 1.5 * h  # the next row is painted over it: no seam shows
            drawing.add(
                Rect(
                    box[0] + j * w,
                    box[1] + i * h,
                    (end - j) * w,
                    high,
                    fillColor=fill,
                    strokeColor=fill,
                    strokeWidth=0.2,
                )
            )
            j = end
    first, second = (f"{a.title}, {unit.symbol}" for a in window.axes)
    assert window.passive is not None  # the report's window is that of bed and chamber, or room
    axes = Axes(drawing, box, (float(bed[0]), float(bed[-1])), (float(chamber[0]), float(chamber[-1])),
                (first, second))  # fmt: skip
    axes.curve(
        Curve(
            "chamber by the bed alone" if window.heated else "the room as it is",
            bed,
            np.asarray(unit.from_si(window.passive)),
            "#525c60",
            True,
        ),
        0.04,
    )
    # each name has a side of its own, so that marks may lie close together
    for point, name, color, (dx, dy) in (
        ((offered or {}).get("nearest"), "smallest change", "#1d5a58", (6.0, -1.0)),
        ((offered or {}).get("cheapest"), "cheapest", "#1f7a55", (-6.0, -13.0)),
        (window.present, "now", "#1f2629", (-6.0, 7.0)),
    ):
        if point is None:
            continue
        x, y = axes.at(
            float(unit.from_si(point.x)),
            min(max(float(unit.from_si(window.shown_at(point))), float(chamber[0])), float(chamber[-1])),
        )
        drawing.add(
            Polygon(
                [x - 4, y, x, y + 4, x + 4, y, x, y - 4], fillColor=HexColor(color), strokeColor=HexColor("#ffffff")
            )
        )
        drawing.add(_text(x + dx, y + dy, name, 8, "start", HexColor(color), STRONG))
        axes.avoid([(x - 5, y), (x + 5, y)])
        axes.avoid([(x + dx, y + dy + 3), (x + dx + stringWidth(name, STRONG, 8), y + dy + 3)])
    axes.names()
    return drawing
