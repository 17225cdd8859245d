"""Disks that are really full or really for reading only: a small file system of its own, in a name space of its own.

Where the system does not let a user mount one, these are left out; fakes of the same stand beside what they concern.
"""

from __future__ import annotations

import functools
import os
import subprocess
import sys
import textwrap
from pathlib import Path

import pytest

_MOUNTS = ["unshare", "--mount", "--map-root-user"]
_BEGIN = """
import os, subprocess, sys
from pathlib import Path
disk = Path(sys.argv[1])

def fill():
    with open(disk / "fill", "wb", buffering=0) as f:
        try:
            while f.write(bytes(4096)):
                pass
        except OSError:
            pass

def free():
    (disk / "fill").unlink()

def for_reading_only():
    subprocess.run(["mount", "-o", "remount,ro", str(disk)], check=True)

def said(act):
    try:
        act()
    except Exception as error:
        return f"{type(error).__name__}: {error}"
    return "no error"
"""


@functools.cache
def may_mount() -> bool:
    try:
        done = subprocess.run(
            [*_MOUNTS, "sh", "-c", "mount -t tmpfs none /mnt"], capture_output=True, timeout=20, check=False
        )
    except (OSError, subprocess.TimeoutExpired):
        return False
    return done.returncode == 0


def on_a_disk(tmp_path: Path, code: str, size: str = "1m") -> list[str]:
    """What a program says that has a disk of this size to itself."""
    if not may_mount():
        pytest.skip("no file system can be mounted here")
    disk, home, program = tmp_path / "disk", tmp_path / "home", tmp_path / "program.py"
    disk.mkdir()
    program.write_text(_BEGIN + textwrap.dedent(code), encoding="utf-8")
    line = f'mount -t tmpfs -o size={size} none "{disk}" && exec "{sys.executable}" "{program}" "{disk}"'
    places = {"MANDORLA_HOME": str(home), "QT_QPA_PLATFORM": "offscreen", "PYTHONPATH": os.pathsep.join(sys.path)}
    done = subprocess.run(
        [*_MOUNTS, "sh", "-c", line], capture_output=True, text=True, timeout=240, check=False, env=os.environ | places
    )
    assert done.returncode == 0, done.stderr[-2000:]
    return done.stdout.splitlines()


def test_a_project_that_finds_no_room_stays_as_it_was(tmp_path: Path) -> None:
    told = on_a_disk(
        tmp_path,
        """
        from mandorla.core.project.samples import sample
        from mandorla.core.project.store import read_bundle, write_bundle

        file = disk / "a.mandorla"
        write_bundle(file, sample("kiln"))
        before = file.read_bytes()
        fill()
        print(said(lambda: write_bundle(file, sample("boathouse"))))
        print(file.read_bytes() == before, sorted(p.name for p in disk.iterdir()))
        free()
        write_bundle(file, sample("boathouse"))
        print(read_bundle(file).project.name)
        for_reading_only()
        print(said(lambda: write_bundle(file, sample("kiln"))))
        print(read_bundle(file).project.name)
        """,
    )
    assert told[0].startswith("ProjectFileError:")
    assert "No space left" in told[0]
    assert told[1] == "True ['a.mandorla', 'fill']"
    assert told[2] == "Winch cradle"
    assert "ProjectFileError:" in told[3]
    assert "Read-only" in told[3]
    assert told[4] == "Winch cradle"


def test_a_book_is_read_from_a_disk_that_is_full_or_for_reading_only_and_takes_entries_again(tmp_path: Path) -> None:
    told = on_a_disk(
        tmp_path,
        """
        from mandorla.core.logbook.records import Note
        from mandorla.core.logbook.store import Logbook

        file = disk / "book.db"
        book = Logbook(file)
        for n in range(20):
            book.put(Note(text=f"note {n}"))
        fill()
        print(len(book.all(Note)), book.only_read)
        print(said(lambda: book.put(Note(text="more"))))
        print(len(Logbook(file).all(Note)))
        free()
        book.put(Note(text="after"))
        print(len(book.all(Note)), repr(book.only_read))
        for_reading_only()
        print(len(book.all(Note)), book.only_read)
        later = Logbook(file)
        print(len(later.all(Note)), later.only_read)
        print(said(lambda: later.put(Note(text="no"))))
        """,
        "800k",
    )
    assert told[0] == "20 the disk is full"
    assert told[1].startswith("LogbookError: Nothing was written into")
    assert told[1].endswith(": the disk is full.")
    assert told[2] == "20"
    assert told[3] == "21 ''"
    assert told[4] == told[5] == "21 its folder can only be read"
    assert told[6].endswith(": its folder can only be read.")


def test_a_book_whose_journal_was_left_behind_is_read_whole(tmp_path: Path) -> None:
    """A program that was killed leaves what it had written in the journal; the copy takes it along."""
    told = on_a_disk(
        tmp_path,
        """
        import signal
        from mandorla.core.logbook.records import Note
        from mandorla.core.logbook.store import Logbook

        file = disk / "book.db"
        Logbook(file).put(Note(text="first"))
        if os.fork() == 0:
            other = Logbook(file)
            held = other._engine.connect()
            other.put(Note(text="second"))
            os.kill(os.getpid(), signal.SIGKILL)
        os.wait()
        print((disk / "book.db-wal").stat().st_size > 0)
        for_reading_only()
        print(sorted(n.text for n in Logbook(file).all(Note)))
        """,
    )
    assert told == ["True", "['first', 'second']"]


@pytest.mark.gui
@pytest.mark.parametrize(("how", "reason"), [("fill", "No space left"), ("for_reading_only", "Read-only")])
def test_a_window_starts_and_works_where_nothing_can_be_kept(tmp_path: Path, how: str, reason: str) -> None:
    told = on_a_disk(
        tmp_path,
        f"""
        os.environ["MANDORLA_HOME"] = str(disk / "home")
        import time
        from mandorla.core.folders import state_folder
        from mandorla.core.project.samples import new_bundle
        from mandorla.ui.application import make_application
        from mandorla.ui.crash import CrashKeeper, start_log
        from mandorla.ui.document import Document
        from mandorla.ui.main_window import MainWindow
        from mandorla.ui.preferences import load_preferences

        {how}()
        start_log(state_folder())
        app = make_application()
        liked = load_preferences()
        window = MainWindow(Document(new_bundle(), None, liked.units), liked)
        CrashKeeper(state_folder(), window.messages.complain).install()
        window.show()
        heard = []

        def listen(seconds):
            until = time.monotonic() + seconds
            while time.monotonic() < until:
                app.processEvents()
                if window.messages.isVisible() and window.messages.text.text() not in heard:
                    heard.append(window.messages.text.text())
                time.sleep(0.01)

        listen(1.0)
        window.document.edit("settings.fan", 0.5, "fan")
        listen(6.0)  # a copy for recovery is due meanwhile
        window.appearance.switches["dark"].trigger()
        listen(0.3)
        print(window.save_to(disk / "a.mandorla"))
        listen(0.3)
        print(window.document.project.settings.fan, window.theme.name)
        print(*heard, sep=chr(10))
        os._exit(0)
        """,
    )
    assert told[:2] == ["False", "0.5 dark"]
    heard = told[2:]
    assert any(text.startswith("No recovery cop") and reason in text for text in heard), heard
    assert any("preferences could not be kept" in text for text in heard)
    assert any("a.mandorla" in text and reason in text for text in heard), heard
