"""Four made-up parts of the demo workshop as files: a bar-like housing, a flat frame, a tall thin-walled box, small pieces.

STL, 3MF in inches with a build transform, G-code that prints the box, and a 3MF with several bodies on its build plate.
"""

from __future__ import annotations

import io
import math
import zipfile
from collections.abc import Sequence
from pathlib import Path

import manifold3d as m3
import numpy as np

_EPOCH = (1980, 1, 1, 0, 0, 0)
FILAMENT = math.pi * 1.75**2 / 4.0  # mm²


def oar_rack() -> m3.Manifold:
    """A long bar-like housing, open above, with two bulkheads and a chamfered lip (mm)."""
    outer = m3.Manifold.cube((252.0, 42.0, 38.0)).translate((-126.0, -21.0, 0.0))
    inner = m3.Manifold.cube((240.0, 30.0, 40.0)).translate((-120.0, -15.0, 6.0))
    body = outer - inner
    for x in (-45.0, 52.0):
        body = body + m3.Manifold.cube((6.0, 31.0, 24.0)).translate((x, -15.5, 5.0))
    bore = m3.Manifold.cylinder(60.0, 7.0, 7.0, 48, True).rotate((90, 0, 0))
    return body - bore.translate((-92.0, 0.0, 24.0)) - bore.translate((98.0, 0.0, 24.0))


def hatch_frame() -> m3.Manifold:
    """A large flat frame with a cross bar (mm)."""
    frame = m3.Manifold.cube((226.0, 174.0, 11.0), True) - m3.Manifold.cube((174.0, 122.0, 20.0), True)
    frame = frame + m3.Manifold.cube((20.0, 126.0, 11.0), True).translate((18.0, 0.0, 0.0))
    return frame.translate((0.0, 0.0, 5.5))


BOX, WALL, BOTTOM = (78.0, 58.0, 132.0), 4.8, 4.0


def lamp_box() -> m3.Manifold:
    """A tall thin-walled box, open above (mm)."""
    w, d, h = BOX
    outer = m3.Manifold.cube((w, d, h)).translate((-w / 2, -d / 2, 0.0))
    inner = m3.Manifold.cube((w - 2 * WALL, d - 2 * WALL, h)).translate((-w / 2 + WALL, -d / 2 + WALL, BOTTOM))
    return outer - inner


def sail_clips() -> list[m3.Manifold]:
    """A batch of small pieces where they stand (mm): twelve clips and four wedges."""
    clip = m3.Manifold.cube((24.0, 14.0, 12.0)).translate((-12.0, -7.0, 0.0))
    clip = clip - m3.Manifold.cylinder(20.0, 4.5, 4.5, 40, True).rotate((90, 0, 0)).translate((0.0, 0.0, 12.0))
    wedge = m3.Manifold.hull_points(
        np.array([[-10, -8, 0], [10, -8, 0], [10, 8, 0], [-10, 8, 0], [-10, -8, 15], [-10, 8, 15]], dtype=float)
    )
    placed = [clip.translate((38.0 * i - 57.0, 28.0 * j - 28.0, 0.0)) for i in range(4) for j in range(3)]
    return placed + [wedge.translate((38.0 * i - 57.0, 64.0, 0.0)) for i in range(4)]


def three_mf(bodies: Sequence[m3.Manifold], unit: str = "millimeter", scale: float = 1.0, move: str = "") -> bytes:
    """A 3MF package of bodies, one object each; ``scale`` divides the numbers, ``move`` is the transform of every build item."""
    objects, items = [], []
    for k, body in enumerate(bodies, start=1):
        mesh = body.to_mesh()
        v = np.asarray(mesh.vert_properties)[:, :3] / scale
        corners = "".join(f'<vertex x="{x:.6f}" y="{y:.6f}" z="{z:.6f}"/>' for x, y, z in v)
        faces = "".join(f'<triangle v1="{a}" v2="{b}" v3="{c}"/>' for a, b, c in np.asarray(mesh.tri_verts))
        objects.append(
            f'<object id="{k}" type="model"><mesh><vertices>{corners}</vertices><triangles>{faces}</triangles></mesh></object>'
        )
        items.append(f'<item objectid="{k}"' + (f' transform="{move}"' if move else "") + "/>")
    space = "http://schemas.microsoft.com/3dmanufacturing/core/2015/02"
    model = (
        f'<?xml version="1.0" encoding="UTF-8"?><model unit="{unit}" xmlns="{space}"><resources>{"".join(objects)}</resources>'
        f"<build>{''.join(items)}</build></model>"
    )
    relations = (
        '<?xml version="1.0" encoding="UTF-8"?><Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">'
        '<Relationship Target="/3D/3dmodel.model" Id="r0" Type="http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel"/>'
        "</Relationships>"
    )
    kinds = (
        '<?xml version="1.0" encoding="UTF-8"?><Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types">'
        '<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
        '<Default Extension="model" ContentType="application/vnd.ms-package.3dmanufacturing-3dmodel+xml"/></Types>'
    )
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, text in (("[Content_Types].xml", kinds), ("_rels/.rels", relations), ("3D/3dmodel.model", model)):
            archive.writestr(zipfile.ZipInfo(name, _EPOCH), text, zipfile.ZIP_DEFLATED)
    return made.getvalue()


def box_gcode(layer: float = 0.4, line: float = 0.8, speed: float = 55.0) -> bytes:
    """G-code that prints the box: loops of lines, a filled bottom, heated bed and chamber, fan from the third layer on."""
    out = [
        "G21",
        "G90",
        "M83",
        "M140 S102",
        "M141 S48",
        "M190 S102",
        "M104 S250",
        "M109 S250",
        "G28",
        "G92 E0",
        "M204 S2500",
    ]
    w, d, h = BOX
    cx, cy = 160.0, 150.0
    loops = round(WALL / line)
    for n in range(round(h / layer)):
        z = layer * (n + 1)
        out.append(f"G0 X{cx - w / 2:.3f} Y{cy - d / 2:.3f} Z{z:.3f} F9000")
        if n == 1:
            out.append("M140 S97")
        if n == 2:
            out.append("M106 S38")
        feed = 60 * (25.0 if n == 0 else speed)
        for k in range(loops):
            off = (k + 0.5) * line
            x0, x1, y0, y1 = cx - w / 2 + off, cx + w / 2 - off, cy - d / 2 + off, cy + d / 2 - off
            out.append(f"G0 X{x0:.3f} Y{y0:.3f} F9000")
            at = (x0, y0)
            for x, y in ((x1, y0), (x1, y1), (x0, y1), (x0, y0)):
                length = math.hypot(x - at[0], y - at[1])
                out.append(f"G1 X{x:.3f} Y{y:.3f} E{length * line * layer / FILAMENT:.5f} F{feed:.0f}")
                at = (x, y)
        if z <= BOTTOM + 1e-9:
            rows = int((d - 2 * WALL) / line)
            for r in range(rows):
                y = cy - d / 2 + WALL + (r + 0.5) * line
                x0, x1 = cx - w / 2 + WALL, cx + w / 2 - WALL
                if r % 2:
                    x0, x1 = x1, x0
                out.append(f"G0 X{x0:.3f} Y{y:.3f} F9000")
                out.append(f"G1 X{x1:.3f} Y{y:.3f} E{abs(x1 - x0) * line * layer / FILAMENT:.5f} F{feed:.0f}")
    return ("\n".join([*out, "M107", "M140 S0", "M141 S0", "M104 S0"]) + "\n").encode()


def write_parts(folder: Path, stl_bytes) -> None:  # type: ignore[no-untyped-def]
    """Write all of them."""
    folder.mkdir(exist_ok=True)
    (folder / "oar-rack.stl").write_bytes(stl_bytes(oar_rack()))
    frame = three_mf([hatch_frame()], "inch", 25.4, "0 1 0 -1 0 0 0 0 1 4 3 0")  # turned by 90° on its build plate
    (folder / "hatch-frame.3mf").write_bytes(frame)
    (folder / "lamp-box.stl").write_bytes(stl_bytes(lamp_box()))
    (folder / "lamp-box.gcode").write_bytes(box_gcode())
    (folder / "sail-clips.3mf").write_bytes(three_mf(sail_clips()))
