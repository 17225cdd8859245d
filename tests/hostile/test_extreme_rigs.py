"""Some of the random projects with fields at their limits: an answer of finite figures, or a refusal in words."""

from __future__ import annotations

import importlib.util
import sys
from pathlib import Path
from types import ModuleType

import pytest

ROOT = Path(__file__).resolve().parents[2]


def benchmark() -> ModuleType:
    """The benchmark that draws them."""
    spec = importlib.util.spec_from_file_location("extreme_rigs", ROOT / "benchmarks" / "extreme_rigs.py")
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    sys.modules["extreme_rigs"] = module
    spec.loader.exec_module(module)
    return module


@pytest.mark.parametrize("n", [1, 2, 3, 5, 7, 8, 35, 36, 793])
def test_a_machine_at_its_limits_is_answered_or_refused(n: int) -> None:
    # 793: a foot that does not grip at all
    module = benchmark()
    found = module.outcome(1, n)
    assert found.kind in ("answered", "refused"), (found.where, found.changed)


def test_most_of_them_are_answered() -> None:
    module = benchmark()
    kinds = [module.outcome(2, n).kind for n in (11, 12, 13, 14)]
    assert kinds.count("answered") >= 2
