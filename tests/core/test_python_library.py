"""Mandorla as a library: what its pages promise, its examples run, its import stays light."""

from __future__ import annotations

import doctest
import json
import subprocess
import sys
from pathlib import Path

import pytest

import mandorla
from mandorla import api
from mandorla.cli import run
from mandorla.core.errors import InputError, MandorlaError
from mandorla.core.logbook.interchange import import_rows, rows_from_json
from mandorla.core.logbook.workshop import Workshop
from mandorla.core.project.samples import demo_logbook
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from tests.core.bundles import small_bundle
from tests.core.solids import block, stl

ROOT = Path(__file__).resolve().parents[2]


@pytest.fixture(scope="module")
def study() -> api.Study:
    return api.Study(small_bundle())


def test_what_the_page_shows_is_so() -> None:
    assert doctest.testmod(api).failed == 0
    assert doctest.testmod(api).attempted >= 3


@pytest.mark.parametrize("name", sorted(p.name for p in (ROOT / "examples").glob("*.py")))
def test_examples_run(name: str, tmp_path: Path) -> None:
    done = subprocess.run(
        [sys.executable, str(ROOT / "examples" / name)], cwd=tmp_path, capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr
    assert done.stdout.strip()


def test_importing_it_is_light() -> None:
    heavy = "('numpy', 'pydantic', 'PySide6')"
    code = f"import sys, mandorla; print([m for m in {heavy} if m in sys.modules]); print(mandorla.__version__)"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines() == ["[]", mandorla.__version__]
    assert set(api.__all__) < set(mandorla.__all__)
    for name in mandorla.__all__:
        assert getattr(mandorla, name) is not None
    with pytest.raises(AttributeError, match="no attribute 'nothing'"):
        mandorla.nothing  # noqa: B018


def test_results_are_those_of_everybody(study: api.Study) -> None:
    results = Results(small_bundle())
    assert study.evaluation().heat.ready_time == results.get(keys.EVALUATION).heat.ready_time
    assert study.headline().startswith(("The part holds", "In doubt", "The"))
    assert study.result("judgement").anything == study.judgement().anything
    assert study.result("fault", fault="relay-on", start="holding").peak.max() > 300.0
    names = mandorla.result_keys()
    assert {"evaluation", "full_run", "window", "heat_up"} <= set(names)
    assert study.curves()["surface"].shape == study.curves()["time"].shape
    assert "Least known" in study.explained("surface")
    assert "Test project" in study._repr_html_()
    assert "Block" in repr(study)


def test_a_study_never_changes_and_refuses_everything_at_once(study: api.Study) -> None:
    other = study.with_values({"settings.bed_rest": "212 °F", "settings.soak_time": 120.0, "name": "Hotter"})
    assert other["settings.bed_rest"] == pytest.approx(373.15)
    assert other["settings.soak_time"] == 120.0
    assert study["name"] == "Test project"
    assert other["name"] == "Hotter"
    with pytest.raises(InputError) as refused:
        study.with_values({"settings.bed_rest": "9000 °C", "settings.nothing": 3.0, "settings.fan": "x"})
    assert len(refused.value.problems) == 3
    with pytest.raises(InputError, match="no result"):
        study.result("nothing")
    with pytest.raises(InputError, match="has no parameter seed"):
        study.result("evaluation", seed=3)
    with pytest.raises(InputError, match="There is no demo"):
        mandorla.demo("garage")


def test_files_go_in_and_out(study: api.Study, tmp_path: Path) -> None:
    study.save(tmp_path / "p.mandorla")
    again = mandorla.open_project(tmp_path / "p.mandorla")
    assert again.project == study.project
    (tmp_path / "q.mandorla").write_bytes(b"nothing")
    with pytest.raises(MandorlaError):
        mandorla.open_project(tmp_path / "q.mandorla")
    (tmp_path / "block.stl").write_bytes(stl(block(60.0, 40.0, 10.0)))
    begun = mandorla.begin({"kind": "open", "width": 0.25}, "pla", tmp_path / "block.stl")
    assert begun.project.part is not None
    assert begun["rig.bed.width"] == 0.25
    for wrong in (tmp_path / "none.stl", tmp_path / "q.mandorla"):
        with pytest.raises(MandorlaError):
            mandorla.begin({}, "pla", wrong).evaluation()
    with pytest.raises(InputError, match="is none of"):
        mandorla.begin({}, "pla", tmp_path / "block.stl", "ell")


def test_a_full_run_takes_the_judgement_over(study: api.Study) -> None:
    assert all(a.source == "quick" for a in study.judgement().assessed.values())
    run = study.full_run("draft")
    assert run.voxels.count > 100
    assert study.judgement().assessed["adhesion"].source == "full"


def test_the_workshops_prints_count_here_and_in_new_as_in_every_command(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    """One project, one book: the library, ``new`` and ``warp`` say one chance; without the book another one."""
    monkeypatch.setenv("MANDORLA_LOGBOOK", str(tmp_path / "none.db"))
    book, file = tmp_path / "book.db", tmp_path / "mine.mandorla"
    import_rows(Workshop(book).book, rows_from_json(demo_logbook(), "the demo"))
    (tmp_path / "b.stl").write_bytes(stl(block(150.0, 70.0, 30.0)))
    asked = ["new", "--bed", "340x330mm", "--part", str(tmp_path / "b.stl"), "--polymer", "asa", "-o", str(file)]
    asked += ["--no-check", "--json"]
    alone = sentence_of(capsys, asked)
    taught = sentence_of(capsys, [*asked, "--logbook", str(book)])
    assert taught != alone
    assert sentence_of(capsys, ["warp", str(file), "--no-check", "--json"]) == alone
    assert sentence_of(capsys, ["warp", str(file), "--no-check", "--json", "--logbook", str(book)]) == taught
    assert api.open_project(file).headline() == alone
    with_book = api.open_project(file, book)
    assert with_book.headline() == taught
    there_and_back = with_book.with_values({"settings.fan": 0.3}).with_values(
        {"settings.fan": with_book["settings.fan"]}
    )
    assert there_and_back.headline() == taught
    monkeypatch.setenv("MANDORLA_LOGBOOK", str(book))
    assert api.open_project(file).headline() == taught, "the workshop's own book needs no word"
    with pytest.raises(InputError, match="no logbook"):
        api.open_project(file, tmp_path / "nowhere.db")


def sentence_of(capsys: pytest.CaptureFixture[str], asked: list[str]) -> str:
    """What a command says."""
    assert run(asked) in (0, 1)
    return str(json.loads(capsys.readouterr().out)["sentence"])
