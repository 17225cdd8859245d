"""Kernels are never taken from the cache when anything that was built into them has changed."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

from mandorla.core import kernel_sources
from mandorla.core.kernel_sources import ASKED, digest, forget_older, kept_in


@pytest.fixture
def tree(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """Sources with a kernel, what it takes, and what it does not."""
    core = tmp_path / "core"
    (core / "air").mkdir(parents=True)
    (core / "air" / "numbers.py").write_text("COLD = 273.15\n")
    (core / "words.py").write_text("NAME = 'bed'\n")
    (core / "march.py").write_text(
        "from mandorla.core.air.numbers import COLD\n\n@compiled\ndef f(x):\n    return x + COLD\n"
    )
    monkeypatch.setattr(kernel_sources, "_CORE", core)
    digest.cache_clear()
    yield core
    digest.cache_clear()


def now() -> str:
    digest.cache_clear()
    return digest()


def test_what_kernels_are_made_from_counts_and_nothing_else(tree: Path) -> None:
    first = now()
    assert now() == first
    (tree / "words.py").write_text("NAME = 'plate'\n")
    assert now() == first
    (tree / "air" / "numbers.py").write_text("COLD = 273.16\n")
    changed = now()
    assert changed != first
    (tree / "march.py").write_text((tree / "march.py").read_text() + "\n")
    assert now() not in (first, changed)


def test_the_folder_is_this_states_own_and_is_not_nested_by_children(tree: Path, tmp_path: Path) -> None:
    asked = kept_in(str(tmp_path / "asked"))
    assert asked.parent.parent == tmp_path / "asked"
    assert asked.name == digest()
    assert kept_in(str(asked)) == asked
    assert kept_in("").is_relative_to(tree)


def test_older_states_are_forgotten(tree: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    own = kept_in(str(tmp_path / "asked"))
    for k, name in enumerate(("a", "b", "c", "d", digest())):
        (own.parent / name).mkdir(parents=True)
        os.utime(own.parent / name, (1e9 + 10 * k, 1e9 + 10 * k))
    os.utime(own, (1.0, 1.0))  # the oldest of all, and in use
    monkeypatch.setenv(ASKED, str(own))
    forget_older()
    assert {p.name for p in own.parent.iterdir()} == {"b", "c", "d", own.name}


def test_a_kernel_sees_a_change_of_what_was_built_into_it(tmp_path: Path) -> None:
    """The compiler by itself would not: two programs, a constant changed between them."""
    core = tmp_path / "mandorla" / "core"
    core.mkdir(parents=True)
    shipped = Path(kernel_sources.__file__).parent
    for folder in (core, core.parent):
        (folder / "__init__.py").write_text("")
    for name in ("compiled.py", "kernel_sources.py"):
        (core / name).write_text((shipped / name).read_text())
    (core / "inner.py").write_text(
        "from mandorla.core.compiled import compiled\n\n@compiled\ndef g(x):\n    return x + 1.0\n"
    )
    (core / "outer.py").write_text(
        "from mandorla.core.compiled import compiled\nfrom mandorla.core.inner import g\n\n"
        "@compiled\ndef f(x):\n    return g(x) * 10.0\n"
    )
    environment = {k: v for k, v in os.environ.items() if k != ASKED} | {"PYTHONPATH": str(tmp_path)}

    def answer() -> float:
        code = "from mandorla.core.outer import f; print(f(1.0))"
        return float(
            subprocess.run(
                [sys.executable, "-c", code], env=environment, capture_output=True, text=True, check=True
            ).stdout
        )

    assert answer() == 20.0
    (core / "inner.py").write_text(
        "from mandorla.core.compiled import compiled\n\n@compiled\ndef g(x):\n    return x + 2.0\n"
    )
    assert answer() == 30.0
