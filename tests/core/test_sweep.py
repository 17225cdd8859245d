"""Sweeps: mistakes of a plan told at once, tables that go on after a kill, workers that die, a cluster on loopback, Parquet."""

from __future__ import annotations

import csv
import os
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import pytest

from mandorla.cli import run
from mandorla.core.errors import InputError
from mandorla.core.logbook.interchange import import_rows, rows_from_json
from mandorla.core.logbook.workshop import Workshop
from mandorla.core.project.samples import demo_logbook, sample
from mandorla.core.project.store import write_bundle
from mandorla.core.results.keys import EVALUATION
from mandorla.core.results.results import Results
from mandorla.core.sweep.plan import Task, read_plan, tasks_of
from mandorla.core.sweep.row import DIED, row_of
from mandorla.core.sweep.runners import on_processes
from mandorla.core.sweep.table import Table, columns_of, done_in, left_of
from tests.core.bundles import small_bundle
from tests.core.solids import block, stl

PLAN = """
projects = ["one.mandorla"]
parts = ["wide.stl"]

[[vary]]
path = "settings.bed_rest"
values = ["90 degC", 368.15]

[[vary]]
path = "settings.fan"
first = 0.0
last = 0.4
steps = 2
"""


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    write_bundle(tmp_path / "one.mandorla", small_bundle())
    (tmp_path / "wide.stl").write_bytes(stl(block(150.0, 80.0, 15.0)))
    (tmp_path / "plan.toml").write_text(PLAN, encoding="utf-8")
    return tmp_path


def echo(task: Task) -> dict[str, Any]:
    """A row without a computation."""
    return {"key": task.key, "status": "holds", "error": ""}


def deadly(task: Task) -> dict[str, Any]:
    """A worker that is killed by one of the rows each time."""
    if task.edits[0][1] == "killer":
        os.kill(os.getpid(), signal.SIGKILL)
    time.sleep(0.05)
    return echo(task)


def dies_once(task: Task) -> dict[str, Any]:
    """A worker that is killed the first time that it meets a row."""
    mark = Path(task.project)
    if task.edits[0][1] == "once" and not mark.exists():
        mark.write_text("met")
        os.kill(os.getpid(), signal.SIGKILL)
    return echo(task)


def tasks(*texts: str, project: str = "") -> list[Task]:
    return [Task(f"k{n}", project, "", 0.001, (("settings.fan", text),), "") for n, text in enumerate(texts)]


def test_a_plan_gives_every_combination_and_rows_are_those_of_the_project_edited(folder: Path) -> None:
    plan = read_plan(folder / "plan.toml")
    found = tasks_of(plan, folder)
    assert len(found) == 4
    assert len({t.key for t in found}) == 4
    assert found[1].edits == (("settings.bed_rest", "90 degC"), ("settings.fan", "0.4"))
    row = row_of(found[1])
    assert row["error"] == ""
    assert row["part"] == "wide.stl"
    own = row_of(Task("x", str(folder / "one.mandorla"), "", 0.001, (("settings.fan", "0.4"),), ""))
    bundle = small_bundle()
    project = bundle.project.model_copy(update={"settings": bundle.project.settings.model_copy(update={"fan": 0.4})})
    e = Results(type(bundle)(project, bundle.originals)).get(EVALUATION)
    assert own["probability_of_any"] == pytest.approx(e.judgement.anything)
    assert own["judged_by"] == "quick"
    assert e.energy is not None
    assert own["energy_J"] == pytest.approx(e.energy.total)
    assert own["energy_low_J"] < own["energy_J"] < own["energy_high_J"]
    refused = row_of(Task("y", str(folder / "one.mandorla"), "", 0.001, (("settings.bed_rest", "5000"),), ""))
    assert refused["status"] == "error"
    assert "5000" in refused["error"]


def test_keys_change_with_what_a_row_depends_on(folder: Path) -> None:
    plan = read_plan(folder / "plan.toml")
    before = [t.key for t in tasks_of(plan, folder)]
    (folder / "wide.stl").write_bytes(stl(block(151.0, 80.0, 15.0)))
    assert not set(before) & {t.key for t in tasks_of(plan, folder)}


def test_all_mistakes_of_a_plan_are_told_at_once_with_line_and_key(folder: Path) -> None:
    (folder / "bad.toml").write_text(
        'projects = ["one.mandorla"]\nprats = ["wide.stl"]\nfull = "finest"\n\n[[vary]]\npath = "settings.fan"\nvalues = [0.1]\n'
        "steps = 3\n\n[[vary]]\npth = 1\nvalues = [1]\n",
        encoding="utf-8",
    )
    with pytest.raises(InputError) as caught:
        read_plan(folder / "bad.toml")
    said = str(caught.value)
    assert "line 2, prats" in said
    assert "line 3, full" in said
    assert "line 5, vary.0" in said
    assert "line 11, vary.1.pth" in said
    assert "vary.1.path" in said
    (folder / "worse.toml").write_text(
        'projects = ["one.mandorla", "gone.mandorla"]\n[[vary]]\npath = "settings.fann"\nvalues = [0.1]\n[[vary]]\n'
        'path = "settings.bed_rest"\nvalues = ["90 degC", "warm", 9000]\n',
        encoding="utf-8",
    )
    with pytest.raises(InputError) as caught:
        read_plan(folder / "worse.toml")
    said = str(caught.value)
    assert "line 1, projects" in said
    assert "gone.mandorla" in said
    assert "line 3, vary.0.path" in said
    assert said.count("line 7, vary.1.values") == 2
    (folder / "torn.toml").write_text('projects = ["one.mandorla"\n[[', encoding="utf-8")
    with pytest.raises(InputError, match="line 2"):
        read_plan(folder / "torn.toml")


def test_a_table_goes_on_after_its_last_whole_row_and_refuses_another_plan(folder: Path) -> None:
    plan = read_plan(folder / "plan.toml")
    every = tasks_of(plan, folder)
    table = Table(folder / "out.csv", plan)
    table.add(echo(every[0]))
    table.add(echo(every[1]) | {"status": "error", "error": f"{DIED} 3 times"})
    table.close()
    with (folder / "out.csv").open("a") as file:
        file.write("half a r")
    done = done_in(folder / "out.csv", plan)
    assert done == {every[0].key}, "a row whose worker died is tried again"
    assert left_of(every, done) == every[1:]
    assert (folder / "out.csv").read_text().endswith("\n")
    (folder / "other.csv").write_text("a,b\n1,2\n")
    with pytest.raises(InputError, match="another plan"):
        done_in(folder / "other.csv", plan)
    assert columns_of(plan)[3:5] == ("settings.bed_rest", "settings.fan")


def test_a_worker_that_dies_is_tried_again_and_only_the_row_to_blame_is_given_up() -> None:
    rows = {r["key"]: r for r in on_processes(tasks("a", "killer", "b", "c", "d"), 2, deadly)}
    assert len(rows) == 5
    assert rows["k1"]["status"] == "error"
    assert str(rows["k1"]["error"]).startswith(DIED)
    assert all(rows[k]["status"] == "holds" for k in ("k0", "k2", "k3", "k4"))


def test_a_worker_that_dies_once_costs_nothing(tmp_path: Path) -> None:
    rows = list(on_processes(tasks("a", "once", "b", project=str(tmp_path / "met")), 2, dies_once))
    assert sorted(r["status"] for r in rows) == ["holds"] * 3


CLUSTER = """
import sys
from distributed import LocalCluster
from mandorla.cli import run

if __name__ == "__main__":
    with LocalCluster(
        n_workers=1, threads_per_worker=1, processes=False, protocol="tcp://", host="127.0.0.1", dashboard_address=":0"
    ) as cluster:
        sys.exit(run([*sys.argv[1:], "--cluster", cluster.scheduler_address]))
"""


def test_a_cluster_on_loopback_gives_the_same_rows(folder: Path) -> None:
    (folder / "cluster.py").write_text(CLUSTER, encoding="utf-8")  # a process of its own: its threads outlive it
    out = folder / "there.csv"
    command = [sys.executable, str(folder / "cluster.py"), "sweep", str(folder / "plan.toml"), "-o", str(out)]
    done = subprocess.run(command, capture_output=True, text=True, timeout=200, check=False)
    assert done.returncode == 0, done.stderr
    with out.open(newline="") as file:
        rows = {r["key"]: r for r in csv.DictReader(file)}
    for task in tasks_of(read_plan(folder / "plan.toml"), folder):
        here = row_of(task)
        assert {k: v for k, v in rows[task.key].items() if k != "seconds"} == {
            k: str(v) for k, v in here.items() if k != "seconds"
        }


def test_where_no_cluster_answers_it_is_told(folder: Path) -> None:
    command = [sys.executable, "-m", "mandorla", "sweep", str(folder / "plan.toml"), "-o", str(folder / "x.csv"), "--cluster",
               "tcp://127.0.0.1:9"]  # fmt: skip
    done = subprocess.run(command, capture_output=True, text=True, timeout=100, check=False)
    assert done.returncode == 2
    assert "No cluster answers at tcp://127.0.0.1:9" in done.stderr


def test_the_command_is_killed_goes_on_and_writes_parquet(folder: Path, capsys: pytest.CaptureFixture[str]) -> None:
    from pyarrow import parquet

    out = folder / "out.csv"
    command = [sys.executable, "-m", "mandorla", "sweep", str(folder / "plan.toml"), "-o", str(out), "--workers", "1"]
    killed = subprocess.Popen(command, start_new_session=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    until = time.monotonic() + 120.0
    while time.monotonic() < until and (not out.exists() or out.read_text().count("\n") < 2):
        time.sleep(0.02)
    os.killpg(killed.pid, signal.SIGKILL)
    killed.wait()
    first = out.read_text().splitlines()[1]
    target = folder / "out.parquet"
    assert run([*command[3:], "--parquet", str(target)]) == 0
    said = capsys.readouterr()
    assert "rows are there already" in said.err
    with out.open(newline="") as file:
        rows = list(csv.DictReader(file))
    assert out.read_text().splitlines()[1] == first
    assert sorted(r["key"] for r in rows) == sorted(t.key for t in tasks_of(read_plan(folder / "plan.toml"), folder))
    table = parquet.read_table(target)
    assert table.num_rows == 4
    assert table.column("energy_J").to_pylist() == pytest.approx([float(r["energy_J"]) for r in rows])
    assert run([*command[3:]]) == 0, "nothing is left to do"
    assert run(["sweep", str(folder / "gone.toml"), "-o", str(out)]) == 2


def test_rows_are_predicted_by_the_workshops_prints_like_everything_else(folder: Path, tmp_path: Path) -> None:
    """What warp says of a project with a logbook is what its row says, and a row changes its key with what prints teach."""
    shop = Workshop(tmp_path / "book.db")
    import_rows(shop.book, rows_from_json(demo_logbook(), "the demo"))
    bundle, project = sample("boathouse"), folder / "demo.mandorla"
    write_bundle(project, bundle)
    taught = Results(bundle, None, shop.experience()).get(EVALUATION).judgement.anything
    alone = Results(bundle).get(EVALUATION).judgement.anything
    assert taught != pytest.approx(alone, abs=1e-4)
    of = {
        book: row_of(Task("x", str(project), "", 0.001, (), "", book))["probability_of_any"]
        for book in ("", str(shop.book.path))
    }
    assert of[""] == pytest.approx(alone)
    assert of[str(shop.book.path)] == pytest.approx(taught)
    plan = read_plan(folder / "plan.toml")
    with_book, without = tasks_of(plan, folder, shop.book.path), tasks_of(plan, folder)
    assert not {t.key for t in with_book} & {t.key for t in without}
    assert {t.logbook for t in with_book} == {str(shop.book.path.resolve())}
