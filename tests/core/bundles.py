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
