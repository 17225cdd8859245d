"""``mandorla log``: every action, in text and JSON; predictions of other commands follow the book."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from mandorla.cli import run
from mandorla.cli.log import LogOutput
from mandorla.core.project.store import write_bundle
from tests.core.bundles import small_bundle


@pytest.fixture
def project(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> str:
    monkeypatch.setenv("MANDORLA_LOGBOOK", str(tmp_path / "book" / "shop.db"))
    path = tmp_path / "block.mandorla"
    write_bundle(path, small_bundle())
    return str(path)


def say(capsys: pytest.CaptureFixture[str], *arguments: str) -> str:
    assert run(["log", *arguments, "--no-check"]) == 0
    return capsys.readouterr().out


def tell(capsys: pytest.CaptureFixture[str], *arguments: str) -> LogOutput:
    return LogOutput.model_validate_json(say(capsys, *arguments, "--json"))


def test_prints_are_entered_listed_and_searched(project: str, capsys: pytest.CaptureFixture[str]) -> None:
    begun = tell(capsys, "add", project, "--plate", "Sheet 1", "--spool", "Red", "--prepared", "washed")
    assert [(p.number, p.entered) for p in begun.prints] == [(1, False)]
    ended = say(
        capsys,
        "add",
        "--number",
        "1",
        "--failed",
        "adhesion@4mm-9mm",
        "--failed",
        "flatness:1.2mm",
        "--energy",
        "0.8kWh",
    )
    assert "A corner came off between 4 mm and 9 mm; It is not flat, 1.20 mm up" in ended
    assert "48 of 50 good" in say(capsys, "add", project, "--copies", "50", "--good", "48", "--at", "2026-03-01")
    text = say(capsys, "list")
    assert text.startswith("2 prints.")
    assert "accident at 10 mm: power cut" in say(capsys, "add", project, "--accident", "power cut@10mm")
    assert len(tell(capsys, "list", "--search", "Sheet 1").prints) == 0  # it is the plate's name, not the print's
    assert len(tell(capsys, "list", "--search", "adhesion").prints) == 3
    assert tell(capsys, "list").prints[-1].outcome.startswith("accident")


def test_groups_are_compared_and_what_differed_comes_first(project: str, capsys: pytest.CaptureFixture[str]) -> None:
    for plate, end in (("A", "--held"), ("A", "--held"), ("B", "--failed=adhesion"), ("B", "--failed=adhesion")):
        say(capsys, "add", project, "--plate", plate, end)
    found = tell(capsys, "compare", "1,2", "3,4")
    assert "plate" in [d["path"] for d in found.differences]
    assert found.chance_first_worse is not None
    assert found.chance_first_worse < 0.2
    for wrong in (("1,2",), ("1,x", "3"), ("1", "99")):
        assert run(["log", "compare", *wrong]) == 2
    assert "no print number 99" in capsys.readouterr().err


def test_trials_and_ladders_are_planned_and_followed(project: str, capsys: pytest.CaptureFixture[str]) -> None:
    planned = tell(capsys, "trial", "Wash", "--arms", "soap,alcohol", "--pairs", "4")
    assert planned.next in ("soap", "alcohol")
    say(capsys, "add", project, "--trial", "Wash", "--arm", str(planned.next), "--held")
    assert "Next:" in say(capsys, "trial", "Wash")
    assert len(tell(capsys, "trial", "Wash").prints) == 1
    ladder = tell(capsys, "ladder", "Rest", project)
    assert isinstance(ladder.next, float)
    say(capsys, "add", project, "--trial", "Rest", "--held")
    assert "Holds nine times of ten from" in say(capsys, "ladder", "Rest")
    for wrong in (
        ("trial", "Rest"),
        ("ladder", "Wash"),
        ("trial", "none"),
        ("trial", "x", "--arms", "a"),
        ("trial",),
        ("ladder",),
    ):
        assert run(["log", *wrong]) == 2
    assert run(["log", "add", project, "--trial", "Wash", "--arm", "neither"]) == 2
    assert "has no arm" in capsys.readouterr().err


def test_what_was_learned_is_told_and_predictions_follow_it(project: str, capsys: pytest.CaptureFixture[str]) -> None:
    def margin() -> tuple[float, int]:
        run(["warp", project, "--no-check", "--json"])
        answer = json.loads(capsys.readouterr().out)
        return answer["hold_margin"]["value"], answer["learned_from_prints"]

    before = margin()
    assert before[1] == 0
    for _ in range(4):
        say(capsys, "add", project, "--failed", "flatness:3mm", "--failed", "loose_plate")
    after = margin()
    assert after[1] == 4
    assert after[0] < before[0] - 0.05
    run(["warp", project, "--no-check"])
    assert "From 4 prints of the workshop's logbook." in capsys.readouterr().out
    assert run(["warp", project, "--no-check", "--json", "--set", "criteria.from_prints=false"]) in (0, 1, 3)
    assert json.loads(capsys.readouterr().out)["hold_margin"]["value"] == pytest.approx(before[0])
    found = tell(capsys, "learn", project)
    names = [row.name for row in found.learned]
    assert "grip on the plate" in names
    assert "Learned from 4 prints" in say(capsys, "learn")


def test_books_go_out_and_in(project: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    say(capsys, "add", project, "--held", "--plate", "Sheet 1")
    assert len(tell(capsys, "export", str(tmp_path / "all")).files) > 8
    say(capsys, "export", str(tmp_path / "all.json"))
    other = str(tmp_path / "other.db")
    done = tell(capsys, "import", str(tmp_path / "all.json"), "--logbook", other)
    assert (done.new, done.known) == (4, 0)
    assert tell(capsys, "import", str(tmp_path / "all"), "--logbook", other).known == 4


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (("add",), "add takes one project"), (("add", "--number", "1"), "Say how it ended"),
        (("add", "--number", "9", "--held"), "no print number 9"), (("add", "PROJECT", "--failed", "bad luck"), "write WAY"),
        (("add", "PROJECT", "--copies", "50", "--good", "51"), "51 of 50"), (("add", "PROJECT", "--at", "2199-01-01"), "future"),
        (("export",), "takes a .json"), (("import", "/nowhere.json"), "cannot be read"),
    ],
)  # fmt: skip
def test_what_cannot_be_is_refused(
    arguments: tuple[str, ...], words: str, project: str, capsys: pytest.CaptureFixture[str]
) -> None:
    assert run(["log", *(project if a == "PROJECT" else a for a in arguments)]) == 2
    assert words in capsys.readouterr().err


def test_a_damaged_book_does_not_stop_predictions(
    project: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    (tmp_path / "book").mkdir()
    (tmp_path / "book" / "shop.db").write_bytes(b"nothing of a database " * 50)
    assert run(["warp", project, "--no-check"]) in (0, 1, 3)
    assert "the library's alone" in capsys.readouterr().err
    assert run(["log", "list"]) == 2
    assert run(["warp", project, "--no-check", "--logbook", str(tmp_path / "none.db")]) == 2


def test_what_is_left_of_a_damaged_book_is_written(
    project: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    say(capsys, "add", project, "--held")
    assert "3 entries saved" in say(capsys, "rescue", str(tmp_path / "left.json"))
    assert json.loads((tmp_path / "left.json").read_text(encoding="utf-8"))["prints"][0]["number"] == 1
    assert run(["log", "rescue"]) == 2
