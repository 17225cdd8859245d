"""What every test gets: a home of its own, and a check that no thread is left running."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import settings

import mandorla  # before numpy: it chooses how many threads the linear algebra takes

assert mandorla.__version__
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
# the same examples on every run of CI; new ones at home, where a find can be looked at
settings.register_profile("ci", derandomize=True)
if os.environ.get("CI"):
    settings.load_profile("ci")


@pytest.fixture(autouse=True)
def own_home(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Preferences and recovery copies go to the test's own folder."""
    monkeypatch.setenv("MANDORLA_HOME", str(tmp_path / "home"))


@pytest.fixture(autouse=True)
def no_thread_is_left() -> Iterator[None]:
    """Fail a test that leaves a Python thread running."""
    before = set(threading.enumerate())
    yield
    until = time.monotonic() + 5.0
    while time.monotonic() < until:
        # threads of Qt's pools show up as dummies while they run Python code; they end with their job
        left = [
            t
            for t in threading.enumerate()
            if t not in before and t.is_alive() and not isinstance(t, threading._DummyThread)
        ]
        if not left:
            return
        time.sleep(0.02)
    pytest.fail(f"threads left running: {left}")
