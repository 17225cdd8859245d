"""The loose plate at a glance: against a finer run, in words and states, and where there is nothing to look at."""

from __future__ import annotations

import json

import numpy as np
import pytest

from mandorla.cli import run
from mandorla.cli.warp_answers import plate_answer
from mandorla.core.failure.messages import plate_sentence
from mandorla.core.failure.registry import Judgement, NotKnown
from mandorla.core.failure.state import State
from mandorla.core.part.mesh import Mesh
from mandorla.core.project.samples import new_bundle, sample, sample_part
from mandorla.core.project.store import Bundle, write_bundle
from mandorla.core.results.keys import JUDGEMENT, PLATE_LIFT
from mandorla.core.results.results import Results
from mandorla.core.runtime import Cancelled, RunContext
from mandorla.core.tune.operating_point import with_plate
from mandorla.core.units import METRIC
from mandorla.core.warp.compensate import stl_bytes
from mandorla.core.warp.plate_lift_check import WITHIN, PlateLiftCheck
from tests.core.asked import asked, evaluated, simulated
from tests.core.bodies import box


def case(part: str = "", **rig: object):  # type: ignore[no-untyped-def]
    """A part on the boathouse's bed."""
    base = sample("boathouse")
    bundle = base
    if part:
        source, files = sample_part(part)
        bundle = Bundle(base.project.model_copy(update={"part": source}), {**base.originals, **files})
    if rig:
        bed = bundle.project.rig.bed.model_copy(update=rig)
        project = bundle.project.model_copy(update={"rig": bundle.project.rig.model_copy(update={"bed": bed})})
        bundle = Bundle(project, bundle.originals)
    return bundle


@pytest.mark.parametrize("part", ["oar-rack", "lamp-box"])
def test_a_glance_agrees_with_a_finer_run(part: str) -> None:
    bundle = case(part)
    look = asked(bundle, PLATE_LIFT)
    assert look is not None
    finer = simulated(bundle, "draft", "all")
    assert look.boxes < finer.voxels.count
    assert 1.0 / WITHIN < look.gap / finer.plate_lift.max() < WITHIN
    assert look.off == ("plate" in finer.stopped)
    assert look.name == "Flex sheet"
    assert look.keeper == "magnet"


def test_warmer_air_lets_the_plate_lie() -> None:
    bundle = case("oar-rack")
    cold = asked(bundle, PLATE_LIFT)
    settings = bundle.project.settings.model_copy(update={"chamber": 273.15 + 70.0})
    warm_bundle = Bundle(bundle.project.model_copy(update={"settings": settings}), bundle.originals)
    warm = asked(warm_bundle, PLATE_LIFT)
    assert cold is not None
    assert warm is not None
    assert warm.gap < 0.6 * cold.gap
    assert warm.height >= cold.height


def test_nothing_loose_and_no_part_are_nothing_to_look_at() -> None:
    bundle = case()
    bonded = tuple(layer.model_copy(update={"bonded": True}) for layer in bundle.project.rig.bed.layers)
    fixed = case(layers=bonded)
    assert asked(fixed, PLATE_LIFT) is None
    assert asked(new_bundle(), PLATE_LIFT) is None


def test_a_glance_stops_when_asked() -> None:
    bundle = case()
    stop = RunContext()
    stop.cancel()
    with pytest.raises(Cancelled):
        Results(bundle).get(PLATE_LIFT, stop)


def test_words_and_states() -> None:
    def look(gap: float, *, off: bool = False, bodies: int = 1) -> PlateLiftCheck:
        return PlateLiftCheck(gap, 0.006, off, "Flex sheet", "magnet", bodies, 2000)

    bundle = case()
    p, e = bundle.project, evaluated(bundle)
    p = p.model_copy(update={"criteria": p.criteria.model_copy(update={"lift_limit": 5e-4})})

    def judged(plate: PlateLiftCheck) -> Judgement:
        return with_plate(e, p.rig, p.settings, p.criteria, plate)

    assert judged(look(1e-4)).state("loose_plate") is State.HOLDS
    assert judged(look(5e-4)).state("loose_plate") is State.MARGINAL
    assert judged(look(1.2e-3)).state("loose_plate") is State.FAILS
    assert judged(look(3e-4, off=True)).state("loose_plate") is State.FAILS
    assert plate_sentence(look(1e-4)) == ""
    assert "the part pulls Flex sheet off its magnet by 2.0 mm, from 6 mm of height on" in plate_sentence(look(2e-3))
    assert "the 3 bodies together pull Flex sheet off its magnet, from 6 mm" in plate_sentence(
        look(2e-3, off=True, bodies=3)
    )
    answer = plate_answer(look(1e-4), judged(look(1e-4)), METRIC)
    assert answer["status"] == "holds"
    assert answer["sentence"] == "Flex sheet stays on its magnet."
    assert answer["gap"] == {"value": 1e-4, "unit": "m"}


def test_a_foot_too_small_for_a_glance_is_said_to_be_unknown() -> None:
    """A slab on four pins: no box of the lowest layer is full."""
    bundle = case()
    pieces = [box(0.1, 0.1, 0.03)] + [box(0.002, 0.002, 0.02, at=(x, y)) for x in (-0.04, 0.04) for y in (-0.04, 0.04)]
    vertices = [v + np.array([0.0, 0.0, 0.015 if k == 0 else 0.0]) for k, (v, _) in enumerate(pieces)]
    faces = [f + 8 * k for k, (_, f) in enumerate(pieces)]
    mesh = Mesh(np.concatenate(vertices), np.concatenate(faces), ())
    source = bundle.project.part.model_copy(update={"file": "pins.stl", "gcode": ""})
    pins = Bundle(bundle.project.model_copy(update={"part": source}), {**bundle.originals, "pins.stl": stl_bytes(mesh)})
    look = asked(pins, PLATE_LIFT)
    assert look is not None
    assert not look.known
    judgement = asked(pins, JUDGEMENT)
    assert isinstance(judgement["loose_plate"], NotKnown)
    assert judgement.state("loose_plate") is State.NOT_COMPUTED
    assert "only a finer full simulation tells" in plate_sentence(look)
    assert plate_answer(look, judgement, METRIC)["status"] == State.NOT_COMPUTED.value


def test_the_command_line_tells_it(tmp_path, capsys: pytest.CaptureFixture[str]) -> None:  # type: ignore[no-untyped-def]
    bundle = case("lamp-box")
    path = tmp_path / "lamp.mandorla"
    write_bundle(path, bundle)
    assert run(["warp", str(path), "--json"]) == 0
    told = json.loads(capsys.readouterr().out)["plate"]
    look = asked(bundle, PLATE_LIFT)
    assert look is not None
    assert told["gap"]["value"] == pytest.approx(look.gap, rel=1e-6)
    assert run(["warp", str(path)]) == 0
    assert "stays on its magnet" in capsys.readouterr().out
