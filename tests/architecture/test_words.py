"""Words on screen: no private or poetic turns in anything that a person may read."""

from __future__ import annotations

import importlib.util
import re
from functools import cache
from pathlib import Path

import pytest

ROOT = Path(__file__).resolve().parents[2]
BANNED = (
    r"what it comes to", r"comes to nothing", r"at a glance", r"take(n)? it in\b", r"\btaken? in\b", r"off flat",
    r"\banew\b", r"\bnought\b", r"\blets? go\b", r"\bgives? out\b", r"come nearer", r"\bshall\b", r"at the least to", r"for good\b",
    r"\bevening\b", r"\blumps?\b", r"\bemulator\b", r"\bdict\b", r"\bNone\b is", r"\bTODO\b", r"lorem",
)  # fmt: skip


@cache
def visible() -> list[tuple[str, int, str]]:
    spec = importlib.util.spec_from_file_location("words", ROOT / "tools" / "words.py")
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return list(module.visible())


@pytest.mark.parametrize("turn", BANNED)
def test_no_banned_turn_is_on_screen(turn: str) -> None:
    found = [f"{file}:{line}: {text}" for file, line, text in visible() if re.search(turn, text, re.IGNORECASE)]
    assert found == []


def test_the_list_sees_what_is_on_screen() -> None:
    texts = {text for _, _, text in visible()}
    assert "Open part …" in texts
    assert any(text.startswith("Ready in {…}") for text in texts)
    assert len(texts) > 1000
