"""Full runs kept in the project file: whole again when it is opened, known to be stale, refused when damaged."""

from __future__ import annotations

import io
import json
import zipfile
from dataclasses import fields
from pathlib import Path

import numpy as np
import pytest

from mandorla.cli import run as command
from mandorla.core.errors import InputError, ProjectFileError
from mandorla.core.project.models import MOST_RUNS
from mandorla.core.project.paths import set_value
from mandorla.core.project.store import Bundle, read_bundle, write_bundle
from mandorla.core.results import keys
from mandorla.core.results.kept_runs import belongs, decoded, encoded, entry_of, key_of, without
from mandorla.core.results.results import Results
from mandorla.core.warp.fe_result import FullRun
from tests.core.asked import SHARED
from tests.core.bundles import small_bundle
from tests.core.solids import block, stl

pytestmark = pytest.mark.usefixtures("computed_anew")

DRAFT = keys.FULL_RUN.of(resolution="draft", bodies="all")


def tiny_bundle() -> Bundle:
    return Bundle(small_bundle().project, {"block.stl": stl(block(40.0, 24.0, 8.0))})


@pytest.fixture(scope="module")
def run() -> FullRun:
    return Results(tiny_bundle(), SHARED).get(DRAFT)


def kept(bundle: Bundle, found: FullRun) -> Bundle:
    """The project with the run kept in it."""
    entry = entry_of(DRAFT, Results(bundle).digest(DRAFT), "2026-05-04", bundle.project, "It holds.")
    project = set_value(bundle.project, "runs", (*bundle.project.runs, entry))
    return Bundle(project, {**bundle.originals, entry.file: encoded(found)})


def never(*_: object) -> FullRun:
    raise AssertionError("it was simulated again")


def test_a_kept_run_comes_back_whole_and_is_not_simulated_again(
    run: FullRun, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    write_bundle(tmp_path / "k.mandorla", kept(tiny_bundle(), run))
    results = Results(read_bundle(tmp_path / "k.mandorla"))
    monkeypatch.setattr("mandorla.core.results.warp.simulate", never)
    assert not results.known(DRAFT)
    assert results.there(DRAFT) is not None
    found = results.get(DRAFT)
    for f in fields(FullRun):
        a, b = getattr(found, f.name), getattr(run, f.name)
        if f.name == "growth":
            assert all((x == y).all() for x, y in zip(a, b, strict=True))
        elif f.name == "voxels":
            assert (a.solid == b.solid).all()
            assert (a.size, a.origin, a.missed, a.rough) == (b.size, b.origin, b.missed, b.rough)
        elif f.name == "plate" and a is not None:
            assert all((x == y).all() for x, y in zip(a, b, strict=True))
        elif isinstance(a, np.ndarray):
            assert (a == b).all()
        else:
            assert a == b


def test_it_is_stale_once_the_project_or_the_program_is_another(run: FullRun, monkeypatch: pytest.MonkeyPatch) -> None:
    bundle = kept(tiny_bundle(), run)
    entry = bundle.project.runs[0]
    assert key_of(entry) == DRAFT
    assert belongs(entry, Results(bundle).digest(DRAFT))
    warmer = Bundle(set_value(bundle.project, "settings.bed_first", 371.0), bundle.originals)
    assert Results(warmer).in_file(DRAFT) is None
    assert Results(warmer).there(DRAFT) is None
    # it can still be looked at
    assert Results(warmer).get(keys.KEPT_RUN.of(run=entry.key)).printed_lift == run.printed_lift
    renamed = Bundle(set_value(bundle.project, "notes", "tried on Monday"), bundle.originals)
    assert Results(renamed).in_file(DRAFT) == entry
    monkeypatch.setattr("mandorla.core.results.kept_runs.__version__", "99.0")
    assert Results(bundle).in_file(DRAFT) is None


def test_a_damaged_one_is_told_and_computed_anew(run: FullRun) -> None:
    bundle = kept(tiny_bundle(), run)
    entry = bundle.project.runs[0]
    for data in (b"", b"PK\x03\x04 not an archive", bundle.originals[entry.file][:2000]):
        broken = Bundle(bundle.project, {**bundle.originals, entry.file: data})
        with pytest.raises(InputError, match="damaged"):
            Results(broken).get(keys.KEPT_RUN.of(run=entry.key))
        assert Results(broken).there(DRAFT) is None
    assert Results(broken).get(DRAFT).printed_lift == pytest.approx(run.printed_lift, rel=1e-9)
    with pytest.raises(InputError, match="no longer kept"):
        Results(bundle).get(keys.KEPT_RUN.of(run="run-9"))


def rewritten(data: bytes, **change: np.ndarray) -> bytes:
    with np.load(io.BytesIO(data)) as stored:
        arrays = {k: stored[k] for k in stored.files} | change
    out = io.BytesIO()
    np.savez(out, **arrays)
    return out.getvalue()


def test_arrays_that_do_not_fit_are_refused(run: FullRun) -> None:
    data = encoded(run)
    wrong = {
        "lift": run.lift[:, :2],
        "printed": run.printed[:-1],
        "solid": run.voxels.solid[0],
        "growth_planes": np.array([1]),
        "growth": np.zeros((0, 2, 2)),
        "about": np.frombuffer(b"{}", dtype=np.uint8),
        "cooled": np.full_like(run.cooled, np.nan),
    }
    for name, array in wrong.items():
        with pytest.raises(InputError, match="damaged"):
            decoded(rewritten(data, **{name: array}), "test")
    with pytest.raises(InputError, match="damaged"):  # an array of objects would run code when it is read
        decoded(rewritten(data, crack=np.array([{}], dtype=object)), "test")


def test_as_many_as_a_project_keeps_and_without_a_file_it_is_refused(run: FullRun, tmp_path: Path) -> None:
    bundle = tiny_bundle()
    for _ in range(MOST_RUNS):
        bundle = kept(bundle, run)
    assert len({r.file for r in bundle.project.runs}) == MOST_RUNS
    with pytest.raises(InputError, match="remove one"):
        kept(bundle, run)
    fewer = set_value(bundle.project, "runs", without(bundle.project, "run-3"))
    assert "run-3.npz" not in fewer.originals()
    assert kept(Bundle(fewer, bundle.originals), run).project.runs[-1].key == "run-3"
    write_bundle(tmp_path / "k.mandorla", kept(tiny_bundle(), run))
    with zipfile.ZipFile(tmp_path / "k.mandorla") as whole, zipfile.ZipFile(tmp_path / "l.mandorla", "w") as less:
        for name in whole.namelist():
            if not name.endswith(".npz"):
                less.writestr(name, whole.read(name))
    with pytest.raises(ProjectFileError, match="a full simulation"):
        read_bundle(tmp_path / "l.mandorla")


def test_the_command_keeps_a_run_and_finds_it_again(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    first, second = tmp_path / "a.mandorla", tmp_path / "b.mandorla"
    write_bundle(first, tiny_bundle())
    asked = ["--full", "--resolution", "draft", "--json"]
    assert command(["warp", str(first), *asked, "--keep", str(second)]) == 0
    fresh = json.loads(capsys.readouterr().out)
    assert command(["warp", str(second), *asked]) == 0
    again = json.loads(capsys.readouterr().out)
    assert fresh.pop("kept") == ""
    assert again.pop("kept") != ""
    assert again == fresh
    assert command(["warp", str(second), "--keep", str(first)]) == 2
    assert "--full" in capsys.readouterr().err
