"""A machine from a few facts, a project to begin with, and the command that does both."""

from __future__ import annotations

from pathlib import Path

import pytest

from mandorla.cli import run
from mandorla.cli.new import NewOutput, sizes
from mandorla.core.errors import InputError
from mandorla.core.failure.state import State
from mandorla.core.failure.ways.soft_feed import FEED_GOOD
from mandorla.core.materials.plate_library import plate_surfaces
from mandorla.core.project.begin import begun_project
from mandorla.core.project.facts import facts_of, unstated
from mandorla.core.project.own_machines import keep, kept, load
from mandorla.core.project.paths import get_value
from mandorla.core.project.store import read_bundle
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.rig.archetypes import ARCHETYPES, USUAL, Facts, Kind, assumptions, machine_of
from mandorla.core.thermal.fuse_choice import fuse_range
from mandorla.core.units import celsius, show
from tests.core.solids import block, stl

CASES: dict[Kind, tuple[dict[str, object], str]] = {
    "open": ({"width": 0.22, "depth": 0.22, "plate": 0.003, "surface": "bare_glass", "bed_max": celsius(100.0)}, "pla"),
    "closed": ({"width": 0.35, "depth": 0.35, "chamber_heater": 400.0}, "petg"),
    "hot": (
        {"width": 0.4, "depth": 0.4, "plate": 0.01, "bed_max": celsius(180.0), "chamber_heater": 2500.0, "heater": 1500.0,
         "chamber_max": celsius(120.0), "surface": "polyetherimide_smooth"}, "pc",
    ),
}  # fmt: skip


@pytest.mark.parametrize("kind", ARCHETYPES)
def test_a_described_machine_warms_up_and_fails_no_rating(kind: Kind) -> None:
    values, polymer = CASES[kind]
    facts = facts_of({"kind": kind, **values})
    bundle = begun_project(facts, polymer, ("block.stl", stl(block(60.0, 40.0, 20.0)), 0.001))
    e = Results(bundle).get(keys.EVALUATION)
    rig = bundle.project.rig
    assert (rig.bed.width, rig.bed.depth) == (facts.width, facts.depth)
    assert rig.chamber.enclosed == (kind != "open")
    assert rig.heats_chamber == (facts.chamber_heater > 0.0)
    assert 120.0 < e.ready_time < 7200.0
    assert e.judgement.limit_state.value != "fails", [c.name for c in e.limits if c.state.value == "fails"]
    assert e.warp is not None
    assert rig.bed.fuses
    assert all(fuse.rating > bundle.project.settings.bed_first for fuse in rig.bed.fuses)


@pytest.mark.parametrize("kind", ARCHETYPES)
def test_everything_that_is_assumed_is_said_where_it_stands(kind: Kind) -> None:
    values, polymer = CASES[kind]
    facts = facts_of({"kind": kind, **values})
    project = begun_project(facts, polymer).project
    found = assumptions(facts, machine_of(facts))
    for a in found:
        get_value(project, a.path)  # raises where there is no such place
    said = " ".join(a.what for a in found)
    assert ("bed heater" in said) == (facts.heater == 0.0)
    assert "fuse" in said


@pytest.mark.parametrize("size", [(0.25, 0.22), (0.32, 0.28), (0.35, 0.35)])
def test_the_fuses_of_a_described_machine_pass_its_own_check_wherever_a_rating_does(size: tuple[float, float]) -> None:
    """What a fuse feels is the mean of its layer, and what is damaged first is the bed's middle: both are told apart."""
    bundle = begun_project(facts_of({"kind": "closed", "width": size[0], "depth": size[1]}), "abs")
    p = bundle.project
    results = Results(bundle)
    said = next(c for c in results.get(keys.RIG_CHECKS) if c.key == "fuses")
    heat = results.get(keys.EVALUATION).heat
    fits = fuse_range(p.rig, p.settings, p.criteria, heat, p.rig.bed.heater.layer)
    assert (said.state is State.HOLDS) == fits.possible, said.finding
    assert ("opens too late" in said.finding) != fits.possible


def test_facts_that_make_no_machine_are_refused() -> None:
    with pytest.raises(InputError, match="machine"):
        facts_of({"width": 0.5, "chamber_width": 0.3})
    with pytest.raises(InputError):
        facts_of({"surface": "lava"})
    with pytest.raises(InputError, match="not in the library"):
        begun_project(Facts(), "wood")
    missing = next(k for k, s in plate_surfaces().items() if "pp" not in s.grip)
    with pytest.raises(InputError, match="is not known; it is on:"):
        begun_project(Facts(surface=missing), "pp")


def test_set_points_follow_polymer_and_machine() -> None:
    cold = begun_project(Facts(kind="closed", bed_max=celsius(70.0)), "abs").project.settings
    assert cold.bed_first == celsius(70.0)
    pla = begun_project(Facts(kind="open", surface="bare_glass"), "pla").project.settings
    assert pla.fan == 1.0
    fans = {p: begun_project(Facts(kind="closed"), p).project.settings.fan for p in ("petg", "pctg", "abs", "pa12")}
    assert fans == {"petg": 0.3, "pctg": 0.3, "abs": 0.0, "pa12": 0.0}
    hot = begun_project(facts_of({"kind": "hot", **CASES["hot"][0]}), "pc").project
    assert hot.rig.room_temperature < hot.settings.chamber <= celsius(120.0)


def test_a_chamber_is_begun_no_warmer_than_the_filament_in_the_feed_stands() -> None:
    hot = facts_of({"kind": "hot", "width": 0.32, "depth": 0.32, "chamber_max": celsius(160.0)})
    for polymer in ("pa12", "pla", "abs", "pc"):
        bundle = begun_project(hot, polymer)
        assert bundle.project.settings.chamber <= max(
            bundle.project.process.material().softening_temperature - FEED_GOOD, hot.room
        )


@pytest.mark.parametrize("kind", ["open", "closed", "hot"])
def test_what_is_not_stated_is_usual_for_the_kind_and_said(kind: Kind) -> None:
    facts = facts_of({"kind": kind, "plate": 0.007})
    assert facts.plate == 0.007
    assert {"width": facts.width, "surface": facts.surface}.items() <= dict(USUAL[kind]).items()
    said = unstated(facts, {"plate": 0.007, "width": facts.width, "depth": facts.depth})
    assert len(said) == len(set(USUAL[kind]) - {"plate", "width", "depth", "surface"})
    project = begun_project(facts, "petg").project
    for a in said:  # each says where in the project it stands, and what stands there
        assert show(get_value(project, a.path), "temperature" if a.path.endswith("_max") else "power") in a.what
    top = machine_of(facts).bed.layers
    glass = [layer for layer in top if layer.material == "borosilicate_glass"]
    assert bool(glass) is (kind == "open"), "what the name of the kind promises"


def test_what_moves_the_surface_most_comes_first() -> None:
    results = Results(begun_project(Facts(), "petg"))
    found = results.get(keys.FIRST_TO_MEASURE)
    assert [m.moves for m in found] == sorted((m.moves for m in found), reverse=True)
    assert found[0].key == "sensor"
    assert 1.5 < found[0].moves < 6.0
    band = results.get(keys.EVALUATION).heat.bands["surface"]
    together = sum(m.moves**2 for m in found) ** 0.5
    assert 0.5 * (band.high - band.low) == pytest.approx(together, rel=0.05)


def test_sizes_are_read_as_people_write_them() -> None:
    assert sizes("350x300mm", 2, "--bed") == pytest.approx([0.35, 0.3])
    assert sizes("0.35 × 0.3 m", 2, "--bed") == pytest.approx([0.35, 0.3])
    assert sizes("500x500x600", 3, "--chamber") == pytest.approx([0.5, 0.5, 0.6])
    for wrong in ("350", "350x", "a x b", "1x2x3x4"):
        with pytest.raises(InputError, match="write W"):
            sizes(wrong, 2, "--bed")


def test_the_command_writes_a_project_with_its_first_answer(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    part, out = tmp_path / "block.stl", tmp_path / "new.mandorla"
    part.write_bytes(stl(block(80.0, 50.0, 20.0)))
    call = ["new", "--bed", "350x350mm", "--heater", "900W", "--part", str(part), "--polymer", "abs",
            "--surface", "polyetherimide_smooth", "--no-check", "-o", str(out)]  # fmt: skip
    assert run([*call, "--json"]) == 0
    answer = NewOutput.model_validate_json(capsys.readouterr().out)
    assert answer.measure_first[0].moves > 1.0
    assert answer.sentence
    assert "aluminium plate, thickness 6.00 mm" in {a.what for a in answer.assumed}
    bundle = read_bundle(out)
    assert bundle.project.rig.bed.heater.power == 900.0
    assert bundle.project.name == "block"
    assert run(call) == 0
    assert "measure first: sensor" in capsys.readouterr().out
    assert run(["new", "--bed", "350", "-o", str(out)]) == 2
    assert run(["new", "--bed", "350x350mm", "--part", str(tmp_path / "none.stl"), "-o", str(out)]) == 2
    assert "cannot be read" in capsys.readouterr().err


def test_a_machine_is_kept_and_begun_with_again(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("MANDORLA_HOME", str(tmp_path))
    rig = begun_project(Facts(name="Loft / 300"), "petg").project.rig
    path = keep(rig)
    assert kept() == [path]
    again = begun_project(load(path), "abs", surface_key="polyetherimide_smooth").project
    assert again.rig == rig
    assert again.process.surface == "polyetherimide_smooth"
    keep(rig.model_copy(update={"room_temperature": 290.0}))
    assert load(kept()[0]).room_temperature == 290.0
    for text in ("{", "[" * 100_000, '{"name": 3}'):
        path.write_text(text)
        with pytest.raises(InputError):
            load(path)
    with pytest.raises(InputError, match="cannot be read"):
        load(tmp_path / "none.json")
