"""A dimensioned drawing of the bed: seen from above with plate, heated area, sheet, holes, magnets and sensor, and the stack
cut."""

from __future__ import annotations

from typing import Final

from reportlab.graphics import renderPDF, renderSVG
from reportlab.graphics.shapes import Circle, Drawing, Ellipse, Group, Line, Polygon, Rect, String
from reportlab.lib.colors import HexColor
from reportlab.lib.units import mm

from mandorla.core.report.figures import INK, SOFT
from mandorla.core.report.fonts import REGULAR, STRONG, register_fonts
from mandorla.core.rig.bed import Bed, Outline
from mandorla.core.rig.build_list import layer_title
from mandorla.core.rig.model import Rig

WIDTH, HEIGHT = 420.0 * mm, 297.0 * mm  # a landscape sheet of A3
SCALES: Final = (1.0, 2.0, 2.5, 5.0, 10.0, 20.0)
_ROOM: Final = (0.200, 0.190)  # m of paper for the view from above
_MIDDLE: Final = (150.0 * mm, 165.0 * mm)
_LIST: Final = 285.0 * mm
_PLATE, _HEAT, _OTHER, _HOLE = (HexColor(c) for c in ("#1f2629", "#b0402a", "#1d5a58", "#3d6fa5"))
_DASH: Final = (4, 2)
_NOTE: Final = (
    "Dimensions in mm. Heater mats are never cut. Mains: an earthed plate, strain relief and fusing to local code, by a qualified "
    "electrician."
)


def scale_of(bed: Bed) -> float:
    """The first usual scale at which a bed fits the sheet (5 for 1:5)."""
    need = max(bed.width / _ROOM[0], bed.depth / _ROOM[1])
    return next((s for s in SCALES if s >= need), SCALES[-1])


def _text(x: float, y: float, text: str, size: float = 8.0, *, strong: bool = False, anchor: str = "start") -> String:
    return String(x, y, text, fontName=STRONG if strong else REGULAR, fontSize=size, fillColor=INK, textAnchor=anchor)


def _arrow(x: float, y: float, dx: float, dy: float) -> Polygon:
    """A head that points along (dx, dy)."""
    a, b = 5.0, 1.6
    return Polygon([x, y, x - a * dx - b * dy, y - a * dy + b * dx, x - a * dx + b * dy, y - a * dy - b * dx],
                   fillColor=SOFT, strokeColor=SOFT, strokeWidth=0.2)  # fmt: skip


def _across(g: Group, x0: float, x1: float, y: float, text: str) -> None:
    """A dimension line that lies."""
    g.add(Line(x0, y, x1, y, strokeColor=SOFT, strokeWidth=0.5))
    g.add(_arrow(x0, y, -1.0, 0.0))
    g.add(_arrow(x1, y, 1.0, 0.0))
    g.add(_text(0.5 * (x0 + x1), y + 3.0, text, anchor="middle"))


def _upright(g: Group, x: float, y0: float, y1: float, text: str) -> None:
    """A dimension line that stands."""
    g.add(Line(x, y0, x, y1, strokeColor=SOFT, strokeWidth=0.5))
    g.add(_arrow(x, y0, 0.0, -1.0))
    g.add(_arrow(x, y1, 0.0, 1.0))
    label = Group(_text(0.0, 0.0, text, anchor="middle"))
    label.translate(x - 3.0, 0.5 * (y0 + y1))
    label.rotate(90)
    g.add(label)


def _mm(value: float) -> str:
    return f"{1e3 * value:.4g}"


class _View:
    """Places of the bed on paper."""

    def __init__(self, scale: float) -> None:
        self.unit = 1000.0 * mm / scale

    def at(self, x: float, y: float) -> tuple[float, float]:
        return _MIDDLE[0] + self.unit * x, _MIDDLE[1] + self.unit * y

    def outline(self, o: Outline, color: HexColor, width: float, *, dashed: bool = False) -> Rect | Ellipse:
        x, y = self.at(o.x, o.y)
        w, h = self.unit * o.width, self.unit * o.depth
        style = {"strokeColor": color, "strokeWidth": width, "fillColor": None}
        if dashed:
            style["strokeDashArray"] = _DASH
        if o.shape == "round":
            return Ellipse(x, y, 0.5 * w, 0.5 * h, **style)
        return Rect(x - 0.5 * w, y - 0.5 * h, w, h, **style)


def bed_drawing(rig: Rig) -> Drawing:
    """The drawing of a rig's bed, at a usual scale on a landscape A3 sheet."""
    register_fonts()
    bed, scale = rig.bed, scale_of(rig.bed)
    view, g, sheet = _View(scale), Group(), Drawing(WIDTH, HEIGHT)
    sheet.add(Rect(0, 0, WIDTH, HEIGHT, strokeColor=None, fillColor=HexColor("#ffffff")))
    sheet.add(
        Rect(10 * mm, 10 * mm, WIDTH - 20 * mm, HEIGHT - 20 * mm, strokeColor=INK, strokeWidth=0.8, fillColor=None)
    )
    g.add(view.outline(bed.outline, _PLATE, 1.4))
    for layer in bed.layers:
        if layer.outline is not None:
            g.add(view.outline(layer.outline, _OTHER, 0.8))
    for heated in bed.heater.outlines():
        g.add(view.outline(heated, _HEAT, 0.8, dashed=True))
    (x0, y0), (x1, y1) = view.at(-bed.width / 2, -bed.depth / 2), view.at(bed.width / 2, bed.depth / 2)
    _across(g, x0, x1, y0 - 16.0, _mm(bed.width))
    _upright(g, x0 - 14.0, y0, y1, _mm(bed.depth))
    first = bed.heater.outlines()[0]
    hx0, hy0 = view.at(first.x - first.width / 2, first.y - first.depth / 2)
    hx1, hy1 = view.at(first.x + first.width / 2, first.y + first.depth / 2)
    _across(g, hx0, hx1, y1 + 10.0, f"{_mm(first.width)} heated")
    _upright(g, x1 + 18.0, hy0, hy1, f"{_mm(first.depth)} heated")
    notes = []
    for n, spot in enumerate(bed.spots, start=1):
        x, y = view.at(spot.x, spot.y)
        g.add(Circle(x, y, 0.5 * view.unit * spot.diameter, strokeColor=_HOLE, strokeWidth=0.8, fillColor=None))
        _cross(g, x, y, 0.5 * view.unit * spot.diameter + 3.0)
        g.add(_text(x + 4.0, y + 4.0, str(n), 7.0))
        notes.append(
            f"{n}  {spot.kind} ⌀ {_mm(spot.diameter)} in {bed.layer(spot.layer).name} at {_mm(spot.x)}, {_mm(spot.y)}"
        )
    for magnet in bed.magnets:
        x, y = view.at(magnet.x, magnet.y)
        g.add(Circle(x, y, 0.5 * view.unit * magnet.diameter, strokeColor=_OTHER, strokeWidth=0.6, fillColor=None))
    if bed.magnets:
        sizes = sorted({m.diameter for m in bed.magnets})
        notes.append(f"{len(bed.magnets)} magnets, ⌀ {' and '.join(_mm(d) for d in sizes)}")
        notes += [f"     at {_mm(m.x)}, {_mm(m.y)}: {m.force:.1f} N" for m in bed.magnets[:12]]
    x, y = view.at(bed.sensor.x, bed.sensor.y)
    _cross(g, x, y, 5.0)
    g.add(_text(x + 6.0, y - 9.0, "sensor", 7.0))
    notes.append(f"sensor in {bed.layer(bed.sensor.layer).name} at {_mm(bed.sensor.x)}, {_mm(bed.sensor.y)}")
    sheet.add(g)
    sheet.add(_stack(bed))
    sheet.add(_words(notes))
    sheet.add(_title(rig, scale))
    return sheet


def _cross(g: Group, x: float, y: float, reach: float) -> None:
    g.add(Line(x - reach, y, x + reach, y, strokeColor=SOFT, strokeWidth=0.4))
    g.add(Line(x, y - reach, x, y + reach, strokeColor=SOFT, strokeWidth=0.4))


def _stack(bed: Bed) -> Group:
    """The layers from the print surface down, heights not to scale, each with its thickness and outline."""
    g = Group(_text(_LIST, HEIGHT - 24 * mm, "Stack, from the print surface down (not to scale)", 9.0, strong=True))
    y = HEIGHT - 29 * mm
    for i, layer in enumerate(bed.layers):
        o = bed.outline_of(i)
        size = f"⌀ {_mm(o.width)}" if o.shape == "round" and o.width == o.depth else f"{_mm(o.width)} × {_mm(o.depth)}"
        height = 19.0 + min(14.0, 1000.0 * layer.thickness)
        shade = HexColor("#e8e1d3" if i % 2 else "#f4efe4")
        g.add(Rect(_LIST, y - height, 26 * mm, height, strokeColor=INK, strokeWidth=0.6, fillColor=shade))
        g.add(
            _text(_LIST + 29 * mm, y - 0.5 * height + 1.0, f"{layer_title(layer)}, {_mm(layer.thickness)} thick", 8.0)
        )
        g.add(_text(_LIST + 29 * mm, y - 0.5 * height - 8.0, f"{size}{'' if layer.bonded else ', lies loose'}", 7.0))
        y -= height + 4.0
    return g


def _words(lines: list[str]) -> Group:
    g = Group()
    for n, line in enumerate(lines[:24]):
        g.add(_text(_LIST, HEIGHT - 175 * mm - 11.0 * n, line, 7.5))
    return g


def _title(rig: Rig, scale: float) -> Group:
    x, y, w, h = _LIST - 5 * mm, 14 * mm, 121 * mm, 24 * mm
    g = Group(Rect(x, y, w, h, strokeColor=INK, strokeWidth=0.8, fillColor=None))
    g.add(_text(x + 4 * mm, y + h - 7 * mm, rig.name, 12.0, strong=True))
    g.add(
        _text(x + 4 * mm, y + h - 13 * mm, f"Bed seen from above, front at the bottom · scale 1:{scale:g} on A3", 8.0)
    )
    first, second = _NOTE[: _NOTE.index(" Mains")], _NOTE[_NOTE.index("Mains") :]
    g.add(_text(x + 4 * mm, y + h - 18 * mm, first, 6.5))
    g.add(_text(x + 4 * mm, y + h - 21.5 * mm, second, 5.6))
    return g


def drawing_svg(rig: Rig) -> bytes:
    """The drawing as SVG."""
    return str(renderSVG.drawToString(bed_drawing(rig))).encode()


def drawing_pdf(rig: Rig) -> bytes:
    """The drawing as PDF."""
    found = renderPDF.drawToString(bed_drawing(rig), "Bed")
    return found if isinstance(found, bytes) else str(found).encode("latin-1")
