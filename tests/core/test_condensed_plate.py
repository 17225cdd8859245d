"""A loose plate as two beams: closed forms, the fold, clips, and the full simulation of the same state."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import trimesh

import mandorla
from mandorla.core.part.mesh import Floats
from mandorla.core.project.samples import new_bundle, sample, sample_part
from mandorla.core.project.store import Bundle
from mandorla.core.results.keys import EVALUATION
from mandorla.core.rig.bed import Outline
from mandorla.core.warp.banded import beam_solve
from mandorla.core.warp.condensed_plate import (
    BeamBlocks,
    BeamSeat,
    CondensedPlate,
    PlateLift,
    _band,
    _lift_beam,
    beam_seat,
    condensed,
    plate_lift,
)
from mandorla.core.warp.fe_case import Foot, hold_of
from mandorla.core.warp.loose_plate import SEAT, SheetHold
from tests.core.asked import asked, evaluated, simulated

SHEET = SheetHold("sheet", 4.0, 0.3, 1.2e4, (), (0.17, 0.165), 1.2e-5)


def with_part(part: str = "", bed: dict[str, object] | None = None, **settings: float) -> Bundle:
    """A part on the boathouse's bed."""
    base = sample("boathouse")
    project, originals = base.project, base.originals
    if part:
        source, files = sample_part(part)
        project, originals = project.model_copy(update={"part": source}), {**originals, **files}
    if bed:
        changed = project.rig.bed.model_copy(update=bed)
        project = project.model_copy(update={"rig": project.rig.model_copy(update={"bed": changed})})
    return Bundle(project.model_copy(update={"settings": project.settings.model_copy(update=settings)}), originals)


def one_beam(pull: float, reach: float, half: float, N: float, EI: float) -> CondensedPlate:
    """A single block that bends one beam on a wide sheet next to nothing stiff."""
    x = np.linspace(0.0, half, 61)
    area = np.full(x.size, x[1])
    area[[0, -1]] *= 0.5
    seat = BeamSeat(x, area, np.zeros(x.size), 1e-6, np.full(x.size, pull), reach)
    blocks = BeamBlocks(np.array([half]), np.array([1e-9]), np.array([N * 1e9]), np.array([EI]))
    return CondensedPlate(SHEET, ((seat, blocks),), np.array([2e-9]))


def test_a_long_beam_lifts_as_the_closed_form_of_a_constant_pull_says() -> None:
    """M²/(2 p EI) per unit width, the lifted end being sqrt(2 M/p) long, where the pull hardly falls with the gap."""
    M, EI, pull = 20.0, 2000.0, 1.2e4
    gaps, kept = one_beam(pull, 1.0, 0.4, M / 1.12, EI).run(1.0)
    assert gaps[-1] == pytest.approx(M**2 / (2.0 * pull * EI), rel=0.06)
    assert kept[-1] > 0.99


def test_a_long_beam_comes_off_where_its_energy_is_the_magnets_work() -> None:
    """Peeling needs M²/(2 EI) of pull times reach: below it stays, above it runs away."""
    EI, pull, reach = 2000.0, 1.2e4, 1e-3
    fold = math.sqrt(2.0 * EI * pull * reach)
    below, above = (one_beam(pull, reach, 0.6, f * fold / 1.12, EI).run(1.0) for f in (0.75, 1.3))
    assert below[0][-1] < 2.0 * reach
    assert above[0][-1] > 5.0 * below[0][-1]
    assert above[1][-1] < below[1][-1]


def resting(seat: BeamSeat, load: Floats, beams: Floats) -> Floats:
    """Where the beam of a seat comes to rest from its flat state, by the plainest turns there are: the magnet's pull over its way,
    until nothing moves."""
    n, w = seat.x.size, np.zeros(load.size)
    for _ in range(20_000):
        held = np.zeros(n)
        for i in range(n):
            gap = w[2 * i] - seat.pull[i] / SEAT
            held[i] = SEAT if gap <= 0.0 else seat.pull[i] * math.exp(-gap / seat.reach) / w[2 * i]
        K = beams.copy()
        K[::2, 3] += (held + 50.0) * seat.area + seat.clips * (w[::2] > 0.0)
        K[1, 3] += 1e6 * K[1, 3]
        now = load.copy()
        beam_solve(K, now)
        moved, w = np.abs(now - w).max(), now
        if moved < 1e-13:
            break
    return w


@pytest.mark.parametrize("share", [0.3, 0.6, 0.8, 0.9, 0.95, 1.3])
def test_a_beam_rests_where_the_plainest_turns_lead_on_both_sides_of_the_fold(share: float) -> None:
    EI, pull, reach = 2000.0, 1.2e4, 1e-3
    M = share * math.sqrt(2.0 * EI * pull * reach)
    seat, blocks = one_beam(pull, reach, 0.6, M / 1.12, EI).beams[0]
    _, _, there = _lift_beam(seat, blocks, 1.12, 1)
    beams = np.empty((2 * seat.x.size, 4))
    _band(np.full(seat.x.size - 1, EI + 1e-6), seat.x, beams)
    load = np.zeros(2 * seat.x.size)  # what a constant moment leaves of the sums over its elements: a pair at both ends
    load[1], load[-1] = -M, M
    expected = resting(seat, load, beams)[::2]
    assert np.abs(there - expected).max() < 2e-3 * expected.max()
    assert (expected.max() > 20.0 * reach) == (share > 1.0)  # which is what comes off


def some(hold: SheetHold, strain: float = 1e-3, **more: object) -> PlateLift:
    one = np.ones(10)
    half = (0.08 * one, 0.04 * one)
    width = (0.08 * one, 0.16 * one)
    middle = more.get("middle", (0.0, 0.0))
    plate = condensed(
        hold, half, np.linspace(0.0, 0.02, 11), width, 1e9 * one, 1e9 * strain * one, (1.1, 1.4), middle  # type: ignore[arg-type]
    )  # fmt: skip
    return plate_lift(plate, 5e-4)


def test_what_it_stands_is_a_ratio_of_forces_and_consistent_with_the_gap() -> None:
    weak, strong = some(SHEET, 4e-4), some(SHEET, 1.6e-3)
    assert weak.stands == pytest.approx(4.0 * strong.stands, rel=0.12)
    assert strong.gap > weak.gap
    for found in (weak, strong):
        assert (found.stands > 1.0) is (found.gap < 5e-4 and not found.off)


def test_a_stronger_magnet_a_thicker_sheet_and_clips_beside_the_part_hold_better() -> None:
    base = some(SHEET)
    assert some(replace(SHEET, pull=2.4e4)).stands > base.stands
    assert some(replace(SHEET, stiffness=8.0 * SHEET.stiffness)).stands > base.stands
    beside = tuple((sx * 0.07, sy * 0.05) for sx in (-1.0, 1.0) for sy in (-1.0, 1.0))
    far = tuple((sx * 0.13, sy * 0.165) for sx in (-1.0, 1.0) for sy in (-1.0, 1.0))
    beside_it, at_edge = (some(replace(SHEET, clips=c)).stands for c in (beside, far))
    assert beside_it > 1.05 * base.stands
    assert base.stands <= at_edge < beside_it


def test_a_magnet_that_reaches_farther_keeps_what_a_short_one_loses() -> None:
    short, long = (some(replace(SHEET, reach=r), 2.2e-3) for r in (2e-4, 3e-3))
    assert short.off
    assert not long.off


def test_a_part_near_the_edge_of_its_plate_is_held_less() -> None:
    seats = [beam_seat(SHEET, 0, 0.05, 0.08, (x, 0.0)) for x in (0.0, 0.1)]
    assert seats[0].x[-1] > seats[1].x[-1]


@pytest.mark.parametrize("part", ["oar-rack", "lamp-box"])
def test_it_follows_the_full_simulation(part: str) -> None:
    bundle = with_part(part)
    quick = evaluated(bundle).plate
    full = simulated(bundle, "draft", "all")
    assert quick is not None
    gap = float(full.plate_lift.max())
    assert (quick.gap > bundle.project.criteria.lift_limit) is (gap > bundle.project.criteria.lift_limit)
    if gap > 3e-4:
        assert 1.0 / 2.0 < quick.gap / gap < 2.0
    assert quick.off is full.plate_off


def test_warmer_air_lets_the_plate_lie() -> None:
    cold = evaluated(with_part("oar-rack", chamber=300.0)).plate
    warm = evaluated(with_part("oar-rack", chamber=343.0)).plate
    assert cold is not None
    assert warm is not None
    assert warm.stands > cold.stands
    assert warm.gap < cold.gap


def test_where_nothing_lies_loose_there_is_no_plate_to_lift() -> None:
    layers = tuple(x.model_copy(update={"bonded": True}) for x in sample("boathouse").project.rig.bed.layers)
    e = evaluated(with_part(bed={"layers": layers}))
    assert e.plate is None
    assert "loose_plate" not in e.judgement.found
    assert asked(new_bundle(), EVALUATION).plate is None


def test_a_plate_has_its_own_outline_and_magnet_and_clips_go_together() -> None:
    bed = sample("boathouse").project.rig.bed
    assert hold_of(bed).clips == ()  # type: ignore[union-attr]
    layers = tuple(
        x.model_copy(update={"outline": Outline(width=0.2, depth=0.15, x=0.02)}) if i == 1 else x
        for i, x in enumerate(bed.layers)
    )
    own = hold_of(bed.model_copy(update={"layers": layers}))
    assert own is not None
    assert own.half == (0.1, 0.075)
    assert own.middle == (0.02, 0.0)
    both = hold_of(bed.model_copy(update={"clips": "beside the part"}), Foot((0.01, 0.0), (0.05, 0.03)))
    assert both is not None
    assert both.pull > 0.0
    assert len(both.clips) == 4
    assert max(abs(y) for _, y in both.clips) < 0.05
    assert both.keeper == "magnet and clips"


def test_a_post_that_is_printed_hot_lets_its_sheet_lie_as_in_full(tmp_path: Path) -> None:
    """Its layers are soft as long as they are hot, and stiff by the time they contract: never softer than the stress that they
    keep over what they contract, or a post of relaxed rubber would draw its sheet up by a millimetre."""
    mesh = tmp_path / "post.stl"
    trimesh.creation.box(extents=(42.0, 38.0, 170.0)).export(mesh)
    machine = {"kind": "closed", "width": 0.25, "depth": 0.25}
    study = mandorla.begin(machine, "petg", mesh).with_values({"settings.fan": 0.0})
    e = study.evaluation()
    assert e.plate is not None
    limit = study.project.criteria.lift_limit
    assert e.plate.gap < 0.3 * limit
    assert float(study.full_run().plate_lift.max()) < 0.3 * limit
    assert e.judgement.found["loose_plate"].probability < 0.1
