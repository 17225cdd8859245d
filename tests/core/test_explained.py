"""Where figures come from: every card is whole, and its uncertainties are found again by evaluating anew."""

from __future__ import annotations

import json
import math
import random
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from mandorla.cli import run
from mandorla.core.errors import InputError
from mandorla.core.failure.messages import lift_figure
from mandorla.core.failure.parts import ADDING, secant
from mandorla.core.failure.registry import chance_of_any, ways_to_fail
from mandorla.core.project.paths import get_value
from mandorla.core.project.store import Bundle, write_bundle
from mandorla.core.results import keys
from mandorla.core.results.explained import READ, Card, Moved
from mandorla.core.results.explained_words import card_text, figure_text
from mandorla.core.results.figures import WAY, figure_meanings, key_of_way, meaning_of_figure
from mandorla.core.results.results import Results
from mandorla.core.rig.fitted import Fitted, FittedValue
from mandorla.core.thermal.parameter_samples import rig_of, rig_unknowns, typical_sample
from mandorla.core.units import KINDS, METRIC
from mandorla.core.warp.estimate import estimate_warp
from mandorla.core.warp.unknowns import MODEL, Z90, moved
from tests.core.bundles import small_bundle

ROOT = Path(__file__).resolve().parents[2]
HEADINGS = [
    line[3:]
    for line in (ROOT / "docs" / "theory.md").read_text(encoding="utf-8").splitlines()
    if line.startswith("## ")
]


@pytest.fixture(scope="module")
def results() -> Results:
    return Results(small_bundle())


def card_of(results: Results, key: str) -> Card:
    return results.get(keys.EXPLAINED.of(figure=key))


@pytest.mark.parametrize("key", sorted(figure_meanings()))
def test_what_a_figure_is_stands_whole(key: str, results: Results) -> None:
    meaning = figure_meanings()[key]
    assert any(h.startswith(meaning.theory) for h in HEADINGS), f"no such heading in the theory: {meaning.theory}"
    assert "." not in key or meaning.near in READ, "a view names the computed figure that is nearest"
    assert "." in key or (key in READ and (meaning.kind in KINDS or meaning.kind in ("chance", "margin", "lift")))
    for path in meaning.inputs:
        if not path.startswith("library:"):
            get_value(results.bundle.project, path)
    card = card_of(results, key)
    text = card_text(card, METRIC, "€")
    assert meaning.what in text
    assert meaning.measure in text
    assert "nan" not in text.lower()
    assert len(card.inputs) > 0
    assert all(row.source for row in card.inputs)
    assert len(card.uncertain) <= 3
    assert all(a.by >= b.by for a, b in zip(card.uncertain, card.uncertain[1:], strict=False))


def test_every_way_to_fail_has_a_card(results: Results) -> None:
    judgement = results.get(keys.JUDGEMENT)
    for way in ways_to_fail():
        meaning_of_figure(key_of_way(way.key))
        if way.key in judgement.found and key_of_way(way.key).startswith(WAY):
            card = card_of(results, key_of_way(way.key))
            assert way.title.lower() in card.meaning.title.lower()
    with pytest.raises(InputError, match="There is no figure"):
        meaning_of_figure("nothing")
    with pytest.raises(InputError, match="does not apply here"):
        card_of(results, f"{WAY}nothing")


def test_uncertainties_of_twenty_cards_are_found_again(results: Results) -> None:
    """Each end of each of the three is evaluated anew, by another route: the project with that one thing changed."""
    rng = random.Random(19)
    heat = [
        k for k in READ if k not in {"anything", "hold_margin", "lift", "crack_index", "plate_lift", "energy", "cost"}
    ]
    chosen = [rng.choice([*heat, "hold_margin", "lift", "crack_index", "anything", "energy"]) for _ in range(20)]
    checked = 0
    for key in chosen:
        for m in card_of(results, key).uncertain:
            for found, z in ((m.low, -1.0), (m.high, 1.0)):
                assert found == pytest.approx(_anew(results, key, m, z), rel=1e-6, abs=1e-9), (key, m.name, z)
                checked += 1
    assert checked > 60


def _anew(results: Results, key: str, m: Moved, z: float) -> float:
    """A figure with an unknown at one end of its range, evaluated from the project."""
    e, bundle = results.get(keys.EVALUATION), results.bundle
    j = e.judgement
    ways = {"hold_margin": ("adhesion", 1.0, "margin"), "crack_index": ("cracks", -1.0, "crack")}
    if key in ways or key == "lift":
        assert e.part is not None
        assert e.conditions is not None
        assert e.warp is not None
        released = abs(e.warp.released_lift) > e.warp.printed_lift
        way, sign, figure = ways.get(key, ("flatness", -1.0, "released" if released else "lift"))
        margin = j.assessed[way].margin
        if m.name == MODEL:
            by = next(v for n, v in j.assessed[way].parts.items() if n.startswith(MODEL))
        elif m.name not in e.warp.spreads[figure] or figure == "crack":
            by = j.assessed[way].parts[m.name]
        else:
            other = estimate_warp(*moved(e.part, e.conditions, {m.name: 1.0}), with_bands=False)
            read = {
                "margin": lambda w: w.margin, "lift": lambda w: w.printed_lift, "released": lambda w: abs(w.released_lift),
            }[figure]  # fmt: skip
            by = sign * (math.log(read(other)) - math.log(read(e.warp)))
            by = float(secant(np.asarray(by), np.asarray(margin))) if m.name in ADDING else by
        scale = e.lift_limit if key == "lift" else 1.0
        return scale * math.exp(sign * (margin + z * Z90 * by))
    if key == "anything":
        held = {}
        for k, a in j.counted.items():
            mine = [n for n in a.parts if n == m.name or (m.name == MODEL and n.startswith(MODEL))]
            if m.name == MODEL:  # one of several of that name: the one that moves it as far
                return m.low if z < 0 else m.high
            rest = {n: v for n, v in a.parts.items() if n not in mine}
            margin = a.margin + z * Z90 * sum(a.parts[n] for n in mine)
            held[k] = replace(a, margin=margin, parts=rest or ({"nothing": 1e-9} if a.parts else {}))
        return chance_of_any(held)
    if key == "energy":
        assert e.energy is not None
        names = {u.key: u.name for u in rig_unknowns(bundle.project.rig)} | dict(e.energy.names)
        down, up = e.energy.effects[next(k for k in e.energy.effects if names.get(k, k.replace("_", " ")) == m.name)]
        return e.energy.total + (down if z < 0 else up)
    rig = bundle.project.rig
    draw = typical_sample(rig)
    next(u for u in rig_unknowns(rig) if u.name == m.name).apply(draw, z)
    changed = Bundle(bundle.project.model_copy(update={"rig": rig_of(rig, draw)}), bundle.originals)
    other = Results(changed).get(keys.EVALUATION)
    return READ[key](other, other.judgement)


def test_a_fitted_rig_is_less_uncertain(results: Results) -> None:
    rig = results.bundle.project.rig
    unknown = max(rig_unknowns(rig), key=lambda u: u.key == "sensor")
    value = FittedValue(key=unknown.key, name=unknown.name, before="2 K", after="0.2 K", share=0.1)
    fitted = Fitted(date="2026-03-01", logs=("one",), base="x", values=(value,), covariance=((0.01,),))
    narrow = Results(
        Bundle(results.bundle.project.model_copy(update={"rig": rig.model_copy(update={"fitted": fitted})}),
               results.bundle.originals)
    )  # fmt: skip
    wide = results.get(keys.SENSITIVITIES).unknowns["surface"]
    less = narrow.get(keys.SENSITIVITIES).unknowns["surface"]
    before, after = (next(m for m in rows if m.name == unknown.name).by for rows in (wide, less))
    assert after == pytest.approx(0.1 * before, rel=0.02)


def test_the_command_explains_in_words_and_as_json(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], results: Results
) -> None:
    path = tmp_path / "p.mandorla"
    write_bundle(path, results.bundle)
    assert run(["explain", str(path), "surface", "--no-check"]) == 0
    text = capsys.readouterr().out
    assert "Least known" in text
    assert "Sensor, bias and place" in text
    assert run(["explain", str(path), "surface", "--no-check", "--json"]) == 0
    found = json.loads(capsys.readouterr().out)
    e = results.get(keys.EVALUATION)
    assert found["value"] == pytest.approx(e.heat.steady.surface)
    assert found["unit"] == "K"
    assert len(found["least_known"]) == 3
    assert run(["explain", str(path), "no-such", "--no-check"]) == 2
    assert "one of" in capsys.readouterr().err
    assert run(["explain", str(path), "--json"]) == 2
    assert json.loads(capsys.readouterr().out)["status"] == "error"
    assert run(["explain", str(path)]) == 0
    assert "hold_margin" in capsys.readouterr().out


def test_a_card_under_a_full_simulation_speaks_of_it(results: Results) -> None:
    """Levers are put upon the full simulation's figure, not told beside another one."""
    results.get(keys.FULL_RUN.of(resolution="draft", bodies="all"))
    card = results.get(keys.EXPLAINED.of(figure="hold_margin", full="draft", bodies="all"))
    judged = results.get(keys.JUDGEMENT.of(full="draft", bodies="all"))
    assert card.source == "full"
    assert card.value == pytest.approx(math.exp(judged.assessed["adhesion"].margin))
    assert all(m.low == pytest.approx(card.value) for m in card.levers)
    assert not any(m.name == MODEL for m in card.uncertain)
    whole = results.get(keys.EXPLAINED.of(figure="anything", full="draft", bodies="all"))
    assert whole.source == "full"
    assert whole.value == pytest.approx(judged.anything)
    assert results.get(keys.EXPLAINED.of(figure="surface", full="draft", bodies="all")).source == "quick"


def test_a_lever_at_its_end_is_pulled_the_other_way_and_says_so() -> None:
    bundle = small_bundle()
    full = bundle.project.settings.model_copy(update={"fan": 1.0})
    card = card_of(
        Results(Bundle(bundle.project.model_copy(update={"settings": full}), bundle.originals)), "hold_margin"
    )
    fan = next(m for m in card.levers if m.name == "Part fan")
    assert fan.step < 0.0
    assert "Part fan 25 % less" in card_text(card, METRIC, "€")


def test_a_load_that_vanishes_to_one_side_doubles_at_most_to_the_other() -> None:
    """A part that adds: next to nothing is left of the load one standard deviation hotter, so that colder there is twice as much;
    a limit that is e^8 away is out of reach."""
    assert float(secant(np.asarray(8.65), np.asarray(8.11))) == pytest.approx(8.11 / np.expm1(8.11))
    assert float(secant(np.asarray(-8.65), np.asarray(8.11))) == pytest.approx(
        -8.65
    )  # it grows that much: the limit is passed
    assert float(secant(np.asarray(0.3), np.asarray(0.01))) == pytest.approx(0.3)


def test_a_lift_below_what_counts_as_one_is_told_so_everywhere() -> None:
    """The judgement counts none below three hundredths of a millimetre: 0.03 mm beside a full run's 0.01 would be two lifts."""
    assert lift_figure(1e-5) == lift_figure(3e-5) == "under 0.03 mm"
    assert lift_figure(4e-5) == "0.04 mm"
    assert lift_figure(0.5) == "detached"
    assert figure_text(1e-5, "lift", METRIC, "€") == "under 0.03 mm"
