"""Work is never lost: how a file is replaced, through which link, with which mode; which copies of killed windows are offered."""

from __future__ import annotations

import json
import os
import stat
import subprocess
import sys
import time
from pathlib import Path

import pytest

from mandorla.cli import run
from mandorla.core.errors import InputError, LinkedFileError, ProjectFileError
from mandorla.core.project.atomic import Linked, stamp_of, sweep, write_atomically
from mandorla.core.project.changes import changes
from mandorla.core.project.open_notes import note_of, opened_by, say_closed, say_open, still_open
from mandorla.core.project.paths import set_value
from mandorla.core.project.recovery import Autosave, discard, find_recoverable, recover, started_at
from mandorla.core.project.samples import sample
from mandorla.core.project.store import Bundle, read_bundle, write_bundle
from mandorla.core.units import celsius
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


@pytest.mark.parametrize("linked", ["refuse", "apart", "together"])
def test_a_file_with_several_names_is_refused_or_written_as_asked(tmp_path: Path, linked: Linked) -> None:
    file, other = tmp_path / "one", tmp_path / "other"
    file.write_bytes(b"old and long")
    os.link(file, other)
    if linked == "refuse":
        with pytest.raises(LinkedFileError, match="one file with 2 names"):
            write_atomically(file, b"new")
        assert file.read_bytes() == b"old and long"
    else:
        write_atomically(file, b"new", linked=linked)
        assert file.read_bytes() == b"new"
        assert other.read_bytes() == (b"new" if linked == "together" else b"old and long")
    assert sorted(p.name for p in tmp_path.iterdir()) == ["one", "other"], "nothing is left beside it"


@pytest.mark.skipif(os.geteuid() != 0, reason="only the superuser gives files away")
def test_the_owner_of_a_replaced_file_is_kept(tmp_path: Path) -> None:
    file = tmp_path / "theirs"
    file.write_bytes(b"old")
    os.chown(file, 12345, 23456)
    write_atomically(file, b"new")
    found = file.stat()
    assert (found.st_uid, found.st_gid) == (12345, 23456)
    assert file.read_bytes() == b"new"


def test_recovery_copies_are_private(tmp_path: Path) -> None:
    keeper = Autosave(tmp_path / "recovery")
    keeper.keep(small_bundle(), None)
    kept = list((tmp_path / "recovery").iterdir())
    assert len(kept) == 2
    assert {stat.S_IMODE(p.stat().st_mode) for p in kept} == {0o600}
    assert stat.S_IMODE((tmp_path / "recovery").stat().st_mode) == 0o700


def test_what_a_kill_left_half_written_is_swept_and_nothing_else(tmp_path: Path) -> None:
    gone, mine, young, other = (
        tmp_path / f".p.mandorla.{number}.abc{k}.part" for k, number in enumerate((4194311, os.getpid(), 4194311, "x"))
    )
    for path in (gone, mine, young, other, tmp_path / "keep.part"):
        path.write_bytes(b"half")
    for path in (gone, mine, other, tmp_path / "keep.part"):
        os.utime(path, (1e9, 1e9))
    assert sweep(tmp_path) == 1
    assert not gone.exists()
    assert all(p.exists() for p in (mine, young, other, tmp_path / "keep.part"))
    os.utime(young, (1e9, 1e9))
    Autosave(tmp_path)
    assert not young.exists(), "a window sweeps its recovery folder at its start"


def test_a_note_tells_who_has_a_file_open_and_holds_only_while_they_run(tmp_path: Path) -> None:
    file = tmp_path / "p.mandorla"
    write_bundle(file, small_bundle())
    say_open(file)
    assert opened_by(file) is None, "oneself is nobody else"
    note = note_of(file)
    (mine,) = json.loads(note.read_text(encoding="utf-8"))["open"]
    assert mine["pid"] == os.getpid()
    del mine["seen"]  # as an older version wrote it: one alone, seen when the file was written
    for change, found in (
        ({"pid": 4194311}, False), ({"pid": 1, "started": started_at(1)}, True), ({"pid": 1, "started": "1"}, False),
        ({"host": "elsewhere"}, True), ({"host": "elsewhere", "pid": -4}, False), ({"since": "nan"}, False),
        ({"user": None}, False),
    ):  # fmt: skip
        data = mine | {"started": ""} | change
        if data["user"] is None:
            del data["user"]
        note.write_text(json.dumps(data), encoding="utf-8")
        assert (opened_by(file) is not None) == found, change
    note.write_text(json.dumps(mine | {"host": "elsewhere"}), encoding="utf-8")
    say_closed(file)
    assert note.exists(), "somebody else's note stays"
    os.utime(note, (1e9, 1e9))
    assert opened_by(file) is None, "half a day without a word: gone"
    for spoilt in (b"", b"{", b"[]", b"\xff", b"x" * 10000):
        note.write_bytes(spoilt)
        assert opened_by(file) is None
    say_open(file)
    say_closed(file)
    assert not note.exists()


def test_of_several_windows_each_takes_only_its_own_word_away(tmp_path: Path) -> None:
    file = tmp_path / "p.mandorla"
    write_bundle(file, small_bundle())
    script = (
        "import sys; from pathlib import Path; from mandorla.core.project import open_notes as n; p = Path(sys.argv[1])\n"
        "n.say_open(p); print('open', flush=True); sys.stdin.readline(); n.still_open(p); n.say_closed(p)"
    )
    say_open(file)
    with subprocess.Popen(
        [sys.executable, "-c", script, str(file)], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    ) as other:
        assert other.stdout is not None
        assert other.stdin is not None
        assert other.stdout.readline() == "open\n"
        found = opened_by(file)
        assert found is not None
        assert found.pid == other.pid
        still_open(file)
        say_closed(file)
        assert opened_by(file) == found, "the other one is still there"
        say_open(file)
        other.stdin.write("\n")
        other.stdin.close()
        other.wait(30)
    assert opened_by(file) is None
    assert note_of(file).exists(), "one's own word stays when the other goes"
    say_closed(file)
    assert not note_of(file).exists()


def test_what_changed_is_said_field_by_field(tmp_path: Path) -> None:
    before = small_bundle().project
    after = before.model_copy(
        update={
            "name": "Other", "settings": before.settings.model_copy(update={"bed_rest": celsius(80.0), "fan": 0.25}),
            "rig": before.rig.model_copy(update={"bed": before.rig.bed.model_copy(update={"width": 0.31})}),
        }
    )  # fmt: skip
    said = changes(before, after)
    assert any(line.startswith("Bed, rest: ") and line.endswith("→ 80.0 °C") for line in said)
    assert any(line.endswith("→ 25.0 %") for line in said)
    assert any("→ “Other”" in line for line in said)
    assert any("310 mm" in line for line in said)
    assert len(said) == 4
    assert changes(before, before) == ()
