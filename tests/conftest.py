"""What every test gets: a home of its own, and a check that no thread is left running."""

from __future__ import annotations

import contextlib
import gc
import inspect
import os
import pickle
import sys
import threading
import time
from collections import OrderedDict
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings

import mandorla  # before numpy: it chooses how many threads the linear algebra takes
from mandorla.core.results.key import Cost, Key
from mandorla.core.results.results import Results
from mandorla.core.runtime import RunContext

assert mandorla.__version__
AS_SHIPPED = {"BUDGET": 60.0, "_CHEAPER": 30.0}  # of the search for suggestions
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
# the same examples on every run of CI; new ones at home, where a find can be looked at
settings.register_profile("ci", derandomize=True)
if os.environ.get("CI"):
    settings.load_profile("ci")


# the last is what a test has maps computed with, see tests/ui/conftest.py
NODES_OF_MAPS: list[tuple[int, int]] = [(9, 9)]
BETWEEN_WORKERS: list[bool] = [
    False
]  # whether the other worker's results are taken and given, see what_it_computes_is_plain
WORTH_A_FILE = 0.7  # s that computing takes
LONGER = [line for line in Path(__file__).with_name("longer.txt").read_text().splitlines() if line.startswith("tests/")]
SHARED_COSTS = set(Cost)
SHARED_MOST = {Cost.QUICK: 400, Cost.SHORT: 160, Cost.BACKGROUND: 60, Cost.ON_DEMAND: 40}


class Shelf:
    """What one worker has computed for the other: a file for each result that took long."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        folder.mkdir(exist_ok=True)

    def _file(self, digest: tuple[bytes, tuple[int, int]]) -> Path:
        return self.folder / f"{digest[0].hex()}-{digest[1][0]}.pickle"

    def get(self, digest: tuple[bytes, tuple[int, int]]) -> tuple[bool, Any]:
        """Whether there is one, and it."""
        try:
            return True, pickle.loads(self._file(digest).read_bytes())
        except OSError:
            return False, None

    def put(self, digest: tuple[bytes, tuple[int, int]], found: Any) -> None:
        """Keep one, at once or not at all; what cannot be written is not shared."""
        file = self._file(digest)
        own = file.with_suffix(f".{os.getpid()}")
        with contextlib.suppress(pickle.PicklingError, TypeError, AttributeError):
            own.write_bytes(pickle.dumps(found))
            own.replace(file)


@pytest.fixture(autouse=True)
def what_it_computes_is_plain(request: pytest.FixtureRequest) -> Iterator[None]:
    """Results go from worker to worker in tests only that put nothing in the place of what computes."""
    test = request.node
    patches = "monkeypatch" in inspect.signature(test.function).parameters
    BETWEEN_WORKERS[-1] = not patches and test.get_closest_marker("usefixtures") is None
    yield
    BETWEEN_WORKERS[-1] = False


@pytest.fixture(scope="session", autouse=True)
def computed_once(tmp_path_factory: pytest.TempPathFactory) -> Iterator[None]:
    """What follows from a project is computed once a session: what another test has computed already gives its value at once.

    Windows still ask, wait and hear of it as they do for a person. Where a test has put something else in the place of what
    computes, nothing is shared.
    """
    base = tmp_path_factory.getbasetemp()
    files = Shelf((base.parent if "PYTEST_XDIST_WORKER" in os.environ else base) / "results")
    shared: dict[Cost, OrderedDict[Any, Any]] = {cost: OrderedDict() for cost in Cost}
    lock, compute = threading.Lock(), Results.get

    def shareable(key: Key[Any]) -> bool:
        """What a search for suggestions has to do with is shared only where its time is as shipped."""
        loaded = sys.modules.get("mandorla.core.results.suggestions")
        searched = {"suggestions", "openers", "window_through_runs"}
        return (
            key.name not in searched
            or loaded is None
            or all(getattr(loaded, name) == value for name, value in AS_SHIPPED.items())
        )

    def get(self: Results, key: Key[Any], run: RunContext | None = None) -> Any:
        if key.cost not in SHARED_COSTS or self.known(key) or not shareable(key):
            return compute(self, key, run)
        # a map of fewer nodes is another one
        digest, shelf = (self.digest(key), NODES_OF_MAPS[-1]), shared[key.cost]
        with lock:
            there = digest in shelf
            found = shelf[digest] if there else None
        if not there and BETWEEN_WORKERS[-1]:
            there, found = files.get(digest)
            if there:
                with lock:
                    shelf[digest] = found
        if not there:
            began = time.perf_counter()
            found = compute(self, key, run)
            if BETWEEN_WORKERS[-1] and time.perf_counter() - began > WORTH_A_FILE:
                files.put(digest, found)
            with lock:
                if shareable(key):
                    shelf[digest] = found
                while len(shelf) > SHARED_MOST[key.cost]:
                    shelf.popitem(last=False)
        self.kept.put(key.cost, digest[0], found)
        return found

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(Results, "get", get)
        yield


@pytest.fixture
def computed_anew() -> Iterator[None]:
    """Nothing is taken from another test."""
    kept = set(SHARED_COSTS)
    SHARED_COSTS.clear()
    yield
    SHARED_COSTS.update(kept)


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


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Mark the tests that ``make test`` leaves out; a name in the list that its file does not have is an error."""
    found = {item.nodeid: item for item in items}
    files = {name.split("::")[0] for name in found}
    whole = not any("::" in word for word in config.args)  # a single test was not asked for
    for name in LONGER:
        if name in found:
            found[name].add_marker(pytest.mark.long)
        elif whole and name.split("::")[0] in files:
            raise pytest.UsageError(f"tests/longer.txt: there is no {name}")


def pytest_collection_finish() -> None:
    """What all the tests are made of stays: a look for garbage does not go through it again after every window."""
    gc.collect()
    gc.freeze()
