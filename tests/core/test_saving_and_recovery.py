"""Work is never lost: how a file is replaced, through which link, with which mode; which copies of killed windows are offered."""

from __future__ import annotations

import json
import os
import stat
import time
from pathlib import Path

import pytest

from mandorla.cli import run
from mandorla.core.errors import InputError, ProjectFileError
from mandorla.core.project.paths import set_value
from mandorla.core.project.recovery import Autosave, discard, find_recoverable, recover, started_at
from mandorla.core.project.samples import sample
from mandorla.core.project.store import Bundle, read_bundle, stamp_of, write_atomically, write_bundle
from tests.core.bundles import small_bundle


def test_a_symbolic_link_stays_and_its_target_is_replaced(tmp_path: Path) -> None:
    target, link = tmp_path / "real.mandorla", tmp_path / "link.mandorla"
    write_bundle(target, small_bundle("Old"))
    link.symlink_to(target)
    write_bundle(link, small_bundle("New"))
    assert link.is_symlink()
    assert read_bundle(target).project.name == "New"


def test_the_mode_of_a_replaced_file_is_kept_and_a_new_one_follows_the_mask(tmp_path: Path) -> None:
    path = tmp_path / "p.mandorla"
    write_bundle(path, small_bundle())
    mask = os.umask(0)
    os.umask(mask)
    assert stat.S_IMODE(path.stat().st_mode) == 0o666 & ~mask
    path.chmod(0o640)
    write_bundle(path, small_bundle("Again"))
    assert stat.S_IMODE(path.stat().st_mode) == 0o640


@pytest.mark.parametrize("kind", ["pipe", "folder", "device"])
def test_what_is_no_file_is_not_replaced(tmp_path: Path, kind: str) -> None:
    path = tmp_path / "there"
    if kind == "pipe":
        os.mkfifo(path)
    elif kind == "folder":
        path.mkdir()
    else:
        path.symlink_to("/dev/null")
    with pytest.raises(ProjectFileError, match="no ordinary file"):
        write_atomically(path, b"data")
    assert os.listdir(tmp_path) == ["there"]


def test_a_report_that_cannot_be_put_in_place_leaves_nothing_behind(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    project, out = tmp_path / "p.mandorla", tmp_path / "out"
    out.mkdir()
    write_bundle(project, small_bundle())

    def refuse(*_: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "replace", refuse)
    assert run(["report", str(project), "-o", str(out / "r.pdf"), "--no-check"]) == 2
    assert "No space left" in capsys.readouterr().err
    assert os.listdir(out) == []


def test_a_report_onto_a_device_is_refused(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    project = tmp_path / "p.mandorla"
    write_bundle(project, small_bundle())
    assert run(["report", str(project), "-o", "/dev/null"]) == 2
    assert "no ordinary file" in capsys.readouterr().err
    assert stat.S_ISCHR(Path("/dev/null").stat().st_mode)


@pytest.mark.parametrize("lost", ["winch-cradle.stl", "measurement"])
def test_a_bundle_that_could_not_be_read_again_is_not_written(tmp_path: Path, lost: str) -> None:
    bundle = sample("boathouse")
    gone = lost if lost in bundle.originals else next(iter(sorted(bundle.project.measurements.originals())))
    broken = Bundle(bundle.project, {k: v for k, v in bundle.originals.items() if k != gone})
    path = tmp_path / "p.mandorla"
    with pytest.raises(InputError, match="lacks") as refused:
        write_bundle(path, broken)
    assert any(p.value == gone for p in refused.value.problems)
    assert not path.exists()


def test_another_file_on_disk_is_seen(tmp_path: Path) -> None:
    path = tmp_path / "p.mandorla"
    assert stamp_of(path) is None
    write_bundle(path, small_bundle())
    before = stamp_of(path)
    time.sleep(0.02)
    write_bundle(path, small_bundle("Other window"))
    assert stamp_of(path) != before


def left_behind(folder: Path, name: str, pid: int, started: str = "1") -> Path:
    """A copy as a process that is gone left it; returns its note."""
    autosave = Autosave(folder)
    autosave.keep(small_bundle(name), None)
    note = autosave.copy.with_suffix(".json")
    data = json.loads(note.read_text())
    data.update(pid=pid, started=started)
    note.write_text(json.dumps(data))
    return note


def test_a_number_used_again_by_another_program_is_not_the_owner(tmp_path: Path) -> None:
    """Process 1 always runs; the copy's owner had its number but began at another time."""
    left_behind(tmp_path, "Number used again", 1, started="12345")
    assert [f.project_name for f in find_recoverable(tmp_path)] == ["Number used again"]
    left_behind(tmp_path, "Really running", 1, started=started_at(1))
    assert [f.project_name for f in find_recoverable(tmp_path)] == ["Number used again"]


@pytest.mark.parametrize("text", ["", "{", "[]", '{"pid": "many", "at": null}', None])
def test_a_lost_or_damaged_note_does_not_hide_its_copy(tmp_path: Path, text: str | None) -> None:
    note = left_behind(tmp_path, "Kept", 999_999_999)
    copy = note.with_suffix(".mandorla")
    dead = copy.with_name(f"session-999999999-{time.time_ns()}.mandorla")
    copy.rename(dead)
    note.unlink()
    if text is not None:
        dead.with_suffix(".json").write_text(text)
    (found,) = find_recoverable(tmp_path)
    assert recover(found).project.name == "Kept"
    discard(found)
    assert os.listdir(tmp_path) == []


def test_all_copies_are_found_newest_first(tmp_path: Path) -> None:
    for i, name in enumerate(("First", "Second", "Third")):
        note = left_behind(tmp_path, name, 999_999_990 + i)
        data = json.loads(note.read_text())
        note.write_text(json.dumps({**data, "at": 1000.0 + i}))
    assert [f.project_name for f in find_recoverable(tmp_path)] == ["Third", "Second", "First"]


def test_a_note_is_whole_or_not_there(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A kill between the two writes leaves a copy without a note, which still counts; the note is never half a one."""
    autosave = Autosave(tmp_path)
    autosave.keep(small_bundle("Before"), None)
    note = autosave.copy.with_suffix(".json")
    before = note.read_text()
    monkeypatch.setattr(os, "replace", lambda *_: (_ for _ in ()).throw(OSError(5, "killed")))
    with pytest.raises(ProjectFileError):
        autosave.keep(small_bundle("After"), None)
    assert note.read_text() == before


def test_the_commands_set_no_project_that_lacks_its_files(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    path = tmp_path / "p.mandorla"
    write_bundle(path, small_bundle())
    assert run(["warp", str(path), "--set", "part.file=other.stl"]) == 2
    assert "lacks the mesh of its part" in capsys.readouterr().err
    assert set_value(small_bundle().project, "part.file", "other.stl").part is not None
