"""A sliced file against the plan: told line by line, corrected where it was named; no wait that is written can hang."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from mandorla.cli import run
from mandorla.core.errors import InputError
from mandorla.core.project.store import write_bundle
from mandorla.core.run.sliced import Wanted, compare, corrected, ending, preamble, waits_in, wanted_of
from mandorla.core.units import OFF, celsius
from tests.core.bundles import small_bundle

PLAN = Wanted(
    celsius(100.0), celsius(95.0), celsius(60.0), (celsius(245.0), celsius(250.0)), 0.1, 0.03, 1.0, True, celsius(115.0),
    celsius(72.0), celsius(20.0),
)  # fmt: skip
GOOD = """; made for a test
M141 S60
M140 S100
M190 S100
M191 S60
M109 S245
M83
M204 P1000
G1 Z0.3 F600
G1 X10 Y0 E0.5 F1800
G1 X10 Y10 E0.5
G1 Z0.6 F600
M140 S95
M104 S250
M106 S25
G1 X0 Y10 E0.5 F5400
M104 S0
M140 S0
M141 S0
"""


def told(text: str, plan: Wanted = PLAN) -> dict[int, str]:
    return {f.line: f"{f.what}: {f.found}, {f.planned}" for f in compare(text.encode(), plan)}


def test_a_file_as_planned_has_nothing_to_tell() -> None:
    assert told(GOOD) == {}


@pytest.mark.parametrize(
    ("before", "after", "line", "said", "instead"),
    [
        ("M140 S100", "M140 S60", 3, "Bed, first layers", "M140 S100"),
        ("M140 S95", "M140 S85", 13, "Bed", "M140 S95"),
        ("M141 S60\nM140", "M141 S40\nM140", 2, "Chamber", "M141 S60"),
        ("M109 S245", "M109 T1 S215", 6, "Nozzle, tool 1", "M109 T1 S245"),
        ("M104 S250", "M104 S210", 14, "Nozzle", "M104 S250"),
        ("M106 S25", "M106 S255", 15, "Part fan", "M106 S26"),
        ("M204 P1000", "M204 P8000", 8, "Acceleration", "M204 P1000"),
        ("E0.5 F1800", "E0.5 F6000", 10, "Speed, first layer", "F1800"),
    ],
)
def test_what_is_not_as_planned_is_told_with_its_line_and_put_right(
    before: str, after: str, line: int, said: str, instead: str
) -> None:
    text = GOOD.replace(before, after, 1)
    findings = compare(text.encode(), PLAN)
    found = next(f for f in findings if f.line == line)
    assert said in found.what
    assert instead in found.instead
    mended = corrected(text.encode(), findings).decode()
    assert told(mended) == {}
    was, now = text.splitlines(), mended.splitlines()
    changed = {k + 1 for k, (a, b) in enumerate(zip(was, now, strict=True)) if a != b}
    assert changed == {f.line for f in findings if f.instead}, "only the lines that were named are others"
    assert was[line - 1] in now[line - 1], "what it was stays as a comment"


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ("M190 S130", "reaches 115 °C"), ("M191 S90", "reaches 72 °C"), ("M190 R15", "the room is at 20 °C"),
        ("M190 S0", "never reached"),
    ],
)  # fmt: skip
def test_a_wait_that_never_ends_is_blocked(line: str, said: str) -> None:
    text = GOOD.replace("M190 S100", line, 1)
    findings = [f for f in compare(text.encode(), PLAN) if said in f.planned]
    assert len(findings) == 1
    assert findings[0].blocks


def test_what_the_file_never_sets_is_told() -> None:
    bare = "\n".join(x for x in GOOD.splitlines() if not x.startswith(("M14", "M19")))
    whole = [f for f in compare(bare.encode(), PLAN) if f.line == 0]
    assert {f.what for f in whole} == {"Bed", "Chamber", "Bed, rest"}
    assert all(f.blocks for f in whole)


def test_a_file_without_moves_is_refused() -> None:
    with pytest.raises(InputError, match="lays nothing"):
        compare(b"M104 S200\n; nothing\n", PLAN)


def test_the_preamble_reads_back_as_planned_and_no_wait_in_it_can_hang() -> None:
    text = preamble(PLAN, 600.0)
    assert waits_in(text) == (("M190", PLAN.bed_first), ("M191", PLAN.chamber), ("M109", PLAN.nozzle[0]))
    assert "G4 S600" in text
    assert text.index("M191") < text.index("G4") < text.index("M0 ") < text.index("M109")
    for bad, said in (
        (PLAN._replace(bed_first=celsius(120.0)), "bed reaches 115"),
        (PLAN._replace(chamber=celsius(80.0)), "chamber reaches 72"),
    ):
        with pytest.raises(InputError, match=said):
            preamble(bad, 0.0)
    cold = preamble(PLAN._replace(bed_first=celsius(21.0), chamber=celsius(20.0)), 0.0)
    assert [w for w, _ in waits_in(cold)] == ["M109"], (
        "a wait for what the room is at already would hang or mean nothing"
    )
    assert "M140" not in preamble(PLAN._replace(bed_first=OFF), 0.0)


def test_the_ramp_at_the_end_falls_in_even_steps_to_the_room() -> None:
    text = ending(PLAN, 0.5 / 60.0)
    targets = [
        float(line.split("S")[1]) for line in text.splitlines() if line.startswith("M140 S") and line != "M140 S0"
    ]
    assert targets == sorted(targets, reverse=True)
    assert targets[-1] == pytest.approx(25.0)
    pauses = [float(line.split("S")[1]) for line in text.splitlines() if line.startswith("G4")]
    assert sum(pauses) == pytest.approx((95.0 - 25.0) / 0.5 * 60.0, rel=0.01)
    assert text.rstrip().endswith("M84")
    assert waits_in(text) == ()


def test_the_plan_of_a_project_knows_what_its_heaters_reach() -> None:
    p = small_bundle().project
    w = wanted_of(p.rig, p.settings, p.process)
    assert w.bed_first == p.settings.bed_first
    assert w.bed_reach <= p.rig.limits.bed_max + 1e-6
    assert w.room < w.chamber_reach <= p.rig.limits.chamber_max + 1e-6
    weak = p.rig.model_copy(
        update={"bed": p.rig.bed.model_copy(update={"heater": p.rig.bed.heater.model_copy(update={"power": 60.0})})}
    )
    assert wanted_of(weak, p.settings, p.process).bed_reach < w.bed_reach


def test_the_command_line_blocks_a_file_that_is_not_as_planned(
    tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    bundle = small_bundle()
    write_bundle(tmp_path / "p.mandorla", bundle)
    (tmp_path / "a.gcode").write_text(GOOD, encoding="utf-8")
    files = [
        "--file",
        str(tmp_path / "a.gcode"),
        "--corrected",
        str(tmp_path / "b.gcode"),
        "--preamble",
        str(tmp_path / "s.gcode"),
    ]
    status = run(["run", str(tmp_path / "p.mandorla"), "--no-check", "--json", *files])
    told = json.loads(capsys.readouterr().out)
    assert status == 1
    assert any(f["blocks"] for f in told["sliced"])
    assert waits_in((tmp_path / "s.gcode").read_text(encoding="utf-8"))[0][1] == bundle.project.settings.bed_first
    assert run(["run", str(tmp_path / "p.mandorla"), "--no-check", "--json", "--file", str(tmp_path / "b.gcode")]) in (
        0,
        1,
    )
    again = json.loads(capsys.readouterr().out)["sliced"]
    assert all(not f["instead"] for f in again), "what could be put right is"
    assert run(["run", str(tmp_path / "p.mandorla"), "--no-check", "--corrected", str(tmp_path / "c.gcode")]) == 2
    assert "--file" in capsys.readouterr().err
