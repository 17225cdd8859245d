"""One answer everywhere: what the command line prints, its exit status and the report say the same of the same state."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest
from pypdf import PdfReader

from mandorla.cli import run
from mandorla.core.errors import SolverError
from mandorla.core.part.process import Process
from mandorla.core.project.samples import sample, sample_part
from mandorla.core.project.store import Bundle, write_bundle
from mandorla.core.report.write import write_report
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.units import celsius

WORDS = {"holds": "The part holds", "marginal": "In doubt", "fails": "that it fails this way"}
STATUS = {"holds": 0, "marginal": 0, "fails": 1}
Case = tuple[str, str, str, float, float]  # part, polymer, surface, bed and chamber in °C
CASES: list[Case] = [
    (part, polymer, surface, bed, chamber)
    for part in ("", "oar-rack", "lamp-box", "hatch-frame", "sail-clips")
    for polymer, surface, bed, chamber in (
        ("pla", "polyetherimide_textured", 60.0, 30.0), ("pla", "polyetherimide_textured", 105.0, 30.0),
        ("asa", "polyetherimide_textured", 100.0, 67.0), ("pa12", "glass_fibre_laminate", 90.0, 45.0),
    )
]  # fmt: skip


def state(part: str, polymer: str, surface: str, bed: float, chamber: float) -> Bundle:
    base = sample("boathouse")
    project, originals = base.project, base.originals
    if part:
        source, files = sample_part(part)
        project, originals = (
            project.model_copy(update={"part": source.model_copy(update={"gcode": ""})}),
            {**originals, **files},
        )
    settings = project.settings.model_copy(
        update={"bed_first": celsius(bed), "bed_rest": celsius(bed), "chamber": celsius(chamber)}
    )
    return Bundle(
        project.model_copy(update={"settings": settings, "process": Process(polymer=polymer, surface=surface)}),
        originals,
    )


def said(text: str) -> str:
    """The state that a sentence a person reads stands for."""
    plain = re.sub(r"\s+", " ", text)
    found = [name for name, words in WORDS.items() if words in plain]
    if not found:  # a failure that is certain has no chance to tell
        return "fails"
    return found[0]


@pytest.mark.parametrize("case", CASES, ids=str)
def test_command_line_exit_status_json_and_report_agree(
    case: Case, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    path = tmp_path / "case.mandorla"
    bundle = state(*case)
    write_bundle(path, bundle)
    status = run(["warp", str(path), "--no-check", "--json"])
    found = json.loads(capsys.readouterr().out)
    assert status == STATUS[found["status"]]
    assert run(["warp", str(path), "--fail-on", "marginal", "--no-check", "--json"]) == (
        0 if found["status"] == "holds" else 1
    )
    capsys.readouterr()
    assert run(["warp", str(path), "--no-check"]) == status
    first = capsys.readouterr().out.splitlines()[0]
    assert first == found["sentence"]
    assert said(first) == found["status"]
    ways = {w["key"]: w for w in found["judgement"]["ways"]}
    assert found["judgement"]["status"] == found["status"]
    assert (found["judgement"]["fails_first"] == "") is (found["status"] == "holds")
    assert ("fails" in {w["state"] for w in ways.values()}) is (found["status"] == "fails")
    if found["status"] == "holds":
        assert all(w["state"] == "holds" for w in ways.values() if w["probability"] is not None)
        assert found["judgement"]["probability_of_any"] <= found["judgement"]["risk_accepted"]
    assert run(["warp", str(path), "--chances", "--no-check", "--json"]) == status
    chances = json.loads(capsys.readouterr().out)
    for row in chances["failures"]:
        assert row["probability"]["value"] == pytest.approx(ways[row["key"]]["probability"])
    assert chances["probability_of_any"]["value"] == pytest.approx(found["judgement"]["probability_of_any"])


@pytest.mark.parametrize("case", CASES[1:3], ids=str)
def test_the_report_says_the_same(case: Case, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    path = tmp_path / "case.mandorla"
    bundle = state(*case)
    write_bundle(path, bundle)
    run(["warp", str(path), "--no-check", "--json"])
    found = json.loads(capsys.readouterr().out)
    target = tmp_path / "report.pdf"
    write_report(target, Results(bundle), check=False)
    text = re.sub(r"\s+", " ", PdfReader(target).pages[0].extract_text())
    assert re.sub(r"\s+", " ", found["sentence"]) in text


def test_a_full_run_takes_the_quick_answers_place_in_the_exit_status(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    path = tmp_path / "demo.mandorla"
    write_bundle(path, sample("boathouse"))
    status = run(["warp", str(path), "--full", "--resolution", "draft", "--json"])
    found = json.loads(capsys.readouterr().out)
    assert found["judgement"]["status"] == found["status"]
    assert status == STATUS[found["status"]]
    assert {w["source"] for w in found["judgement"]["ways"]} >= {"full"}
    assert said(found["sentence"]) == found["status"]


def test_without_being_told_otherwise_every_command_answers_by_a_full_run(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """The quick estimate doubts these settings, a full run does not: command line, JSON, window's map and report say the run's."""
    path = tmp_path / "case.mandorla"
    bundle = state("sail-clips", "petg", "polyetherimide_textured", 80.0, 25.0)
    write_bundle(path, bundle)
    quick = run(["warp", str(path), "--no-check", "--json"])
    without = json.loads(capsys.readouterr().out)
    assert without["full"] is None
    assert {w["source"] for w in without["judgement"]["ways"]} & {"full"} == set()
    status = run(["warp", str(path), "--json"])
    found = json.loads(capsys.readouterr().out)
    assert quick in (0, 1)
    assert found["full"]["resolution"] == "draft"
    assert status == STATUS[found["status"]]
    results = Results(bundle)
    results.get(keys.SETTINGS_CHECK)
    judgement = results.get(results.judgement_key())
    assert judgement.whole.value == found["status"]
    assert judgement.anything == pytest.approx(found["judgement"]["probability_of_any"])
    assert run(["warp", str(path)]) == status
    assert capsys.readouterr().out.splitlines()[0] == found["sentence"]


@pytest.mark.usefixtures("computed_anew")
def test_a_check_that_cannot_be_made_says_so_and_the_quick_estimate_stands(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    def none(*_: object, **__: object) -> None:
        raise SolverError("no equilibrium was found")

    monkeypatch.setattr("mandorla.core.results.warp.simulate", none)
    path = tmp_path / "case.mandorla"
    write_bundle(path, state(*CASES[0]))
    status = run(["warp", str(path), "--json"])
    told = capsys.readouterr()
    assert "could not be checked by full simulation: no equilibrium was found" in told.err
    found = json.loads(told.out)
    assert found["full"] is None
    assert run(["warp", str(path), "--no-check", "--json"]) == status
    assert json.loads(capsys.readouterr().out) == found
