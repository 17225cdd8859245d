"""Copies on one plate: by hand where all are alike, colder places first, common causes, linked pieces."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from scipy.special import ndtr

from mandorla.cli import run
from mandorla.core.failure.chances import batch_sentence
from mandorla.core.project.samples import sample, sample_part
from mandorla.core.project.store import Bundle, write_bundle
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.warp.batch import Batch, Copy, Placed, batch_of
from tests.core.bundles import small_bundle


def clips(**settings: float) -> Bundle:
    """The demo's small pieces, many to a plate."""
    base = sample("boathouse")
    source, files = sample_part("sail-clips")
    project = base.project.model_copy(
        update={"part": source, "settings": base.project.settings.model_copy(update=settings)}
    )
    return Bundle(project, {**base.originals, **files})


MARGIN, SPREAD = 0.5, 0.45


def like(count: int, plates: list[float]) -> Batch:
    e = Results(small_bundle()).get(keys.EVALUATION)
    assert e.part is not None
    assert e.conditions is not None
    corners = np.array([[-0.01, -0.01], [0.01, 0.01]])
    bodies = [Placed(e.part, corners + 0.05 * n, np.full(2, plates[n % len(plates)]), np.ones(2)) for n in range(count)]
    return batch_of(bodies, e.conditions, MARGIN, SPREAD)


def test_alike_copies_are_lost_as_often_as_each_by_itself() -> None:
    found = like(8, [360.0])
    by_hand = float(ndtr(-MARGIN / SPREAD))
    assert [c.chance for c in found.copies] == pytest.approx([by_hand] * 8)
    assert found.lost == pytest.approx(8 * by_hand)
    # what they share makes them fail together: far from eight independent chances
    assert by_hand * 1.05 < found.any < 0.7 * (1.0 - (1.0 - by_hand) ** 8)
    assert found.many > found.lost


def test_the_coldest_place_is_the_likeliest_to_be_lost() -> None:
    e = Results(small_bundle()).get(keys.EVALUATION)
    assert e.conditions is not None
    warm = float(e.conditions.corner_plate.min())
    found = like(4, [warm, warm - 15.0, warm, warm])
    assert found.worst.number == 2
    assert found.worst.margin < found.copies[0].margin
    assert found.worst.plate == pytest.approx(warm - 15.0)


def test_a_projects_copies_are_numbered_and_judged_by_their_places() -> None:
    bundle = clips()
    found = Results(bundle).get(keys.BATCH)
    assert found is not None
    assert [c.number for c in found.copies] == list(range(1, len(found.copies) + 1))
    assert len(found.copies) > 4
    adhesion = Results(bundle).get(keys.JUDGEMENT).assessed["adhesion"]
    assert found.worst.chance == pytest.approx(adhesion.probability), (
        "the judgement's own figure is the worst placed copy's"
    )
    cold = Results(clips(bed_first=330.0, bed_rest=330.0)).get(keys.BATCH)
    assert cold is not None
    assert cold.lost > found.lost


def test_one_body_is_no_batch() -> None:
    assert Results(small_bundle()).get(keys.BATCH) is None


def test_linked_copies_are_judged_as_one() -> None:
    found = Batch((Copy(1, 0.05, 0.05, 330.0, 1.2, 0.3), Copy(2, -0.05, 0.05, 332.0, 1.4, 0.2)), 0.4, 0.5, 2)
    loose, linked = batch_sentence(found, linked=False), batch_sentence(found, linked=True)
    assert "Cancel a loose copy" in loose
    assert "one lost ruins all" in linked
    assert loose.split(".")[0] == linked.split(".")[0]


def test_the_command_line_tells_the_copies(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    path = tmp_path / "clips.mandorla"
    write_bundle(path, clips())
    run(["warp", str(path), "--chances", "--no-check", "--json"])
    told = json.loads(capsys.readouterr().out)
    found = Results(clips()).get(keys.BATCH)
    assert found is not None
    assert told["copies"]["lost_on_average"]["value"] == pytest.approx(found.lost)
    assert [c["number"] for c in told["copies"]["copies"]] == [c.number for c in found.copies]
    run(["warp", str(path), "--chances", "--no-check"])
    assert batch_sentence(found, linked=False) in capsys.readouterr().out


def test_with_a_full_run_the_likeliest_copy_is_the_one_that_the_judgement_names() -> None:
    bundle = clips(bed_first=335.0, bed_rest=330.0)
    results = Results(bundle)
    full = results.get(keys.FULL_RUN.of(resolution="draft", bodies="all"))
    found = results.get(keys.BATCH.of(full="draft"))
    assert found is not None
    named = full.corner_words(int(np.argmin(full.margin[-1])))
    assert named.endswith(f"body {found.worst.number}")
    judged = results.get(keys.JUDGEMENT.of(full="draft", bodies="all")).assessed["adhesion"]
    assert found.worst.chance == pytest.approx(judged.probability)
