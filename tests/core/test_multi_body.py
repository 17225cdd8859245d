"""Several bodies on one plate in one run: each as if it were alone on a rigid plate, together on a loose one."""

from __future__ import annotations

import json
from dataclasses import replace

import numpy as np
import pytest

from mandorla.cli import run
from mandorla.core.errors import InputError
from mandorla.core.part.mesh import Mesh
from mandorla.core.part.process import Placement
from mandorla.core.part.sections import Corner
from mandorla.core.project.samples import sample, sample_part
from mandorla.core.project.store import Bundle, write_bundle
from mandorla.core.results.keys import COMPENSATION, EXPECTED_TIMES
from mandorla.core.results.warp import Printed, all_bodies
from mandorla.core.warp.fe_case import layers_of_bodies
from mandorla.core.warp.fe_model import Boxes, FeCase, Layers
from mandorla.core.warp.fe_simulation import simulate
from mandorla.core.warp.loose_plate import SheetHold
from mandorla.core.warp.multi_body import nearest, sort_out
from mandorla.core.warp.voxels import Voxels, grid_of, voxelise
from tests.core.asked import asked, evaluated, geometry_of, simulated
from tests.core.bodies import box, corners, ground, layers

SIZE, APART = (0.04, 0.03, 0.01), 0.05


def row(
    heights: tuple[float, ...], gap: float = APART - SIZE[0]
) -> tuple[list[Mesh], Mesh, tuple[Corner, ...], list[int]]:
    """Blocks of some heights in a row along x: each, all, their corners and whose those are."""
    bodies, ends, whose, vertices, faces = [], [], [], [], []
    for k, height in enumerate(heights):
        at = ((k - 0.5 * (len(heights) - 1)) * (SIZE[0] + gap), 0.0)
        v, f = box(*SIZE[:2], height, at=at)
        bodies.append(Mesh(v, f, ()))
        vertices.append(v)
        faces.append(f + 8 * k)
        ends += [replace(c, x=c.x + at[0], name=f"{c.name}, body {k + 1}") for c in corners(*SIZE[:2])]
        whose += [k] * 4
    return bodies, Mesh(np.concatenate(vertices), np.concatenate(faces), ()), tuple(ends), whose


def test_each_of_several_bodies_does_what_it_does_alone_on_a_rigid_plate() -> None:
    bodies, whole, ends, whose = row((0.01, 0.01, 0.01))
    made = layers(fresh=1.5e-3)
    alone = simulate(FeCase(Mesh(*box(*SIZE), ()), corners(*SIZE[:2]), made, ground(), 0.36), Boxes(edge=2.5e-3))
    found = simulate(FeCase(whole, ends, made, ground(), 0.36, apart=sort_out(bodies, whose)), Boxes(edge=2.5e-3))
    assert found.bodies == 3
    assert found.lift[-1].reshape(3, 4) == pytest.approx(np.tile(alone.lift[-1], (3, 1)), rel=0.02, abs=2e-6)
    assert found.margin[-1].reshape(3, 4) == pytest.approx(np.tile(alone.margin[-1], (3, 1)), rel=0.02)
    assert found.released_lift == pytest.approx(alone.released_lift, rel=0.02)
    assert found.crack == pytest.approx(alone.crack, rel=0.03)
    assert len(found.undersides(found.released)) == 3
    assert found.notes == ()
    # a plane through all three would not be flat to the same figure
    assert found.utilisation.max() == pytest.approx(alone.utilisation.max(), rel=0.02)


def test_together_they_pull_a_loose_plate_up_that_one_leaves_alone() -> None:
    sheet = SheetHold("sheet", 5.0, 0.3, 6e3, (), (0.15, 0.1), 1.2e-5, reach=3e-4)
    made = layers(fresh=3e-3)
    bodies, whole, ends, whose = row((0.01, 0.01, 0.01))
    on = ground(strength=1e7, energy=3000.0, sheet=sheet)
    alone = simulate(FeCase(bodies[1], ends[4:8], made, on, 0.36), Boxes(edge=2.5e-3))
    found = simulate(FeCase(whole, ends, made, on, 0.36, apart=sort_out(bodies, whose)), Boxes(edge=2.5e-3))
    assert not alone.stopped
    assert found.stopped == "pulled the plate off its magnet"
    assert found.plate_lift[1] > 1.5 * alone.plate_lift[1]


def test_a_body_that_lets_go_stops_the_run_however_well_the_others_hold() -> None:
    bodies, whole, ends, whose = row((0.01, 0.01))

    def uneven(x: np.ndarray, y: np.ndarray, _: float) -> tuple[np.ndarray, np.ndarray]:
        weak = np.where(x < 0.0, 2e5, 5e6)
        return weak, np.where(x < 0.0, 10.0, 1e3)

    on = replace(ground(), grip=uneven)
    found = simulate(
        FeCase(whole, ends, layers(fresh=3e-3), on, 0.36, apart=sort_out(bodies, whose)), Boxes(edge=2.5e-3)
    )
    assert found.stopped == "came loose"
    assert found.detached[-1] < 0.6
    assert "corner of body 1" in found.corner_words(int(np.argmin(found.margin[-1])))


def test_boxes_belong_to_the_nearest_body_and_bodies_that_touch_are_told() -> None:
    bodies, whole, ends, whose = row((0.01, 0.01), gap=1e-3)
    v = voxelise(whole, grid_of(whole, 2.5e-3))
    found = sort_out(bodies, whose)(v)
    middle = 0.5 * (v.x[1:] + v.x[:-1])
    assert (found.columns == (middle > 0.0)).all()
    assert found.merged(v.solid)
    run_of_both = simulate(
        FeCase(whole, ends, layers(), ground(), 0.36, apart=sort_out(bodies, whose)), Boxes(edge=2.5e-3)
    )
    assert any("hang together" in note for note in run_of_both.notes)
    assert nearest(bodies, np.array([-1.0, 1.0]), np.array([0.0])).tolist() == [[0, 1]]


def test_bodies_of_other_heights_have_their_own_layers() -> None:
    base = sample("boathouse")
    source, files = sample_part("sail-clips")
    bundle = Bundle(base.project.model_copy(update={"part": source}), files)
    e = evaluated(bundle)
    bodies, whole, _, whose = row((0.012, 0.006))
    part = e.part
    found = layers_of_bodies((part, part), e.conditions, sort_out(bodies, whose))(voxelise(whole, (18, 6, 12)))
    assert found.printing.shape == (12, 6, 18)
    tall, low = found.fresh[:, 0, 0], found.fresh[:, 0, -1]
    # the low one goes through the same history over half the height, and has its last layer's figures above
    assert low[:6] == pytest.approx(0.5 * (tall[::2] + tall[1::2]), rel=1e-9)
    assert (low[6:] == low[5]).all()
    same = layers_of_bodies((part, part), e.conditions, sort_out(*row((0.01, 0.01))[::3]))
    assert same(voxelise(row((0.01, 0.01))[1], (18, 6, 12))).printing.ndim == 1


def test_layers_by_box_change_nothing() -> None:
    def made(v: Voxels) -> Layers:
        plain = layers(fresh=1.5e-3)(v).by_box()
        return Layers(*(np.broadcast_to(getattr(plain, n), v.solid.shape).copy() for n in Layers.__slots__))

    one = simulate(
        FeCase(Mesh(*box(*SIZE), ()), corners(*SIZE[:2]), layers(fresh=1.5e-3), ground(), 0.36), Boxes(edge=5e-3)
    )
    other = simulate(FeCase(Mesh(*box(*SIZE), ()), corners(*SIZE[:2]), made, ground(), 0.36), Boxes(edge=5e-3))
    assert other.lift[-1] == pytest.approx(one.lift[-1], rel=1e-9)
    assert other.crack == pytest.approx(one.crack, rel=1e-9)


def test_a_projects_bodies_are_numbered_by_rows_and_simulated_together(
    tmp_path, capsys: pytest.CaptureFixture[str]
) -> None:  # type: ignore[no-untyped-def]
    base = sample("boathouse")
    source, files = sample_part("sail-clips")
    few = source.model_copy(update={"placement": Placement()})
    bundle = Bundle(base.project.model_copy(update={"part": few}), files)
    geometry = geometry_of(bundle)
    several = all_bodies(Printed(bundle, geometry, evaluated(bundle)))
    assert len(several.bodies) == geometry.sections.bodies == 16
    middles = [0.5 * (b.vertices.min(axis=0) + b.vertices.max(axis=0)) for b in several.bodies]
    assert middles[0][1] < middles[-1][1]
    assert middles[0][0] < middles[1][0]
    for corner, k in zip(several.corners, several.corner_of, strict=True):
        assert corner.name.endswith(f", body {k + 1}")
        low, high = several.bodies[k].vertices.min(axis=0), several.bodies[k].vertices.max(axis=0)
        assert low[0] - 1e-6 <= corner.x <= high[0] + 1e-6
        assert low[1] - 1e-6 <= corner.y <= high[1] + 1e-6
    memory = {b: asked(bundle, EXPECTED_TIMES.of(bodies=b)).memory["draft"] for b in ("all", "one")}
    assert memory["all"] > 3.0 * memory["one"]
    found = simulated(bundle, "draft", "all")
    assert found.bodies == 16
    assert len(found.undersides(found.released)) == 16
    with pytest.raises(InputError, match="one body"):
        asked(bundle, COMPENSATION.of(resolution="draft", bodies="all"))
    path = tmp_path / "clips.mandorla"
    write_bundle(path, Bundle(bundle.project, {**base.originals, **files}))
    for bodies, count in (("all", 16), ("one", 1)):
        assert run(["warp", str(path), "--full", "--resolution", "draft", "--bodies", bodies, "--json"]) in (0, 1, 3)
        assert json.loads(capsys.readouterr().out)["bodies"] == count
