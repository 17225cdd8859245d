"""What goes beside the program is valid and current; an installation says what it has; a report names nobody."""

from __future__ import annotations

import importlib.util
import io
import json
import os
import re
import shutil
import subprocess
import sys
import zipfile
from pathlib import Path
from types import ModuleType, SimpleNamespace

import pytest
from lxml import etree

from mandorla import __version__
from mandorla.cli import COMMANDS, run
from mandorla.core.installation import checks
from mandorla.core.installation.checks import crash_in_short, examine, report_bundle, without_names
from mandorla.core.installation.mark import is_warm
from mandorla.core.project.store import bundle_bytes
from tests.core.bundles import small_bundle

ROOT = Path(__file__).resolve().parents[2]
PACKAGING = ROOT / "packaging"
ID = "dev.mandorla.Mandorla"


def ran(*command: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(command, capture_output=True, text=True, check=False, cwd=ROOT)


@pytest.mark.parametrize(
    ("program", "arguments"),
    [
        ("desktop-file-validate", [str(PACKAGING / f"{ID}.desktop")]),
        ("appstreamcli", ["validate", "--no-net", str(PACKAGING / f"{ID}.metainfo.xml")]),
    ],
)
def test_the_desktops_files_are_valid(program: str, arguments: list[str]) -> None:
    if shutil.which(program) is None:
        pytest.skip(f"{program} is not on this machine")
    done = ran(program, *arguments)
    assert done.returncode == 0, done.stdout + done.stderr


def test_names_and_versions_agree() -> None:
    desktop = (PACKAGING / f"{ID}.desktop").read_text(encoding="utf-8")
    mime = etree.parse(PACKAGING / f"{ID}.xml")
    space = {"m": "http://www.freedesktop.org/standards/shared-mime-info"}
    kind = mime.find("m:mime-type", space).get("type")
    about = etree.parse(PACKAGING / f"{ID}.metainfo.xml")
    assert f"MimeType={kind};" in desktop
    assert f"Icon={ID}\n" in desktop
    assert about.findtext("id") == ID
    assert about.find("releases/release").get("version") == __version__
    assert etree.parse(ROOT / "src/mandorla/data/icon.svg").getroot().tag.endswith("svg")


def test_a_project_file_is_known_by_its_first_bytes() -> None:
    """The magic of the file type is that of what is written."""
    mime = etree.parse(PACKAGING / f"{ID}.xml")
    data = bundle_bytes(small_bundle())
    for match in mime.iter("{*}match"):
        wanted = match.get("value").encode().decode("unicode_escape").encode("latin-1")
        at = int(match.get("offset"))
        assert data[at : at + len(wanted)] == wanted


def test_man_page_and_completions_have_every_command(tmp_path: Path) -> None:
    done = ran(sys.executable, str(PACKAGING / "make_files.py"), str(tmp_path))
    assert done.returncode == 0, done.stderr
    page = (tmp_path / "mandorla.1").read_text(encoding="utf-8")
    for name in COMMANDS:
        assert f".SS\n{name}\n" in page
        assert name in (tmp_path / "mandorla.bash").read_text(encoding="utf-8")
        assert name in (tmp_path / "_mandorla").read_text(encoding="utf-8")
    if shutil.which("man") is not None:
        drawn = subprocess.run(
            ["man", "--warnings", "-E", "UTF-8", "-l", "-Tutf8", str(tmp_path / "mandorla.1")], capture_output=True, text=True,
            check=False, env={**os.environ, "MANPAGER": "cat"},
        )  # fmt: skip
        assert drawn.returncode == 0
        assert drawn.stderr.strip() == ""
    assert ran("bash", "-n", str(tmp_path / "mandorla.bash")).returncode == 0


@pytest.mark.parametrize("script", ["install.sh", "deb.sh"])
def test_scripts_are_sound(script: str) -> None:
    assert ran("bash", "-n", str(PACKAGING / script)).returncode == 0


def test_what_the_program_needs_is_locked() -> None:
    done = ran(sys.executable, "tools/make_runtime_lock.py", "--check")
    assert done.returncode == 0, done.stderr
    lock = (PACKAGING / "runtime.lock").read_text(encoding="utf-8")
    assert "numpy==" in lock
    assert "pytest==" not in lock
    assert all("--hash=sha256:" in entry for entry in lock.strip().split("\n") if entry.startswith("    "))


def test_the_doctor_finds_this_installation_good(capsys: pytest.CaptureFixture[str]) -> None:
    assert run(["doctor", "--json"]) == 0
    found = {row["what"]: row for row in json.loads(capsys.readouterr().out)["checks"]}
    for what in ("Mandorla", "Python", "Packages", "Data, fonts, demo", "Demo project", "State folder", "Display"):
        assert found[what]["verdict"] == "good", found[what]
    assert found["Numerics"]["verdict"] == "mind"
    assert not is_warm()


def test_the_doctor_names_what_is_wrong(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    real = checks.metadata.version

    def version(name: str) -> str:
        if name == "numpy":
            return "1.0"
        if name == "scipy":
            raise checks.metadata.PackageNotFoundError(name)
        return real(name)

    monkeypatch.setattr(checks.metadata, "version", version)
    blocked = tmp_path / "a file"
    blocked.write_text("", encoding="utf-8")
    monkeypatch.setenv("MANDORLA_HOME", str(blocked / "under it"))
    rows = {row.what: row for row in examine()}
    assert rows["Packages"].verdict == "bad"
    assert "numpy 1.0" in rows["Packages"].found
    assert "scipy is missing" in rows["Packages"].found
    assert rows["State folder"].verdict == "mind"
    assert rows["State folder"].remedy


def test_a_damaged_logbook_is_told(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    (tmp_path / "home").mkdir(exist_ok=True)
    (tmp_path / "home" / "logbook.db").write_bytes(b"SQLite format 3\0" + b"x" * 5000)
    rows = {row.what: row for row in examine()}
    assert rows["Logbook"].verdict == "bad"
    assert "rescue" in rows["Logbook"].remedy


CRASH = """Mandorla 0.2.0
Traceback (most recent call last):
  File "/home/anna/work/mandorla/core/units.py", line 12, in show
    text = secret_project
  File "/usr/lib/python3.11/json/__init__.py", line 3, in load
ValueError: /home/anna/Secret part.stl is wrong
"""


def test_the_bundle_for_a_report_names_nobody(tmp_path: Path) -> None:
    home = tmp_path / "home"
    home.mkdir(exist_ok=True)
    (home / "mandorla.log").write_text(
        "2026-01-02 WARNING mandorla.ui: “Secret part” in /home/anna/prints/secret.mandorla: 'anna' cannot\n",
        encoding="utf-8",
    )
    (home / "crash-1.txt").write_text(CRASH, encoding="utf-8")
    with zipfile.ZipFile(io.BytesIO(report_bundle(examine()))) as archive:
        texts = {name: archive.read(name).decode() for name in archive.namelist()}
    assert set(texts) == {"checks.json", "packages.txt", "log.txt", "crash-1.txt"}
    whole = "\n".join(texts.values())
    for secret in ("anna", "Secret", "secret", str(tmp_path)):
        assert secret not in whole
    assert texts["crash-1.txt"].splitlines() == [
        "mandorla/core/units.py:12 in show",
        "__init__.py:3 in load",
        "ValueError",
    ]
    assert "WARNING mandorla.ui" in texts["log.txt"]
    assert without_names("open “x” at /a/b c") == "open <name> at <path> c"
    assert crash_in_short("") == ""


def test_the_command_writes_the_bundle(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    assert run(["doctor", "--bundle", str(tmp_path / "report.zip")]) == 0
    assert zipfile.is_zipfile(tmp_path / "report.zip")
    assert "Packages" in capsys.readouterr().out
    assert run(["doctor", "--bundle", str(tmp_path / "no" / "report.zip")]) == 2


def supply() -> ModuleType:
    """The tool that looks at what the program is made of."""
    spec = importlib.util.spec_from_file_location("supply", ROOT / "tools" / "supply.py")
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


def test_the_bill_of_materials_names_everything_with_version_licence_and_hash(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("SOURCE_DATE_EPOCH", "1764000000")
    tool = supply()
    bill = tool.bill()
    assert bill == tool.bill(), "equal environments give equal bills"
    assert bill["metadata"]["timestamp"].startswith("2025-11-24")
    parts = {p["name"]: p for p in bill["components"]}
    assert {"numpy", "scipy", "pyside6-essentials", "vtk", "pydantic"} <= set(parts)
    for part in parts.values():
        assert part["hashes"], part["name"]
        assert all(re.fullmatch("[0-9a-f]{64}", h["content"]) for h in part["hashes"])
        assert part["licenses"][0]["license"]["name"] not in ("", "not stated", "not installed")
        assert part["purl"] == f"pkg:pypi/{part['name']}@{part['version']}"
    assert set(bill["dependencies"][0]["dependsOn"]) == {p["bom-ref"] for p in parts.values()}


def test_a_package_beside_the_lock_and_an_unknown_licence_are_told(monkeypatch: pytest.MonkeyPatch) -> None:
    tool = supply()
    lock = tool.locked()
    assert len(lock) > 50
    assert all(digests for _, digests in lock.values())
    version, digests = lock["numpy"]
    changed = {k: v for k, v in lock.items() if k != "scipy"} | {"numpy": ("0.0.1", ()), "mako": lock["mako"]}
    monkeypatch.setattr(tool, "locked", lambda: changed)
    licences = tool.licence_of
    monkeypatch.setattr(tool, "licence_of", lambda name: "All rights reserved" if name == "mako" else licences(name))
    monkeypatch.setattr(tool.subprocess, "run", lambda *a, **k: SimpleNamespace(returncode=1, stdout="x needs y\n"))
    said = tool.problems()
    assert f"numpy: {version} is installed, 0.0.1 is locked" in said
    assert "numpy: the lock has no hash of it" in said
    assert "scipy: is needed and not in the lock" in said
    assert any(line.startswith("scipy ") for line in tool.beside())
    assert "mako: licence “All rights reserved” is none that we know to ship" in said
    assert said[-1] == "x needs y"
    assert digests
