"""A computation shared by two processes is the computation alone, whatever becomes of the helper."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest

from mandorla.core import second_core
from mandorla.core.errors import Cancelled, InputError
from mandorla.core.project.samples import sample
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.results.tune import ground_of
from mandorla.core.second_core import on_two_cores
from mandorla.core.tune.axes import axes_of
from mandorla.core.tune.window import compute_window

two_cores = pytest.mark.skipif(len(os.sched_getaffinity(0)) < 2, reason="this machine has one core")
PATIENCE = 60.0


@pytest.fixture
def helper() -> Iterator[None]:
    """A helper that stands by, and is gone afterwards."""
    second_core.allow(__name__)
    assert second_core.ready(PATIENCE)
    yield
    second_core.forbid()


def scaled(factor: float, item: int) -> tuple[float, int]:
    """A piece that takes a moment, with who did it."""
    time.sleep(0.02)
    return factor * item, os.getpid()


def refuses(_: float, item: int) -> int:
    """A piece of which one is refused."""
    if item == 7:
        raise InputError("seven cannot be computed")
    return item


def dies_elsewhere(program: int, item: int) -> int:
    """A piece that kills whoever is not the program."""
    if os.getpid() != program:
        os.kill(os.getpid(), signal.SIGKILL)
    time.sleep(0.1)
    return item * item


@two_cores
def test_both_processes_work_and_the_order_is_that_of_the_items(helper: None) -> None:
    found = on_two_cores(scaled, 0.5, list(range(40)))
    assert [value for value, _ in found] == [0.5 * k for k in range(40)]
    workers = [pid for _, pid in found]
    assert workers[0] == os.getpid()
    assert len(set(workers)) == 2
    assert 8 <= workers.count(os.getpid()) <= 32


def test_without_leave_no_helper_is_started() -> None:
    second_core.forbid()
    assert not second_core.ready(0.1)
    assert {pid for _, pid in on_two_cores(scaled, 1.0, [1, 2, 3])} == {os.getpid()}


@two_cores
def test_a_refusal_is_raised_as_it_would_be_alone_and_the_helper_lives_on(helper: None) -> None:
    with pytest.raises(InputError, match="seven"):
        on_two_cores(refuses, 1.0, list(range(8)))  # the last piece is the helper's
    with pytest.raises(InputError, match="seven"):
        on_two_cores(refuses, 1.0, [7, 1, 2, 3])
    assert len({pid for _, pid in on_two_cores(scaled, 1.0, list(range(20)))}) == 2


@two_cores
def test_a_helper_that_is_killed_leaves_the_result_whole_and_another_one_comes(helper: None) -> None:
    items = list(range(12))
    assert on_two_cores(dies_elsewhere, os.getpid(), items) == [k * k for k in items]
    assert second_core.ready(PATIENCE)
    assert len({pid for _, pid in on_two_cores(scaled, 1.0, list(range(20)))}) == 2


@two_cores
def test_after_three_helpers_have_died_the_program_works_alone(helper: None) -> None:
    for _ in range(3):
        second_core.ready(PATIENCE)
        on_two_cores(dies_elsewhere, os.getpid(), list(range(6)))
    assert not second_core.ready(PATIENCE)
    assert {pid for _, pid in on_two_cores(scaled, 1.0, [1, 2, 3])} == {os.getpid()}


@two_cores
def test_a_stop_is_heeded_at_the_next_piece(helper: None) -> None:
    def told(done: int) -> None:
        if done >= 5:
            raise Cancelled("stopped")

    began = time.monotonic()
    with pytest.raises(Cancelled):
        on_two_cores(scaled, 1.0, list(range(500)), told)
    assert time.monotonic() - began < 5.0
    assert [value for value, _ in on_two_cores(scaled, 2.0, [1, 2, 3])] == [2.0, 4.0, 6.0]


@two_cores
def test_the_helper_ends_with_its_program_even_when_that_is_killed(tmp_path: Path) -> None:
    script = tmp_path / "program.py"
    script.write_text(
        "import os, time\n"
        "from mandorla.core import second_core\n"
        "from mandorla.core.second_core import on_two_cores\n"
        "from tests.core.test_second_core import scaled\n"
        "if __name__ == '__main__':\n"
        "    second_core.allow('tests.core.test_second_core'); second_core.ready(60)\n"
        "    print(*{pid for _, pid in on_two_cores(scaled, 1.0, list(range(20)))} - {os.getpid()}, flush=True)\n"
        "    time.sleep(60)\n"
    )
    path = os.pathsep.join(p for p in [str(Path(__file__).parents[2]), *sys.path] if p)
    program = subprocess.Popen(
        [sys.executable, str(script)], stdout=subprocess.PIPE, text=True, env={**os.environ, "PYTHONPATH": path}
    )
    assert program.stdout is not None
    with program.stdout:
        pid = int(program.stdout.readline())
        program.kill()
        program.wait()
    end = time.monotonic() + 30.0
    while Path(f"/proc/{pid}/cmdline").exists() and Path(f"/proc/{pid}/cmdline").read_bytes():
        assert time.monotonic() < end, "the helper outlives its program"
        time.sleep(0.1)


@two_cores
def test_a_map_of_two_cores_is_the_map_of_one_to_the_last_digit(helper: None) -> None:
    bundle = sample("boathouse")
    results = Results(bundle)
    ground = ground_of(bundle, results.get(keys.EVALUATION), results.get(keys.GEOMETRY))
    for names in (("bed", "fan"), ("brim", "grip")):  # settings, and a part prepared anew
        axes = axes_of(names, ground.setup, from_file=False)
        shared = compute_window(ground, axes, at_once=True)
        second_core.forbid()
        alone = compute_window(ground, axes, at_once=True)
        second_core.allow(__name__)
        second_core.ready(PATIENCE)
        for name in ("chance", "margin", "lift", "crack", "energy", "duration", "cost", "tightest"):
            assert np.array_equal(getattr(shared, name), getattr(alone, name), equal_nan=True), name
