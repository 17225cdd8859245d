"""What ships to begin with: an empty project, and the rigs of a made-up workshop."""

from __future__ import annotations

import gzip
from importlib import resources
from typing import Final

from mandorla.core.part.process import PartSource
from mandorla.core.project.models import Project, build
from mandorla.core.project.store import Bundle, read_bundle
from mandorla.core.rig.bed import Bed, BedLayer, Heater, Sensor
from mandorla.core.rig.model import Rig

# key: what the workshop calls it
SAMPLES: Final[dict[str, str]] = {
    "boathouse": "Boathouse 340, enclosed, with the winch cradle",
    "windowsill": "Windowsill 180, a small open frame",
    "kiln": "Kiln 500, hot bed and hot chamber",
}


# projects with a question for the stage Tune; key: what it is about
CASES: Final[dict[str, str]] = {
    "hot-housing": "Hot housing: how warm a chamber pays",
    "flat-frame": "Flat frame: a tacky plate that is hardly heated",
    "bracket": "Davit bracket: nothing on the map holds",
    "cold-garage": "Cold garage: a print on a battery",
}

# key: what it is, its mesh and, if there is one, the G-code that prints it
PARTS: Final[dict[str, tuple[str, str, str]]] = {
    "oar-rack": ("Oar rack, a long housing", "oar-rack.stl", ""),
    "hatch-frame": ("Hatch frame, large and flat", "hatch-frame.3mf", ""),
    "lamp-box": ("Lamp box, tall and thin-walled, with its G-code", "lamp-box.stl", "lamp-box.gcode"),
    "sail-clips": ("Sail clips, a batch of small pieces", "sail-clips.3mf", ""),
}


def sample_part(key: str) -> tuple[PartSource, dict[str, bytes]]:
    """A part of the workshop with the bytes of its files."""
    title, mesh, gcode = PARTS[key]
    folder = resources.files("mandorla.data").joinpath("demo/parts")
    files = {name: folder.joinpath(name).read_bytes() for name in (mesh, gcode) if name}
    return PartSource(name=title.partition(",")[0], file=mesh, gcode=gcode), files


def sample(key: str) -> Bundle:
    """A sample project as shipped; it opens as a project that was never saved."""
    name = f"cases/{key}" if key in CASES else key
    with resources.as_file(resources.files("mandorla.data").joinpath(f"demo/{name}.mandorla")) as path:
        return read_bundle(path)


def demo_logbook() -> bytes:
    """The made-up workshop's logbook, as an export in JSON."""
    return gzip.decompress(resources.files("mandorla.data").joinpath("demo/logbook.json.gz").read_bytes())


def new_bundle() -> Bundle:
    """An empty project on a plain open rig."""
    bed = Bed(
        width=0.25, depth=0.25,
        layers=(
            BedLayer(name="Print film", material="polyetherimide_film", thickness=0.00015, contact_resistance=1e-4),
            BedLayer(name="Plate", material="cast_aluminium", thickness=0.006, contact_resistance=1e-4),
            BedLayer(name="Heater mat", material="silicone_mat", thickness=0.0015),
        ),
        heater=Heater(layer="Heater mat", width=0.23, depth=0.23, power=300.0), sensor=Sensor(layer="Plate"),
    )  # fmt: skip
    rig = Rig(name="My rig", bed=bed).model_dump()
    rig["chamber"]["enclosed"] = False
    project = build(Project, {"name": "New project", "rig": rig}, "new project")
    assert isinstance(project, Project)
    return Bundle(project, {})
