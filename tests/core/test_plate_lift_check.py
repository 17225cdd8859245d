"""The loose plate at a glance: against a finer run, in words and states, and where there is nothing to look at."""

from __future__ import annotations

import json

import numpy as np
import pytest

from mandorla.cli import run
from mandorla.core.failure.state import State
from mandorla.core.part.mesh import Mesh
from mandorla.core.project.full_warp import simulate_bundle
from mandorla.core.project.samples import sample, sample_part
from mandorla.core.project.session import evaluate_bundle, geometry_of
from mandorla.core.project.store import Bundle, write_bundle
from mandorla.core.runtime import Cancelled, RunContext
from mandorla.core.warp.compensate import stl_bytes
from mandorla.core.warp.plate_lift_check import WITHIN, PlateLiftCheck, check_plate_lift, plate_answer, plate_sentence
from tests.core.bodies import box


def case(part: str = "", **rig: object):  # type: ignore[no-untyped-def]
    """A part on the boathouse's bed with its geometry and evaluation."""
    base = sample("boathouse")
    bundle = base
    if part:
        source, files = sample_part(part)
        bundle = Bundle(base.project.model_copy(update={"part": source}), {**base.originals, **files})
    if rig:
        bed = bundle.project.rig.bed.model_copy(update=rig)
        project = bundle.project.model_copy(update={"rig": bundle.project.rig.model_copy(update={"bed": bed})})
        bundle = Bundle(project, bundle.originals)
    geometry = geometry_of(bundle)
    return bundle, geometry, evaluate_bundle(bundle, geometry, with_bands=False)


@pytest.mark.parametrize("part", ["oar-rack", "lamp-box"])
def test_a_glance_agrees_with_a_finer_run(part: str) -> None:
    bundle, geometry, e = case(part)
    look = check_plate_lift(bundle, geometry, e)
    assert look is not None
    finer = simulate_bundle(bundle, geometry, e, "draft", together=True)
    assert look.boxes < finer.voxels.count
    assert 1.0 / WITHIN < look.gap / finer.plate_lift.max() < WITHIN
    assert look.off == ("plate" in finer.stopped)
    assert look.name == "Flex sheet"
    assert look.keeper == "magnet"


def test_warmer_air_lets_the_plate_lie() -> None:
    bundle, geometry, e = case("oar-rack")
    cold = check_plate_lift(bundle, geometry, e)
    settings = bundle.project.settings.model_copy(update={"chamber": 273.15 + 70.0})
    warm_bundle = Bundle(bundle.project.model_copy(update={"settings": settings}), bundle.originals)
    warm = check_plate_lift(warm_bundle, geometry, evaluate_bundle(warm_bundle, geometry, with_bands=False))
    assert cold is not None
    assert warm is not None
    assert warm.gap < 0.6 * cold.gap
    assert warm.height >= cold.height


def test_nothing_loose_and_no_part_are_nothing_to_look_at() -> None:
    bundle, geometry, e = case()
    bonded = tuple(layer.model_copy(update={"bonded": True}) for layer in bundle.project.rig.bed.layers)
    fixed, geometry, e = case(layers=bonded)
    assert check_plate_lift(fixed, geometry, e) is None
    bundle, geometry, e = case()
    assert check_plate_lift(bundle, None, e) is None


def test_a_glance_stops_when_asked() -> None:
    bundle, geometry, e = case()
    asked = RunContext()
    asked.cancel()
    with pytest.raises(Cancelled):
        check_plate_lift(bundle, geometry, e, asked)


def test_words_and_states() -> None:
    def look(gap: float, *, off: bool = False, bodies: int = 1) -> PlateLiftCheck:
        return PlateLiftCheck(gap, 0.006, off, "Flex sheet", "magnet", bodies, 2000)

    assert look(1e-4).state(5e-4) is State.HOLDS
    assert look(5e-4).state(5e-4) is State.MARGINAL
    assert look(1.2e-3).state(5e-4) is State.FAILS
    assert look(3e-4, off=True).state(5e-4) is State.FAILS
    assert plate_sentence(look(1e-4)) == ""
    assert "the part pulls Flex sheet off its magnet by 2.0 mm, beginning at 6 mm" in plate_sentence(look(2e-3))
    assert "the 3 bodies together pull Flex sheet off its magnet, beginning" in plate_sentence(
        look(2e-3, off=True, bodies=3)
    )
    answer = plate_answer(look(1e-4), 5e-4)
    assert answer["status"] == "holds"
    assert answer["sentence"] == "Flex sheet stays on its magnet."
    assert answer["gap"] == {"value": 1e-4, "unit": "m"}


def test_a_foot_too_small_for_a_glance_is_said_to_be_unknown() -> None:
    """A slab on four pins: no box of the lowest layer is full."""
    bundle, _, _ = case()
    pieces = [box(0.1, 0.1, 0.03)] + [box(0.002, 0.002, 0.02, at=(x, y)) for x in (-0.04, 0.04) for y in (-0.04, 0.04)]
    vertices = [v + np.array([0.0, 0.0, 0.015 if k == 0 else 0.0]) for k, (v, _) in enumerate(pieces)]
    faces = [f + 8 * k for k, (_, f) in enumerate(pieces)]
    mesh = Mesh(np.concatenate(vertices), np.concatenate(faces), ())
    source = bundle.project.part.model_copy(update={"file": "pins.stl", "gcode": ""})
    pins = Bundle(bundle.project.model_copy(update={"part": source}), {**bundle.originals, "pins.stl": stl_bytes(mesh)})
    geometry = geometry_of(pins)
    e = evaluate_bundle(pins, geometry, with_bands=False)
    look = check_plate_lift(pins, geometry, e)
    assert look is not None
    assert not look.known
    assert look.state(5e-4) is State.NOT_COMPUTED
    assert "only a finer full simulation tells" in plate_sentence(look)
    assert plate_answer(look, 5e-4)["status"] == State.NOT_COMPUTED.value


def test_the_command_line_tells_it(tmp_path, capsys: pytest.CaptureFixture[str]) -> None:  # type: ignore[no-untyped-def]
    bundle, geometry, e = case("lamp-box")
    path = tmp_path / "lamp.mandorla"
    write_bundle(path, bundle)
    assert run(["warp", str(path), "--json"]) == 0
    told = json.loads(capsys.readouterr().out)["plate"]
    look = check_plate_lift(bundle, geometry, e)
    assert look is not None
    assert told["gap"]["value"] == pytest.approx(look.gap, rel=1e-6)
    assert run(["warp", str(path)]) == 0
    assert "stays on its magnet" in capsys.readouterr().out
