"""The house's rules: imports run one way (and a seeded violation is caught), files stay short, the public is documented."""

from __future__ import annotations

import ast
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).resolve().parents[2]
SOURCE = ROOT / "src" / "mandorla"
FILES = sorted(p for p in SOURCE.rglob("*.py"))


def contracts(source: Path, folder: Path) -> subprocess.CompletedProcess[str]:
    """Run import-linter on a source tree."""
    program = Path(sys.executable).parent / "lint-imports"
    return subprocess.run(
        [str(program), "--no-cache", "--config", str(folder / "pyproject.toml")], cwd=folder, capture_output=True, text=True,
        env={"PYTHONPATH": str(source), "PATH": "/usr/bin:/bin"}, check=False,
    )  # fmt: skip


def copied(tmp_path: Path) -> Path:
    shutil.copytree(ROOT / "src", tmp_path / "src", ignore=shutil.ignore_patterns("__pycache__", "*.egg-info", "data"))
    (tmp_path / "src" / "mandorla" / "data").mkdir()
    shutil.copy(ROOT / "pyproject.toml", tmp_path / "pyproject.toml")
    return tmp_path / "src"


SEEDS = (
    ("core/thermal/stack.py", "import PySide6.QtCore", "no interface"),
    ("core/units.py", "import mandorla.ui.preferences", "no interface"),
    ("core/part/sections.py", "import mandorla.core.warp.adhesion", "one way"),
    ("core/warp/adhesion.py", "import mandorla.core.tune.operating_point", "one way"),
    ("ui/widgets/console.py", "import mandorla.core.thermal.heatup", "window and commands compute nothing"),
    ("cli/heatup.py", "import mandorla.core.warp.estimate", "window and commands compute nothing"),
    ("ui/stages/rig/page.py", "import mandorla.core.measure.fit", "window and commands compute nothing"),
)


def test_every_seeded_violation_is_caught(tmp_path: Path) -> None:
    """One run of the contracts (the step “import contracts” of ``make test`` runs them on the tree as it is)."""
    source = copied(tmp_path)
    for file, line, _ in SEEDS:
        target = source / "mandorla" / file
        target.write_text(target.read_text(encoding="utf-8") + f"\n{line}\n", encoding="utf-8")
    done = contracts(source, tmp_path)
    assert done.returncode != 0
    broken = [row for row in done.stdout.splitlines() if "BROKEN" in row]
    said = done.stdout.replace("\n", " ")
    for file, line, contract in SEEDS:
        assert any(contract in row for row in broken), (file, done.stdout)
        module = "mandorla." + file.removesuffix(".py").replace("/", ".")
        assert f"{module} -> {line.removeprefix('import ')}" in re.sub(r"\s+", " ", said) or "PySide6" in line, (
            file,
            done.stdout,
        )


@pytest.mark.parametrize("path", FILES, ids=lambda p: str(p.relative_to(SOURCE)))
def test_files_stay_short(path: Path) -> None:
    assert len(path.read_text(encoding="utf-8").splitlines()) <= 600


@pytest.mark.parametrize(
    "path", [p for p in FILES if p.name != "__init__.py"], ids=lambda p: str(p.relative_to(SOURCE))
)
def test_modules_and_public_names_are_documented(path: Path) -> None:
    tree = ast.parse(path.read_text(encoding="utf-8"))
    assert ast.get_docstring(tree)
    missing = []
    for node in ast.walk(tree):
        if isinstance(node, ast.ClassDef) and not node.name.startswith("_") and not ast.get_docstring(node):
            missing.append(node.name)
    for node in tree.body:
        if isinstance(node, ast.FunctionDef) and not node.name.startswith("_") and not ast.get_docstring(node):
            missing.append(node.name)
    assert missing == []


def test_no_error_is_swallowed_by_a_broad_except() -> None:
    found = []
    for path in FILES:
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.ExceptHandler):
                names = [n.id for n in ast.walk(node.type) if isinstance(n, ast.Name)] if node.type else ["bare"]
                if {"bare", "Exception", "BaseException"} & set(names):
                    found.append(f"{path.name}:{node.lineno}")
    assert found == []


def test_the_interface_never_pumps_events_or_kills_threads() -> None:
    for path in (SOURCE / "ui").rglob("*.py"):
        text = path.read_text(encoding="utf-8")
        assert "processEvents" not in text
        assert ".terminate(" not in text
