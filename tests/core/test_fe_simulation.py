"""The full warp simulation: symmetry, mesh objectivity, known trends, the grip's law, the lifting plate, what stops a run."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from mandorla.core.elastic.multigrid import ElasticBody
from mandorla.core.errors import Cancelled, InputError, SolverError
from mandorla.core.failure.messages import release_words
from mandorla.core.materials.library_data import joint_kinds, polymers
from mandorla.core.part.mesh import Mesh
from mandorla.core.part.process import Placement, Process
from mandorla.core.part.sections import slice_solid
from mandorla.core.project.samples import sample
from mandorla.core.runtime import RunContext
from mandorla.core.tune.operating_point import prepare_part
from mandorla.core.warp.cohesive import SHEAR, CohesiveGrip
from mandorla.core.warp.estimate import Conditions
from mandorla.core.warp.fe_case import PrintedPart, brim_reach, full_run, hold_of
from mandorla.core.warp.fe_simulation import Boxes, FeCase, box_blocks, connected, expected_seconds, simulate
from mandorla.core.warp.loose_plate import Sheet, SheetHold, bending_matrix
from mandorla.core.warp.voxels import edge_for, grid_of, shares, voxelise
from tests.core.bodies import block, box, corners, ground, layers, run_block

BLOCK = (0.12, 0.06, 0.02)


def steel(pull: float, half: float = 0.12) -> SheetHold:
    """A spring steel sheet of 0.7 mm, held by a magnet."""
    return SheetHold("sheet", 2e11 * 0.7e-3**3 / 12.0 / 0.91, 0.3, pull, (), (half, half), 1.2e-5)


# ---- boxes
def test_shares_of_boxes_are_exact_for_a_box_and_add_up_for_a_wedge() -> None:
    assert shares(block(0.03, 0.02, 0.01), (6, 4, 4)) == pytest.approx(np.ones((4, 4, 6)), abs=1e-6)
    v, f = box(0.04, 0.02, 0.01)
    v = v.copy()
    v[4:, 0] = np.where(v[4:, 0] > 0, 0.0, v[4:, 0])  # the upper right edge drawn to the middle
    wedge = Mesh(v, f, ())
    found = shares(wedge, (16, 8, 20))
    assert found.mean() * 0.04 * 0.02 * 0.01 == pytest.approx(wedge.volume, rel=2e-3)
    solid = voxelise(wedge, (16, 8, 20))
    assert abs(solid.missed) < 0.04  # whole columns of a layer stay together: half a column of twelve
    assert (solid.solid[0].sum(axis=1) == 16).all()
    assert (solid.solid[-1].sum(axis=1) <= 9).all()


def test_thin_walls_are_told() -> None:
    outer, inner = box(0.06, 0.04, 0.03), box(0.058, 0.038, 0.03)
    faces = np.concatenate([outer[1], inner[1][:, ::-1] + 8])
    tube = Mesh(np.concatenate([outer[0], inner[0]]), faces, ())
    found = voxelise(tube, grid_of(tube, 5e-3))
    wall = 0.06 * 0.04 * 0.03 - 0.058 * 0.038 * 0.03
    boxes = found.solid.sum() * float(np.prod(found.size))
    # a box's share is measured on four scan lines, of which a wall of 1 mm fills none or one: its volume is known to a fifth
    assert found.missed == pytest.approx(boxes / wall - 1.0, rel=0.2)
    assert found.missed > 1.0, "boxes of 5 mm make far more of a wall of 1 mm"
    assert found.rough == pytest.approx(1.0), "every box is at a surface"


def test_lumps_end_at_jumps_and_are_even() -> None:
    solid = np.ones((16, 4, 4), dtype=bool)
    solid[6:, 2:] = False
    blocks = box_blocks(solid, 2e-3)
    assert (4, 6) in blocks
    assert all((b - a) % 2 == 0 and (b - a) * 2e-3 <= 0.0101 for a, b in blocks)
    assert blocks[0][0] == 0
    assert blocks[-1][1] == 16


# ---- the grip's law
@pytest.mark.parametrize("shear", [0.0, 0.6])
def test_opening_the_grip_takes_its_fracture_energy(shear: float) -> None:
    one = np.ones((1, 1))
    grip = CohesiveGrip(one.copy(), 2e6 * one, 300.0 * one, 1e11 * one)
    work, before = 0.0, np.zeros(3)
    ends = 2.0 * 300.0 / 2e6
    for d in np.linspace(0.0, 2.2 * ends, 4000)[1:]:
        opening = np.array([shear * d, 0.0, (1 - shear) * d]).reshape(1, 1, 3)
        grip.wear(opening)
        force = (grip.springs(opening) * opening)[0, 0]
        work += float(force @ (opening[0, 0] - before))
        before = opening[0, 0]
    assert work == pytest.approx(300.0, rel=0.01)
    assert grip.damage[0, 0] == 1.0
    assert grip.spent[0, 0] == pytest.approx(1.0)
    pressed = np.array([0.0, 0.0, -1e-6]).reshape(1, 1, 3)
    assert grip.springs(pressed)[0, 0, 2] > 1e10  # contact is left


def test_damage_never_heals_and_shear_counts() -> None:
    one = np.ones((1, 1))
    grip = CohesiveGrip(one.copy(), 2e6 * one, 300.0 * one, 1e11 * one)
    grip.wear(np.array([0.0, 0.0, 1e-4]).reshape(1, 1, 3))
    damage = float(grip.damage[0, 0])
    assert 0.0 < damage < 1.0
    grip.wear(np.zeros((1, 1, 3)))
    assert grip.damage[0, 0] == damage
    assert grip.effective(np.array([1e-5, 0.0, 0.0]).reshape(1, 1, 3))[0, 0] == pytest.approx(1e-5 * SHEAR**0.5)


# ---- the plate
def test_a_free_plate_bends_and_does_not_resist_rigid_motions() -> None:
    nx, ny, step, D, nu = 9, 7, 0.02, 6.0, 0.3
    K = bending_matrix(nx, ny, step, step, D, nu).toarray()
    x, y = np.meshgrid(step * np.arange(nx), step * np.arange(ny))
    assert np.abs(K @ (0.1 + x - 2.0 * y).ravel()).max() < 1e-9 * np.abs(K).max()
    w = 0.5 * (1.5 * x**2 + 0.5 * y**2).ravel()  # curvatures 1.5 and 0.5
    each = 0.5 * D * (1.5**2 + 0.5**2 + 2 * nu * 1.5 * 0.5)
    inner = each * (nx - 2) * (ny - 2) * step**2
    whole = each * (nx - 1) * (ny - 1) * step**2
    assert inner * 0.99 < 0.5 * w @ K @ w < whole * 1.01


def test_a_magnet_lets_go_of_a_corner_that_is_pulled_hard() -> None:
    x = np.linspace(-0.03, 0.03, 7)
    sheet = Sheet.below(steel(1.2e4, 0.06), x, x, (0.0, 0.0))
    springs = np.full((7, 7), 1e7)
    gaps = []
    for up in (1e-7, 2e-4):
        for _ in range(30):
            sheet.settle(springs)
            sheet.w = sheet.answer(np.full((7, 7), up))
        gaps.append(sheet.lifted)
    assert gaps[0] == 0.0
    assert gaps[1] > 1e-4


# ---- whole runs
@pytest.fixture(scope="module")
def held() -> object:
    """The block at 6 mm, held all the way."""
    return run_block(BLOCK, 6e-3, ground(), layers(fresh=8e-4, cooling=8e-4))


def test_symmetric_parts_give_symmetric_answers_and_a_turned_part_the_same(held) -> None:  # type: ignore[no-untyped-def]
    lift = held.lift[-1]
    assert np.ptp(lift) < 0.01 * lift.max()
    assert held.stopped == ""
    assert held.margin[-1].min() > 1.0
    turned = run_block((BLOCK[1], BLOCK[0], BLOCK[2]), 6e-3, ground(), layers(fresh=8e-4, cooling=8e-4))
    assert turned.printed_lift == pytest.approx(held.printed_lift, rel=0.01)
    assert turned.released_lift == pytest.approx(held.released_lift, rel=0.01)
    assert turned.margin[-1].min() == pytest.approx(held.margin[-1].min(), rel=0.01)


def test_printed_lift_and_margin_do_not_depend_on_the_boxes(held) -> None:  # type: ignore[no-untyped-def]
    """From 6 mm to 4 mm boxes, opening grip: lift, margin and flatness within 10 %."""
    finer = run_block(BLOCK, 4e-3, ground(), layers(fresh=8e-4, cooling=8e-4))
    assert finer.printed_lift == pytest.approx(held.printed_lift, rel=0.10)
    assert finer.released_lift == pytest.approx(held.released_lift, rel=0.10)
    assert finer.margin[-1].min() == pytest.approx(held.margin[-1].min(), rel=0.10)
    assert finer.detached[-1] == pytest.approx(held.detached[-1], abs=0.02)


def test_two_copies_far_apart_do_not_interact() -> None:
    size = (0.03, 0.03, 0.01)
    alone = run_block(size, 3e-3, ground(), layers(fresh=1.5e-3))
    (v1, f1), (v2, f2) = box(*size, at=(-0.045, 0.0)), box(*size, at=(0.045, 0.0))
    both = Mesh(np.concatenate([v1, v2]), np.concatenate([f1, f2 + 8]), ())
    ends = corners(0.12, 0.03)
    found = simulate(FeCase(both, ends, layers(fresh=1.5e-3), ground(), 0.36), Boxes(edge=3e-3))
    assert found.printed_lift == pytest.approx(alone.printed_lift, rel=0.05)
    assert found.margin[-1].min() == pytest.approx(alone.margin[-1].min(), rel=0.05)


def test_what_every_practitioner_knows(held) -> None:  # type: ignore[no-untyped-def]
    colder = run_block(BLOCK, 6e-3, ground(), layers(fresh=1.2e-3, cooling=1.2e-3))
    assert colder.printed_lift > held.printed_lift
    assert colder.released_lift > held.released_lift
    assert colder.margin[-1].min() < held.margin[-1].min()
    shorter = run_block((0.06, 0.06, 0.02), 6e-3, ground(), layers(fresh=8e-4, cooling=8e-4))
    assert shorter.printed_lift < held.printed_lift
    # too low a grip lets go at the corners first, and then altogether
    weak = run_block(BLOCK, 6e-3, ground(strength=1e6, energy=100.0), layers(fresh=1.2e-3, cooling=1.2e-3))
    assert weak.detached[-1] > 0.2
    assert weak.hold_margin < 1.0
    assert np.isfinite(weak.opens_from)
    first = next(k for k in range(weak.height.size) if weak.margin[k].min() < 1.0)
    assert 0.0 < weak.detached[first] < 0.05
    assert weak.damage[0, 0] > weak.damage[5, 5]
    assert weak.printed_lift > 1.5 * colder.printed_lift


def test_with_a_strong_grip_the_magnet_becomes_the_weak_link() -> None:
    made = layers(fresh=6e-4, cooling=6e-4)
    strong, weak = (run_block(BLOCK, 7.5e-3, ground(sheet=steel(pull)), made) for pull in (1e5, 5e3))
    rigid = run_block(BLOCK, 7.5e-3, ground(), made)
    assert rigid.plate_lift.max() == 0.0
    assert weak.plate_lift.max() > strong.plate_lift.max()
    assert weak.printed_lift > strong.printed_lift > 0.9 * rigid.printed_lift
    assert weak.margin[-1].min() > rigid.margin[-1].min()  # a plate that gives way spares the grip
    assert weak.hold_margin > 1.0
    assert np.ptp(weak.lift[-1]) < 0.03 * weak.printed_lift


def test_a_part_that_comes_loose_stops_the_run_and_says_so() -> None:
    found = run_block(BLOCK, 7.5e-3, ground(strength=2e5, energy=10.0), layers(fresh=4e-3))
    assert "came loose" in found.stopped
    assert found.height[-1] < BLOCK[2]
    assert any("not known" in note for note in found.notes)
    assert found.hold_margin < 1.0
    assert found.opens_from <= found.height[-1]


def test_a_stop_is_heard_and_what_was_there_was_shown() -> None:
    run, seen = RunContext(), []

    def show(found: object) -> None:
        seen.append(found)
        if len(seen) == 2:
            run.cancel()

    with pytest.raises(Cancelled):
        simulate(FeCase(block(*BLOCK), corners(*BLOCK[:2]), layers(), ground(), 0.36), Boxes(edge=1e-2), run, show)
    assert len(seen) == 2
    assert seen[1].height.size == 2


def test_time_and_memory_are_told_beforehand() -> None:
    part = block(*BLOCK)
    draft, fine = expected_seconds(part, "draft", sheet=None), expected_seconds(part, "fine", sheet=None)
    assert 0.0 < draft[0] < fine[0]
    assert draft[1] < fine[1] < 5e8
    assert edge_for(part, 1000) == pytest.approx((part.volume / 1000) ** (1 / 3))


def test_how_the_plate_is_held_follows_the_bed() -> None:
    """A magnet pulls with the library's figure; clipped glass has clips and its own stiffness; a bonded stack holds nothing that
    is loose."""
    bed = sample("boathouse").project.rig.bed
    sheet = hold_of(bed)
    assert sheet is not None
    assert sheet.name == "Flex sheet"
    kind = joint_kinds()["magnetic"].pull
    assert kind is not None
    assert sheet.pull == kind.typical
    assert 5e3 <= kind.low < kind.typical < kind.high
    t, p = bed.layers[1].thickness, bed.layers[1].properties()
    assert sheet.stiffness == pytest.approx(p.modulus * t**3 / 12.0 / (1.0 - p.poisson**2), rel=0.15)
    glass = hold_of(sample("windowsill").project.rig.bed)
    assert glass is not None
    assert glass.pull == 0.0
    assert len(glass.clips) == 4
    assert glass.stiffness > 20.0 * sheet.stiffness
    whole = bed.model_copy(update={"layers": tuple(x.model_copy(update={"bonded": True}) for x in bed.layers)})
    assert hold_of(whole) is None


def test_a_brim_helps_as_far_as_its_layer_reaches() -> None:
    part = prepare_part(
        slice_solid(block(*BLOCK)), Process(polymer="asa", surface="polyetherimide_textured", brim=0.008)
    )
    reach = brim_reach(part, 1e10)
    assert 0.0 < reach < 0.008
    assert brim_reach(part, 1e8) > reach
    plain = run_block(BLOCK, 7.5e-3, ground(), layers(fresh=1.2e-3))
    helped = run_block(BLOCK, 7.5e-3, replace(ground(), brim=0.003), layers(fresh=1.2e-3))
    assert helped.margin[-1].min() > plain.margin[-1].min()


def test_what_hangs_in_the_air_waits_until_it_is_joined() -> None:
    solid = np.ones((4, 3, 6), dtype=bool)
    solid[:, :, 2:4] = False
    solid[0, :, 4:] = False  # the right half floats
    assert connected(solid)[:, :, :2].all()
    assert not connected(solid)[:, :, 4:].any()
    solid[3] = True  # until the uppermost layer joins both
    assert connected(solid).sum() == solid.sum()
    v, f = box(0.03, 0.02, 0.01)
    v = v.copy()
    v[:4] *= np.array([0.02, 0.02, 1.0])  # a pyramid on its tip
    with pytest.raises(InputError, match="no part of it stands on the plate"):
        simulate(FeCase(Mesh(v, f, ()), corners(0.03, 0.02), layers(), ground(), 0.36), Boxes(edge=5e-3))


def test_a_plate_that_lost_its_magnet_ends_the_run_and_says_so() -> None:
    found = run_block(BLOCK, 7.5e-3, ground(sheet=steel(1.5e3)), layers(fresh=2.5e-3))
    assert found.stopped == "pulled the plate off its magnet"
    assert found.plate_off
    assert found.height[-1] < BLOCK[2]
    assert np.isfinite(found.printed).all()


def test_the_run_keeps_what_moved_while_it_grew_and_the_plate_below_it() -> None:
    found = run_block(BLOCK, 7.5e-3, ground(sheet=steel(1e4)), layers(fresh=6e-4, cooling=6e-4))
    assert len(found.growth) == found.height.size
    for height, moved in zip(found.height, found.growth, strict=True):
        assert moved.shape[0] == 1 + round(height / found.voxels.size[2])
        assert moved.shape[1:] == found.printed.shape[1:3]
    x, y, gap = found.plate
    assert gap.shape == (y.size, x.size)
    assert gap.max() == pytest.approx(found.plate_lift[-1], rel=1e-6)
    assert gap.min() >= 0.0
    rigid = run_block(BLOCK, 7.5e-3, ground(), layers(fresh=6e-4, cooling=6e-4))
    assert rigid.plate is None


def test_softer_across_layers_bends_alike_but_opens_less() -> None:
    """The long way is bending in the plane of the layers, which keeps its stiffness; what is pulled across them gives."""
    made, size = layers(fresh=1e-3, cooling=6e-4), (0.12, 0.06, 0.03)
    stiff, soft = (
        simulate(FeCase(block(*size), corners(*size[:2]), made, ground(), 0.36, a), Boxes(edge=7.5e-3))
        for a in (1.0, 0.5)
    )
    assert soft.released_lift == pytest.approx(stiff.released_lift, rel=0.35)
    assert soft.crack.max() < stiff.crack.max()


def test_the_case_takes_the_polymers_stiffness_across_layers() -> None:
    plain, filled = polymers()["abs"].across_layers, polymers()["abs_gf"].across_layers
    assert filled.typical < plain.typical < 1.0
    bed = sample("boathouse").project.rig.bed
    bed = bed.model_copy(update={"layers": tuple(x.model_copy(update={"bonded": True}) for x in bed.layers)})
    runs = []
    for across in (0.4, 1.0):
        part = prepare_part(slice_solid(block(0.08, 0.05, 0.03)), Process(polymer="abs"))
        value = replace(part.polymer.across_layers, typical=across)
        part = replace(part, polymer=replace(part.polymer, across_layers=value))
        at = Conditions(368.0, 368.0, np.full(4, 366.0), 310.0, 0.0, 295.0)
        runs.append(
            full_run(
                PrintedPart(part, at, block(0.08, 0.05, 0.03), bed, Placement(), lambda p: np.full(len(p), 367.0)),
                Boxes("draft"),
            )
        )
    assert runs[0].crack.max() < runs[1].crack.max()


def test_a_bond_that_is_too_strong_tears_the_plate_and_layers_are_counted() -> None:
    found = run_block((0.06, 0.06, 0.03), 7.5e-3, ground(), layers(fresh=2e-4, cooling=2e-4))
    assert "flex of the plate" in release_words(found.cold_detached > 0.5)
    assert "tear or chip the surface" in release_words(found.cold_detached > 0.5, tears=True)
    assert "Cooling peels it off" in release_words(True, tears=True)
    weak = replace(found, margin=0.5 * np.ones_like(found.margin), layer_height=3e-4)
    assert weak.layer_of(weak.opens_from) == round(found.height[0] / 3e-4)
    assert "petg" in Process(polymer="petg", surface="bare_glass").plate_surface().too_strong
    assert "petg" not in Process(polymer="petg", surface="bare_glass", coating="glue").plate_surface().too_strong


def test_a_solve_that_finds_nothing_is_an_error_in_words_and_no_crash(monkeypatch: pytest.MonkeyPatch) -> None:
    def lost(self: ElasticBody, F: np.ndarray, u: np.ndarray, *_: object, **__: object) -> None:
        u[:] = np.nan

    monkeypatch.setattr(ElasticBody, "solve", lost)
    with pytest.raises(SolverError, match="no equilibrium at a height of"):
        run_block(BLOCK, 7.5e-3, ground(), layers(fresh=1e-3))
