"""A power cut at any instant of a save: whatever of it had reached the disk, the old or the new file is there, whole.

What a save does is recorded (bytes written, flushes, renames, flushes of the folder); then, for a cut after each step, every state
that a disk may be left in is built: what was written and not flushed may be missing, cut short or full of noughts, a rename whose
folder was not flushed may have happened or not.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pytest

from mandorla.core.errors import MandorlaError
from mandorla.core.project import atomic
from mandorla.core.project.recovery import Autosave, find_recoverable, recover
from mandorla.core.project.store import Bundle, read_bundle, write_bundle
from tests.core.bundles import small_bundle


@dataclass
class Disk:
    """What has been done to a folder, step by step: ``("write", file)``, ``("flush", file)``, ``("rename", from, to)``,
    ``("flush folder",)``; the bytes that each file had when it was written."""

    steps: list[tuple[str, ...]] = field(default_factory=list)
    written: dict[str, bytes] = field(default_factory=dict)


@pytest.fixture
def disk(monkeypatch: pytest.MonkeyPatch) -> Disk:
    """Records what writing files does."""
    seen = Disk()

    class Recorded:
        """The module os, told on."""

        def __getattr__(self, name: str) -> Any:
            return getattr(os, name)

        def fsync(self, handle: int) -> None:
            path = os.readlink(f"/proc/self/fd/{handle}")
            if os.path.isdir(path):
                seen.steps.append(("flush folder",))
            else:
                seen.written[Path(path).name] = Path(path).read_bytes()
                seen.steps += [("write", Path(path).name), ("flush", Path(path).name)]
            os.fsync(handle)

        def replace(self, source: str, target: Path) -> None:
            name = Path(source).name
            if name not in seen.written:  # never flushed
                seen.written[name] = Path(source).read_bytes()
                seen.steps.append(("write", name))
            seen.steps.append(("rename", name, Path(target).name))
            os.replace(source, target)

    monkeypatch.setattr(atomic, "os", Recorded())
    return seen


def torn(data: bytes) -> list[bytes]:
    """What may be left of bytes that were not flushed."""
    return [b"", data[: len(data) // 2], bytes(len(data)), data]


def states_after(disk: Disk, count: int, before: dict[str, bytes]) -> Iterator[dict[str, bytes]]:
    """Every content of the folder that a cut after so many steps may leave."""
    flushed = {s[1] for s in disk.steps[:count] if s[0] == "flush"}
    bodies = {
        n: [disk.written[n]] if n in flushed else torn(disk.written[n])
        for s in disk.steps[:count]
        if s[0] == "write"
        for n in (s[1],)
    }
    # renames up to the last flush of the folder have happened; any number of later ones may have, in their order
    last = max((k for k in range(count) if disk.steps[k][0] == "flush folder"), default=-1)
    renames = [(k, s) for k, s in enumerate(disk.steps[:count]) if s[0] == "rename"]
    sure = sum(1 for k, _ in renames if k < last)
    for done in range(sure, len(renames) + 1):
        for pick in range(max((len(b) for b in bodies.values()), default=1)):
            files = dict(before)
            for name, ways in bodies.items():
                files[name] = ways[min(pick, len(ways) - 1)]
            for _, (_, source, target) in renames[:done]:
                files[target] = files.pop(source)
            yield files


def put(folder: Path, files: dict[str, bytes]) -> None:
    """Make a folder hold exactly these files."""
    for old in folder.iterdir():
        old.unlink()
    for name, data in files.items():
        (folder / name).write_bytes(data)


def contents(folder: Path) -> dict[str, bytes]:
    return {p.name: p.read_bytes() for p in folder.iterdir()}


def cut_everywhere(disk: Disk, before: dict[str, bytes], after: Path, whole: Callable[[Path], bool]) -> int:
    """Cut the power after every step; how many states were looked at. Each must be ``whole``."""
    count = 0
    for step in range(len(disk.steps) + 1):
        for files in states_after(disk, step, before):
            put(after, files)
            assert whole(after), (disk.steps[:step], {k: len(v) for k, v in files.items()})
            count += 1
    return count


def old_and_new() -> tuple[Bundle, Bundle]:
    return small_bundle("As it was"), small_bundle("As it is")


def test_a_saved_project_is_the_old_or_the_new_one(disk: Disk, tmp_path: Path) -> None:
    old, new = old_and_new()
    folder, left = tmp_path / "a", tmp_path / "b"
    folder.mkdir()
    left.mkdir()
    write_bundle(folder / "p.mandorla", old)
    before = contents(folder)
    disk.steps.clear()
    write_bundle(folder / "p.mandorla", new)
    assert [s[0] for s in disk.steps] == ["write", "flush", "rename", "flush folder"]

    def whole(at: Path) -> bool:
        return read_bundle(at / "p.mandorla").project in (old.project, new.project)

    assert cut_everywhere(disk, before, left, whole) > 5
    put(left, list(states_after(disk, len(disk.steps), before))[-1])
    assert read_bundle(left / "p.mandorla").project == new.project, "what was said to be saved is there"


def test_the_measure_finds_a_save_that_does_not_flush(
    disk: Disk, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Without the flush before the rename some states hold neither the old nor the new file."""
    old, new = old_and_new()
    folder, left = tmp_path / "a", tmp_path / "b"
    folder.mkdir()
    left.mkdir()
    write_bundle(folder / "p.mandorla", old)
    before = contents(folder)
    disk.steps.clear()
    disk.written.clear()
    monkeypatch.setattr(type(atomic.os), "fsync", lambda self, handle: None)
    write_bundle(folder / "p.mandorla", new)

    def whole(at: Path) -> bool:
        try:
            return read_bundle(at / "p.mandorla").project in (old.project, new.project)
        except MandorlaError:
            return False

    with pytest.raises(AssertionError):
        cut_everywhere(disk, before, left, whole)


def test_a_recovery_copy_is_never_lost_while_a_newer_one_is_written(disk: Disk, tmp_path: Path) -> None:
    old, new = old_and_new()
    folder, left = tmp_path / "a", tmp_path / "b"
    left.mkdir()
    keeper = Autosave(folder)
    keeper.keep(old, None)
    before = contents(folder)
    disk.steps.clear()
    keeper.keep(new, None)

    def whole(at: Path) -> bool:
        for note in at.glob("*.json"):
            note.write_bytes(note.read_bytes().replace(str(os.getpid()).encode(), b"4194311"))
        copies = [at / name.name.replace(str(os.getpid()), "4194311") for name in at.glob("session-*.mandorla")]
        for copy, found in zip(sorted(copies), sorted(at.glob("session-*.mandorla")), strict=True):
            found.rename(copy)
            note = found.with_suffix(".json")
            if note.exists():
                note.rename(copy.with_suffix(".json"))
        kept = find_recoverable(at)
        return len(kept) == 1 and recover(kept[0]).project in (old.project, new.project)

    assert cut_everywhere(disk, before, left, whole) > 8
