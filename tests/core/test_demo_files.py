"""The demo that ships is what its script makes: the start command runs that script first."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

from mandorla.core.project.samples import CASES
from mandorla.core.project.store import read_bundle

ROOT = Path(__file__).resolve().parents[2]
SHIPPED = ROOT / "src" / "mandorla" / "data" / "demo"


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> Path:
    target = tmp_path_factory.mktemp("demo")
    done = subprocess.run(
        [sys.executable, str(ROOT / "tools" / "make_demo.py"), str(target)], capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr
    return target


@pytest.mark.parametrize("name", ["boathouse", "windowsill", "kiln", *(f"cases/{key}" for key in CASES)])
def test_the_demo_projects_are_what_their_script_makes(made: Path, name: str) -> None:
    now, shipped = (read_bundle(folder / f"{name}.mandorla") for folder in (made, SHIPPED))
    assert now.project == shipped.project
    assert now.originals == shipped.originals


def test_the_demo_parts_are_what_their_script_makes(made: Path) -> None:
    names = sorted(p.name for p in (SHIPPED / "parts").iterdir())
    assert sorted(p.name for p in (made / "parts").iterdir()) == names
    for name in names:
        assert (made / "parts" / name).read_bytes() == (SHIPPED / "parts" / name).read_bytes(), name
