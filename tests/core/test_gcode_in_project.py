"""A part printed by its own G-code: times, volume and layers of the file count; what does not belong together is refused."""

from __future__ import annotations

import json
import zipfile
from pathlib import Path

import numpy as np
import pytest

from mandorla.cli import run
from mandorla.core.errors import InputError, MeshError, ProjectFileError
from mandorla.core.project.store import Bundle, read_bundle, write_bundle
from tests.core.asked import evaluated, geometry_of
from tests.core.bundles import block_gcode, small_bundle


def with_gcode(data: bytes) -> Bundle:
    bundle = small_bundle()
    part = bundle.project.part
    assert part is not None
    project = bundle.project.model_copy(update={"part": part.model_copy(update={"gcode": "block.gcode"})})
    return Bundle(project, {**bundle.originals, "block.gcode": data})


def test_times_volume_and_layers_are_those_of_the_file() -> None:
    bundle = with_gcode(block_gcode(120.0, 60.0, 20.0))
    geometry = geometry_of(bundle)
    assert geometry is not None
    assert geometry.file is not None
    e = evaluated(bundle)
    assert e.part is not None
    plan = e.part.plan
    assert plan.layers == 50
    assert plan.duration == pytest.approx(geometry.file.duration)
    # wall and half-filled inside: about 0.53 of the block
    assert float(plan.solid_area.mean() / geometry.sections.area.mean()) == pytest.approx(0.53, abs=0.03)
    assert plan.mass == pytest.approx(geometry.file.volume.sum() * 1070.0, rel=0.05)
    assert np.allclose(plan.layer_time, geometry.file.time[1], rtol=0.05)
    plain = evaluated(small_bundle())
    assert plain.part is not None
    assert plain.part.plan.duration != plan.duration


@pytest.mark.parametrize(("size", "what"), [((120.0, 60.0, 30.0), "height"), ((90.0, 60.0, 20.0), "plan")])
def test_gcode_of_another_part_is_refused(size: tuple[float, float, float], what: str) -> None:
    with pytest.raises(MeshError, match="does not print this part") as caught:
        geometry_of(with_gcode(block_gcode(*size)))
    assert caught.value.problems[0].where == what


def test_gcode_is_kept_in_the_project_file_and_missed_when_lost(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    bundle = with_gcode(block_gcode(120.0, 60.0, 20.0))
    path = tmp_path / "p.mandorla"
    write_bundle(path, bundle)
    assert read_bundle(path).originals["block.gcode"] == bundle.originals["block.gcode"]
    assert run(["warp", str(path), "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["status"] in ("holds", "marginal", "fails")
    lost = Bundle(bundle.project, {"block.stl": bundle.originals["block.stl"]})
    before = path.read_bytes()
    with pytest.raises(InputError, match="lacks the G-code"):
        write_bundle(path, lost)
    assert path.read_bytes() == before
    archive = tmp_path / "lost.mandorla"
    with zipfile.ZipFile(path) as whole, zipfile.ZipFile(archive, "w") as cut:
        for name in whole.namelist():
            if not name.endswith("block.gcode"):
                cut.writestr(name, whole.read(name))
    with pytest.raises(ProjectFileError, match="lacks the G-code"):
        read_bundle(archive)
