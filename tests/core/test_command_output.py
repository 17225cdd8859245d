"""What the commands print as JSON keeps to the schema in the documents; text keeps to the units that were asked for."""

from __future__ import annotations

import importlib.util
import json
from pathlib import Path
from types import ModuleType

import pytest

from mandorla.cli import COMMANDS, run
from mandorla.core.project.samples import sample
from mandorla.core.project.store import Bundle, write_bundle
from tests.core.bundles import small_bundle
from tests.core.solids import block, stl

ROOT = Path(__file__).resolve().parents[2]
CALLS = {
    "heatup": ("small", ()),
    "check": ("small", ()),
    "fault": ("small", ("--fault", "relay-on")),
    "verify": ("boathouse", ()),
    "fit": ("windowsill", ("--unknown", "joint below Glass")),
    "warp": ("small", ()),
    "run": ("small", ("--no-check",)),
    "cooldown": ("small", ()),
    "levers": ("small", ()),
    "explain": ("small", ("hold_margin", "--no-check")),
    "optimum": ("small", ("--no-check", "--free", "fan")),
    "strategies": ("small", ("--no-check",)),
    "energy": ("small", ("--no-check", "--set", "rig.backup.kind=battery", "--set", "criteria.farm.machines=3")),
    "log": ("small", ("--no-check",)),  # its actions have a test of their own
    "tune": ("small", ("--no-check",)),  # checks run in full for a minute; what they print has its own test
}


@pytest.fixture(scope="module")
def files(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("projects")
    for name in ("boathouse", "windowsill"):
        write_bundle(folder / f"{name}.mandorla", sample(name))
    small = small_bundle()
    write_bundle(folder / "small.mandorla", small)
    write_bundle(folder / "tiny.mandorla", Bundle(small.project, {"block.stl": stl(block(40.0, 24.0, 8.0))}))
    return folder


ALLOWED = (0, 1, 3)  # a judgement, never a refusal


def maker() -> ModuleType:
    """The script that writes the schemas."""
    spec = importlib.util.spec_from_file_location("make_schema", ROOT / "tools" / "make_schema.py")
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


def test_the_schema_in_the_documents_is_current() -> None:
    stored = json.loads((ROOT / "docs" / "command-output.schema.json").read_text(encoding="utf-8"))
    assert stored == maker().command_schemas()
    assert set(stored) == set(COMMANDS) - {"report", "sweep"}


def test_every_command_has_its_call_here() -> None:
    assert set(CALLS) == {name for name, c in COMMANDS.items() if c.output is not None} - {
        "new",
        "doctor",
    }  # it makes its project; it is about none


@pytest.mark.parametrize("name", CALLS)
def test_what_is_printed_keeps_to_the_schema(name: str, files: Path, capsys: pytest.CaptureFixture[str]) -> None:
    which, arguments = CALLS[name]
    action = ("add",) if name == "log" else ()
    assert run([name, *action, str(files / f"{which}.mandorla"), *arguments, "--json"]) in ALLOWED
    output = COMMANDS[name].output
    assert output is not None
    output.model_validate_json(capsys.readouterr().out)


@pytest.mark.parametrize(
    "extra",
    [
        ("--full", "--resolution", "draft"),
        ("--full", "--chances", "--resolution", "draft"),
        ("--chances",),
        ("--why",),
        ("--shapes",),
    ],
)
def test_the_further_answers_of_warp_keep_to_it_too(
    extra: tuple[str, ...], files: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    assert run(["warp", str(files / "tiny.mandorla"), *extra, "--json"]) in ALLOWED
    output = COMMANDS["warp"].output
    assert output is not None
    output.model_validate_json(capsys.readouterr().out)


@pytest.mark.parametrize("name", ["heatup", "check", "warp", "tune", "verify", "fit", "fault"])
def test_text_keeps_to_the_units(name: str, files: Path, capsys: pytest.CaptureFixture[str]) -> None:
    which, arguments = CALLS[name]
    call = [name, str(files / f"{which}.mandorla"), *arguments]
    assert run(call) in ALLOWED
    metric = capsys.readouterr().out
    assert run([*call, "--units", "us"]) in ALLOWED
    american = capsys.readouterr().out
    assert "°F" not in metric
    assert " mm" not in american
    assert "°C" not in american
