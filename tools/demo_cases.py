"""Four projects of the made-up workshop, each with a question for the stage Tune."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import manifold3d as m3

from mandorla.core.part.process import PartSource, Process
from mandorla.core.project.models import Project
from mandorla.core.project.samples import sample_part
from mandorla.core.project.store import Bundle, write_bundle
from mandorla.core.rig.backup import Backup
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.units import celsius


def davit_bracket() -> m3.Manifold:
    """A stout bracket that a davit hangs on: foot, wall and rib (mm)."""
    foot = (
        m3.CrossSection.square((110.0, 60.0), True).offset(5.0, m3.JoinType.Round, circular_segments=48).extrude(12.0)
    )
    wall = m3.Manifold.cube((12.0, 70.0, 64.0), True).translate((-54.0, 0.0, 32.0))
    rib = m3.Manifold.cube((60.0, 8.0, 40.0), True).translate((-24.0, 0.0, 20.0))
    return foot + wall + rib


def hot_housing(rig: Rig) -> Bundle:
    """A long housing in ABS in a chamber that is warm, yet not warm enough."""
    part, files = sample_part("oar-rack")
    return Bundle(Project(
        name="Hot housing", rig=rig, part=part, notes="The chamber stands at 60 °C because it always did. How much warmer pays?",
        process=Process(polymer="abs", surface="polyetherimide_textured", infill=0.25),
        settings=Settings(bed_first=celsius(105.0), bed_rest=celsius(105.0), chamber=celsius(60.0), soak_time=1800.0),
    ), files)  # fmt: skip


def flat_frame(rig: Rig) -> Bundle:
    """A large flat frame in PLA on a tacky sheet that is hardly heated."""
    part, files = sample_part("hatch-frame")
    return Bundle(Project(
        name="Flat frame on a tacky plate", rig=rig, part=part,
        notes="The tacky sheet grips cold, they say, so the bed stands at 30 °C. It grips; what about the magnet below it?",
        process=Process(polymer="pla", surface="tacky_pla_petg", infill=0.2),
        settings=Settings(bed_first=celsius(30.0), bed_rest=celsius(30.0), chamber=celsius(20.0), soak_time=0.0),
    ), files)  # fmt: skip


def bracket(rig: Rig, data: bytes) -> Bundle:
    """A stout bracket in ABS on a small open machine: no setting makes it hold."""
    return Bundle(Project(
        name="Davit bracket", rig=rig, part=PartSource(name="Davit bracket", file="davit-bracket.stl"),
        notes="Ordered in ABS. On this machine nothing on the map holds: what would have to change?",
        process=Process(polymer="abs", surface="bare_glass", infill=0.4, walls=4),
        settings=Settings(bed_first=celsius(88.0), bed_rest=celsius(85.0), soak_time=300.0),
    ), {"davit-bracket.stl": data})  # fmt: skip


def cold_garage(rig: Rig, cradle: bytes) -> Bundle:
    """A cradle in PETG in a garage at 3 °C, on a battery from the print on."""
    battery = Backup(kind="battery", capacity=1.3 * 3.6e6, temperature=celsius(3.0))
    garage = rig.model_copy(update={"name": "Garage 340", "room_temperature": celsius(3.0), "backup": battery})
    return Bundle(Project(
        name="Cold garage on a battery", rig=garage, part=PartSource(name="Winch cradle", file="winch-cradle.stl"),
        notes="The mains are off from ten on. Will the battery carry the print to its end, and what need not be heated?",
        process=Process(
            polymer="petg", surface="polyetherimide_textured", infill=0.25, nozzle=0.0006, layer_height=0.0003, line_width=0.00064
        ),
        settings=Settings(bed_first=celsius(80.0), bed_rest=celsius(75.0), chamber=celsius(35.0), soak_time=300.0),
        criteria=Criteria(lift_limit=0.0006),
    ), {"winch-cradle.stl": cradle})  # fmt: skip


def write_cases(
    folder: Path, closed: Rig, small: Rig, cradle: bytes, stl_bytes: Callable[[m3.Manifold], bytes]
) -> None:
    """Write the four projects."""
    folder.mkdir(parents=True, exist_ok=True)
    data = stl_bytes(davit_bracket())
    for key, bundle in (
        ("hot-housing", hot_housing(closed)), ("flat-frame", flat_frame(closed)), ("bracket", bracket(small, data)),
        ("cold-garage", cold_garage(closed, cradle)),
    ):  # fmt: skip
        write_bundle(folder / f"{key}.mandorla", bundle)
