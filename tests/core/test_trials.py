"""Trials of film and magnet: the formulas they rest on, what they teach, and that the truth lies in what is left of the ranges."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from pydantic import ValidationError

from mandorla.cli import run
from mandorla.core.materials.library_data import joint_kinds, polymers
from mandorla.core.measure.models import Measurements
from mandorla.core.measure.trials import (
    BowReading,
    FeelerReading,
    FeelerTrial,
    PullReading,
    PullTrial,
    StripTrial,
    Trial,
)
from mandorla.core.project.samples import sample
from mandorla.core.project.store import Bundle, write_bundle
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.units import celsius
from mandorla.core.warp.learned import NOTHING, magnet_of
from mandorla.core.warp.simulated_trials import draw_trial
from mandorla.core.warp.trials import (
    PULL,
    bimetal_curvature,
    film_stress,
    learn,
    pull_forces,
    strip_bows,
    trial_shown,
    value_at,
)
from mandorla.core.warp.unknowns import (
    CREEP,
    EXPANSION,
    MAGNET,
    MOVED,
    STIFFNESS,
    STRESS_FREE,
    Z90,
    moved_polymer,
    recentred,
)

DAY = "2026-05-04"


def strip(
    polymer: str = "abs", plate: float = 100.0, temperatures: tuple[float, ...] = (100.0, 60.0, 22.0)
) -> StripTrial:
    readings = tuple(BowReading(temperature=celsius(T), bow=0.0) for T in temperatures)
    return StripTrial(key="trial-1", name="Strip", date=DAY, polymer=polymer, plate=celsius(plate), readings=readings)


def coupon(*readings: tuple[float, float]) -> PullTrial:
    return PullTrial(
        key="trial-2", name="Coupon", date=DAY, readings=tuple(PullReading(gap=g, force=f) for g, f in readings)
    )


def with_trials(bundle: Bundle, *trials: Trial) -> Bundle:
    p = bundle.project
    measured = Measurements.model_validate(p.measurements.model_dump() | {"trials": [t.model_dump() for t in trials]})
    return Bundle(p.model_copy(update={"measurements": measured}), bundle.originals)


def test_equal_strips_bend_as_in_the_book() -> None:
    # Timoshenko 1925, eq. 6: equal thicknesses, 24 misfit/(h (14 + n + 1/n)) for the total thickness h; equal moduli: 1.5 misfit/h
    for n in (0.01, 0.3, 1.0, 5.0):
        found = bimetal_curvature(1e-3, (n * 2e9, 2e9), (1e-3, 1e-3))
        assert found == pytest.approx(24e-3 / (2e-3 * (14.0 + n + 1.0 / n)))
    # a soft thin film: Stoney, 6 sigma h/(E H^2)
    thin = bimetal_curvature(1e-3, (1e8, 200e9), (1e-5, 1e-3))
    assert thin == pytest.approx(6.0 * 1e5 * 1e-5 / (200e9 * 1e-6), rel=0.02)


def test_a_strip_of_abs_bows_tenths_hot_and_many_millimetres_cold() -> None:
    bows = 1e3 * strip_bows(strip(), polymers()["abs"])
    assert 0.0 <= bows[0] < 0.5
    assert 4.0 < bows[-1] < 12.0
    assert np.all(np.diff(bows) > 0.0)
    # about a millimetre a megapascal
    solid = moved_polymer(polymers()["abs"], {STIFFNESS: 1.0})
    assert strip_bows(strip(), solid)[-1] > 1.05e-3 * bows[-1]
    assert strip_bows(strip(plate=60.0, polymer="pla", temperatures=(60.0, 22.0)), polymers()["pla"])[-1] < 6e-3


def test_a_magnet_pulls_less_over_every_shim() -> None:
    forces = pull_forces(coupon((0.0, 1.0), (0.002, 1.0)), 1.2e4, 4e-3)
    assert forces[0] == pytest.approx(1.2e4 * 0.05 * 0.05)
    assert forces[1] == pytest.approx(forces[0] * np.exp(-np.pi))


def test_the_truth_lies_in_what_is_left_of_the_ranges() -> None:
    """40 drawn machines each in a glassy and a crystalline polymer: 90 % ranges of every unknown, of the film's stress and of the
    magnet hold it as often as a binomial of 0.9 allows (99 %), and are narrower than before."""
    library = magnet_of(NOTHING)
    for polymer, plate in (("abs", 100.0), ("pa12", 90.0)):
        unknown, film, pull, left = [], [], [], []
        for seed in range(40):
            a = draw_trial("strip", polymer, celsius(plate), celsius(40.0), seed, DAY)
            b = draw_trial("pull", polymer, celsius(plate), celsius(40.0), seed, DAY, key="trial-2")
            found = learn([a.trial, b.trial])
            known = found.polymers[polymer]
            half = Z90 * np.sqrt(np.diag(known.covariance))
            unknown += [abs(m - a.truth[n]) <= h for n, m, h in zip(known.names, known.mean, half, strict=True)]
            of_film, of_magnet = found.findings[0], found.findings[1]
            film.append(of_film.after.low <= a.film <= of_film.after.high)
            left.append(of_film.left)
            true = value_at(library.pull, a.truth[PULL])
            pull.append(of_magnet.after.low <= true <= of_magnet.after.high)
            assert of_magnet.left < 0.2
        assert np.median(left) < 0.65
        assert 0.84 <= np.mean(unknown) <= 0.96
        for held in (film, pull):
            assert 31 <= sum(held) <= 40


def test_what_was_learned_moves_and_narrows_the_predictions() -> None:
    bundle = sample("boathouse")
    polymer, plate = bundle.project.process.polymer, bundle.project.settings.bed_rest
    truth = moved_polymer(polymers()[polymer], {STIFFNESS: 1.2, EXPANSION: 0.8})
    readings = strip(polymer, plate - 273.15, (94.0, 80.0, 60.0, 40.0, 22.0))
    bows = strip_bows(readings, truth)
    told = tuple(r.model_copy(update={"bow": float(b)}) for r, b in zip(readings.readings, bows, strict=True))
    taught = with_trials(bundle, readings.model_copy(update={"readings": told}))
    before, after = (Results(b).get(keys.EVALUATION) for b in (bundle, taught))
    assert before.warp is not None
    assert after.warp is not None
    assert after.warp.pull > 1.1 * before.warp.pull, "a stiffer film that shrinks more pulls more"
    films = [
        float(np.sqrt(sum(w.spreads["pull"][n] ** 2 for n in MOVED if n in w.spreads["pull"])))
        for w in (before.warp, after.warp)
    ]
    assert films[1] < 0.7 * films[0], "what is left beside the models' own error"
    plates = [e.judgement.assessed["loose_plate"] for e in (before, after)]
    assert plates[1].margin < plates[0].margin
    # what ties the unknowns stays: a strip tells their product, none of them by itself
    known = Results(taught).get(keys.LEARNED).polymers[polymer]
    assert min(known.share_of(n) for n in (EXPANSION, STIFFNESS, STRESS_FREE, CREEP)) > 0.3
    i, j = known.names.index(EXPANSION), known.names.index(STIFFNESS)
    assert known.covariance[i, j] < 0.0
    assert np.allclose(known.root @ known.root, known.covariance)
    unused = with_trials(bundle, readings.model_copy(update={"readings": told, "used": False}))
    same = Results(unused).get(keys.EVALUATION)
    assert same.judgement.anything == before.judgement.anything


def test_a_measured_magnet_takes_its_doubt_out_of_the_plate() -> None:
    bundle = sample("boathouse")
    kind = joint_kinds()["magnetic"]
    assert kind.pull is not None
    strong = 1.5 * kind.pull.typical * 0.05 * 0.05
    taught = with_trials(
        bundle, coupon((0.0, strong), (0.0, 1.02 * strong), (0.0005, 0.46 * strong), (0.001, 0.21 * strong))
    )
    before, after = (Results(b).get(keys.EVALUATION) for b in (bundle, taught))
    a, b = (e.judgement.assessed["loose_plate"] for e in (before, after))
    assert b.margin > a.margin + 0.05
    assert b.parts[MAGNET] < 0.5 * a.parts[MAGNET]
    assert after.judgement.state("adhesion") is before.judgement.state("adhesion")


def test_a_feeler_is_read_under_the_part_and_corrects_the_film_or_the_magnet() -> None:
    bundle = sample("boathouse")
    drawn = Results(bundle).get(keys.PRACTICE_TRIAL.of(kind="feeler", seed=4, day=DAY)).trial
    assert isinstance(drawn, FeelerTrial)
    taught = Results(with_trials(bundle, drawn))
    learned = taught.get(keys.LEARNED)
    assert learned.trials == 1
    shown = taught.get(keys.TRIALS)["trial-1"]
    off = [float(np.abs(np.log((shown.read + 5e-5) / (v + 5e-5))).mean()) for v in (shown.before, shown.after)]
    assert off[1] <= off[0] + 1e-9
    assert shown.kinds == ("large_length", "length")


def test_a_trial_that_teaches_nothing_says_why_and_hides_nothing() -> None:
    bundle = sample("boathouse")
    strange = strip("unobtainium")
    alone = Bundle(bundle.project.model_copy(update={"part": None}), bundle.originals)
    felt = FeelerTrial(
        key="trial-3", name="F", date=DAY, plate=celsius(90.0), readings=(FeelerReading(height=0.01, gap=1e-4),)
    )
    results = Results(with_trials(alone, strange, felt))
    learned = results.get(keys.LEARNED)
    assert len(learned.problems) == 2
    assert learned.findings == ()
    assert results.get(keys.EVALUATION).judgement is not None
    assert results.get(keys.TRIALS) == {}
    empty = strip().model_copy(update={"readings": ()})
    assert learn([empty]) == NOTHING
    with pytest.raises(ValidationError, match="two trials have the same name"):
        Measurements.model_validate({"trials": [coupon().model_dump(), coupon().model_dump() | {"key": "other"}]})


def test_trials_are_told_without_a_window_and_survive_the_file(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    bundle = sample("boathouse")
    strip_trial = draw_trial("strip", "asa", celsius(94.0), celsius(44.0), 3, DAY).trial
    file = tmp_path / "taught.mandorla"
    write_bundle(file, with_trials(bundle, strip_trial))
    assert run(["verify", str(file), "--json"]) == 0
    told = json.loads(capsys.readouterr().out)["learned"]
    assert told["trials"] == 1
    row = told["findings"][0]
    assert row["before_low"] < row["after_low"] < row["after"] < row["after_high"]
    assert row["range_left"] < 0.8
    assert run(["verify", str(file)]) == 0
    assert "film stress of ASA" in capsys.readouterr().out


def test_a_recentred_polymer_keeps_its_relative_ranges() -> None:
    found = learn([draw_trial("strip", "abs", celsius(100.0), celsius(40.0), 8, DAY).trial])
    base, now = polymers()["abs"], recentred(polymers()["abs"], found)
    for name in ("expansion", "modulus", "relaxation_time"):
        a, b = getattr(base, name), getattr(now, name)
        assert b.high / b.typical == pytest.approx(a.high / a.typical)
    assert film_stress(now) == pytest.approx(found.findings[0].after.typical, rel=1e-6)
    assert recentred(polymers()["pla"], found) is polymers()["pla"]
    shown = trial_shown(strip("pla", 60.0, (60.0, 30.0)), found, None)
    np.testing.assert_allclose(shown.before, shown.after)
