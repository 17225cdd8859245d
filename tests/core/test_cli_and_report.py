"""The command line and the PDF report, without a display."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
from pypdf import PdfReader

from mandorla.cli import COMMANDS, run
from mandorla.core.errors import InputError, Problem
from mandorla.core.failure.messages import margin_text
from mandorla.core.failure.state import State
from mandorla.core.failure.words import headline
from mandorla.core.project.models import Scenario
from mandorla.core.project.samples import sample, sample_part
from mandorla.core.project.store import Bundle, write_bundle
from mandorla.core.report.write import write_report
from mandorla.core.results import keys, suggestions
from mandorla.core.results.results import Results
from mandorla.core.tune.suggestion import CHECKED, NOT_PROVED
from tests.core.asked import asked, evaluated
from tests.core.bundles import small_bundle
from tests.core.solids import block, stl


@pytest.fixture(autouse=True)
def short_proofs(monkeypatch: pytest.MonkeyPatch) -> None:
    """Suggestions are looked for and proved for some seconds only; what is not proved by then is said to be so."""
    monkeypatch.setattr(suggestions, "BUDGET", 8.0)
    monkeypatch.setattr(suggestions, "_CHEAPER", 2.0)


@pytest.fixture
def project(tmp_path: Path) -> Path:
    path = tmp_path / "test.mandorla"
    write_bundle(path, small_bundle())
    return path


def answer(capsys: pytest.CaptureFixture[str], *arguments: str, status: int | None = 0) -> dict[str, Any]:
    """One JSON answer; ``status`` is the exit status that is expected, None for any of a judgement's."""
    found = run([*arguments, "--json"])
    assert found == status if status is not None else found in (0, 1, 3)
    found = json.loads(capsys.readouterr().out)
    assert isinstance(found, dict)
    return found


def test_heatup_prints_si_values_with_units_and_status(project: Path, capsys: pytest.CaptureFixture[str]) -> None:
    found = answer(capsys, "heatup", str(project))
    assert found["status"] == "ready"
    assert found["surface"]["unit"] == "K"
    assert 350.0 < found["surface"]["low"] < found["surface"]["value"] < found["surface"]["high"] < 375.0
    assert found["ready_time"]["unit"] == "s"
    assert abs(found["balance_closure"]["value"]) < 1e-3
    assert {"leakage", "panel roof", "stored"} <= set(found["where_the_heat_went"])
    assert {"top, to the air", "underside", "edges"} <= set(found["from_the_bed"])
    assert 0.02 < found["duty_to_hold"]["value"] < 0.9
    steady = sum(v["value"] for v in found["steady_off_the_bed"].values())
    assert steady == pytest.approx(found["holding_power"]["value"], rel=1e-3)
    sampled = found["ready_time_sampled"]
    assert sampled["low"] <= sampled["median"] <= sampled["high"]
    assert abs(sampled["median"] / found["ready_time"]["value"] - 1.0) < 0.1
    assert found["unknowns"][0]["name"] == "sensor, bias and place"


def test_warp_prints_the_same_figures_as_the_core(project: Path, capsys: pytest.CaptureFixture[str]) -> None:
    found = answer(capsys, "warp", str(project), "--no-check", status=None)
    bundle = small_bundle()
    e = evaluated(bundle)
    assert e.warp is not None
    assert found["hold_margin"]["value"] == pytest.approx(e.warp.margin, rel=1e-12)
    assert found["released_lift"]["value"] == pytest.approx(e.warp.released_lift, rel=1e-12)
    assert found["status"] == e.state.value
    assert found["sentence"]
    assert {row["unit"] for row in found["limits"]} <= {"K", "W"}


def test_tune_prints_points(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    bundle = small_bundle()
    tiny = Bundle(
        bundle.project, {"block.stl": stl(block(60.0, 36.0, 12.0))}
    )  # four kinds of suggestions are run in full
    write_bundle(tmp_path / "tiny.mandorla", tiny)
    found = answer(capsys, "tune", str(tmp_path / "tiny.mandorla"), status=None)
    window = asked(tiny, keys.WINDOW)
    inside = (window.part_level >= 0.0) & (window.machine_level >= 0.0)
    assert found["status"] == found["judgement"]["status"]
    assert {w["source"] for w in found["judgement"]["ways"]} >= {"full"}
    assert (found["nearest"] is None) or inside.any()
    for s in (found[k] for k in ("nearest", "cheapest", "safest", "fastest")):
        if s is not None:
            assert s["proof"] in (CHECKED, NOT_PROVED)
            assert all(a.startswith("--set settings.") for a in s["set"])
            units = {name: v["unit"] for name, v in s["settings"].items()}
            assert units == dict.fromkeys(("bed_first", "bed_rest", "chamber"), "K") | {
                "soak_time": "s",
                "fan": "1",
                "side_fan": "1",
            }
    assert found["points"] == [len(window.y), len(window.x)]
    assert found["present"]["bed"]["value"] == pytest.approx(bundle.project.settings.bed_first)


def test_set_takes_si_or_a_named_unit(project: Path, capsys: pytest.CaptureFixture[str]) -> None:
    bare = answer(capsys, "heatup", str(project), "--set", "settings.bed_first=353.15")
    named = answer(capsys, "heatup", str(project), "--set", "settings.bed_first=80degC")
    assert bare["surface"]["value"] == pytest.approx(named["surface"]["value"])
    base = answer(capsys, "heatup", str(project))
    assert named["surface"]["value"] < base["surface"]["value"] - 10.0


@pytest.mark.parametrize(
    "edit", ["settings.bed_first=hot", "settings.nothing=3", "settings.fan", "rig.bed.layers.0.thickness=-1mm"]
)
def test_refused_edits_end_with_two_and_a_reason(project: Path, capsys: pytest.CaptureFixture[str], edit: str) -> None:
    before = project.read_bytes()
    assert run(["heatup", str(project), "--set", edit, "--json"]) == 2
    out, err = capsys.readouterr()
    found = json.loads(out)
    assert found["status"] == "error"
    assert found["code"] == "input"
    assert err.startswith("mandorla: ")
    assert project.read_bytes() == before


def test_missing_and_broken_files_end_with_two(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert run(["heatup", str(tmp_path / "none.mandorla")]) == 2
    assert "does not exist" in capsys.readouterr().err
    (tmp_path / "bad.mandorla").write_bytes(b"PK\x03\x04 broken")
    assert run(["warp", str(tmp_path / "bad.mandorla"), "--json"]) == 2
    assert json.loads(capsys.readouterr().out)["code"] == "project-file"


def test_without_a_part_warp_says_so(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    path = tmp_path / "empty.mandorla"
    write_bundle(path, Bundle(small_bundle().project.model_copy(update={"part": None}), {}))
    assert run(["warp", str(path)]) == 2
    assert "no part" in capsys.readouterr().err
    assert run(["heatup", str(path)]) == 0


def test_text_output_reads_like_an_answer(project: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert run(["warp", str(project), "--no-check"]) == (
        1 if evaluated(small_bundle()).judgement.whole is State.FAILS else 0
    )
    text = capsys.readouterr().out
    assert text.splitlines()[0].endswith(".")
    assert "hold margin" in text
    assert "mm" in text


def test_report_has_a_few_pages_with_the_figures(
    project: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(suggestions, "BUDGET", 0.0)  # what checks say is tested where suggestions are
    target = tmp_path / "report.pdf"
    assert run(["report", str(project), "-o", str(target)]) == 0
    assert "written" in capsys.readouterr().out
    reader = PdfReader(target)
    assert 3 <= len(reader.pages) <= 7
    text = "\n".join(page.extract_text() for page in reader.pages)
    bundle = small_bundle()
    e = evaluated(bundle)
    assert e.warp is not None
    results = Results(bundle)
    results.get(keys.SETTINGS_CHECK)
    for wanted in (
        "Test project",
        "Hold margin",
        margin_text(e.warp.margin),
        headline(results.get(results.judgement_key()))[:40],
        "certifies nothing",
        "Magnet".lower(),
        "°C",
    ):
        assert wanted in text, wanted
    assert "□" not in text


def test_no_page_of_the_demos_report_holds_a_line_or_two(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(suggestions, "BUDGET", 0.0)  # how pages are filled does not hang on proofs
    whole = sample("boathouse")
    source, files = sample_part("lamp-box")
    bundles = {
        "winch-cradle": whole,
        "lamp-box": Bundle(whole.project.model_copy(update={"part": source}), {**whole.originals, **files}),
    }
    for name, bundle in bundles.items():
        write_report(tmp_path / f"{name}.pdf", Results(bundle), check=False)
        pages = [page.extract_text() for page in PdfReader(tmp_path / f"{name}.pdf").pages]
        assert len(pages) <= 7, name
        assert min(len(text.splitlines()) for text in pages) > 12, name
        assert "certifies nothing" in pages[0], "the caution stands where the decision is read"


def test_pinned_scenarios_stand_in_the_report_what_differs_first(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(suggestions, "BUDGET", 0.0)
    bundle = small_bundle()
    p = bundle.project
    warm = Scenario(name="Warm", settings=p.settings.model_copy(update={"chamber": 333.15}), process=p.process)
    write_report(
        tmp_path / "r.pdf", Results(Bundle(p.model_copy(update={"scenarios": (warm,)}), bundle.originals)), check=False
    )
    text = "\n".join(page.extract_text() for page in PdfReader(tmp_path / "r.pdf").pages)
    part = text[text.index("Scenarios, what differs first") :]
    assert part.index("Chamber") < part.index("Bed, first layers"), "the chamber differs, the bed does not"
    assert "60 °C" in part
    assert "Warm" in part


def test_report_that_cannot_be_written_is_said(
    project: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    assert run(["report", str(project), "-o", str(tmp_path / "no" / "folder" / "r.pdf")]) == 2
    assert "cannot be written" in capsys.readouterr().err


def test_commands_need_no_display_and_no_interface_library(project: Path) -> None:
    code = (
        "import sys; from mandorla.cli import run; code = run(sys.argv[1:]); "
        "bad = [m for m in sys.modules if m.split('.')[0] in ('PySide6', 'pyqtgraph', 'vtkmodules', 'matplotlib')]; "
        "assert not bad, bad; raise SystemExit(code)"
    )
    environment = {k: v for k, v in os.environ.items() if k not in ("DISPLAY", "QT_QPA_PLATFORM", "WAYLAND_DISPLAY")}
    done = subprocess.run(
        [sys.executable, "-c", code, "warp", str(project), "--json"],
        capture_output=True,
        text=True,
        env=environment,
        check=False,
    )
    assert done.returncode == 0, done.stderr
    assert json.loads(done.stdout)["status"]


def test_help_and_version(capsys: pytest.CaptureFixture[str]) -> None:
    for arguments in (["--help"], ["--version"], ["tune", "--help"]):
        with pytest.raises(SystemExit) as ended:
            run(arguments)
        assert ended.value.code == 0
    assert set(COMMANDS) == {
        "heatup",
        "check",
        "doctor",
        "explain",
        "fault",
        "verify",
        "fit",
        "warp",
        "tune",
        "energy",
        "strategies",
        "run",
        "cooldown",
        "log",
        "new",
        "levers",
        "optimum",
        "report",
        "sweep",
    }
    assert "mandorla 0." in capsys.readouterr().out


def test_input_error_carries_its_problems() -> None:
    error = InputError(
        "Bad.", problems=(Problem("settings.fan", "3", "0 to 1"), Problem("settings.bed", "x", "a number"))
    )
    assert error.code == "input"
    assert str(error).splitlines() == [
        "Bad.", "  - settings.fan: 3 is not accepted; 0 to 1", "  - settings.bed: x is not accepted; a number",
    ]  # fmt: skip


def test_fault_prints_what_happens(project: Path, capsys: pytest.CaptureFixture[str]) -> None:
    found = answer(capsys, "fault", str(project), "--fault", "relay-on", "--start", "cold")
    assert found["status"] == "fails"
    assert found["first_fuse_time"]["value"] is None
    assert found["events"][0]["time"]["unit"] == "s"
    assert "magnet" in found["damaged"]
    assert "certifies nothing" in found["cautions"]
    assert run(["fault", str(project), "--fault", "power-cut"]) == 0
    assert "no layer passes its rating" in capsys.readouterr().out
