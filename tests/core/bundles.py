"""Projects to test with."""

from __future__ import annotations

from mandorla.core.part.process import PartSource, Process
from mandorla.core.project.models import Project
from mandorla.core.project.store import Bundle
from tests.core.rigs import make_rig, settings
from tests.core.solids import block, stl


def small_bundle(name: str = "Test project") -> Bundle:
    """A rig with a chamber heater and a block of 120 x 60 x 20 mm."""
    project = Project(
        name=name, rig=make_rig(chamber_heater=500.0), part=PartSource(name="Block", file="block.stl"),
        process=Process(polymer="asa", infill=0.3), settings=settings(100.0, 50.0),
    )  # fmt: skip
    return Bundle(project, {"block.stl": stl(block(120.0, 60.0, 20.0))})


def block_gcode(width: float, depth: float, height: float, *, layer: float = 0.4, line: float = 0.8) -> bytes:
    """G-code (mm) of a block: one wall and a zigzag through half of it, every layer the same."""
    k = line * layer / 2.40528  # mm of 1.75 mm filament for each mm of line
    lines = ["G21", "G90", "M83", "M140 S104", "M141 S57", "M104 S250", "M106 S51"]
    x0, y0 = 50.0, 40.0
    for n in range(round(height / layer)):
        lines.append(f"G0 X{x0} Y{y0} Z{layer * (n + 1):.3f} F9000")
        if n == 5:
            lines.append("M140 S98")
        for x, y in ((width, 0.0), (width, depth), (0.0, depth), (0.0, 0.0)):
            length = (
                width if y in (0.0, depth) and x in (width, 0.0) and (x, y) in ((width, 0.0), (0.0, depth)) else depth
            )
            lines.append(f"G1 X{x0 + x:.3f} Y{y0 + y:.3f} E{k * length:.5f} F3600")
        y, side = line, 0
        while y < depth - line:
            lines.append(f"G0 Y{y0 + y:.3f}")
            side = 1 - side
            lines.append(f"G1 X{x0 + (width - line if side else line):.3f} E{k * (width - 2 * line):.5f}")
            y += 2 * line
    return "\n".join(lines).encode()
