"""Paths that are no files, and ports that are no machines: nothing is waited for, nothing grows, everything is told."""

from __future__ import annotations

import os
import socket
import threading
import time
import tty
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from mandorla.cli import run
from mandorla.core.errors import InputError, MandorlaError
from mandorla.core.input_file import bytes_of, text_of
from mandorla.core.measure.printer import PrinterReader
from mandorla.core.part.geometry import read_part_file
from mandorla.core.project.own_machines import load
from mandorla.core.project.store import read_bundle
from mandorla.core.run.sources import GrowingFile, MachineSource
from mandorla.core.runtime import RunContext
from mandorla.core.sweep.plan import read_plan

READERS: dict[str, Callable[[Path], object]] = {
    "bytes": bytes_of, "text": text_of, "project": read_bundle, "machine": load, "plan": read_plan,
    "mesh": lambda path: read_part_file(path, 0.001, RunContext()), "log that grows": lambda path: GrowingFile(path).lines(),
}  # fmt: skip


def odd_path(folder: Path, kind: str) -> Path:
    """A pipe that nobody writes into, a device without an end, a folder, a file that is not there, one that may not be."""
    path = folder / "there.stl"
    if kind == "pipe":
        os.mkfifo(path)
    elif kind == "device":
        path.symlink_to("/dev/zero")
    elif kind == "folder":
        path.mkdir()
    elif kind == "socket":
        with socket.socket(socket.AF_UNIX) as end:
            end.bind(str(path))
    elif kind == "loop":
        path.symlink_to(path)
    elif kind == "nought":
        return Path("a\0b")
    return path


def within(seconds: float, action: Callable[[], object]) -> Exception | None:
    """What an action raises; it must end in time."""
    raised: list[Exception | None] = [None]

    def work() -> None:
        try:
            action()
        except Exception as error:  # noqa: BLE001  whatever it is, the test looks at it
            raised[0] = error

    thread = threading.Thread(target=work, daemon=True)
    thread.start()
    thread.join(seconds)
    assert not thread.is_alive(), "it waits"
    return raised[0]


@pytest.mark.parametrize("kind", ["pipe", "device", "folder", "socket", "loop", "missing"])
@pytest.mark.parametrize("reader", READERS)
def test_what_is_no_ordinary_file_is_refused_at_once(tmp_path: Path, kind: str, reader: str) -> None:
    path = odd_path(tmp_path, kind)
    error = within(5.0, lambda: READERS[reader](path))
    assert isinstance(error, MandorlaError), (kind, reader, error)
    assert path.name in str(error)


def test_a_file_that_is_too_large_is_refused_before_it_is_read(tmp_path: Path) -> None:
    path = tmp_path / "large"
    with path.open("wb") as file:
        file.truncate(3_000_000_000)  # nothing of it is on the disk
    with pytest.raises(InputError, match="larger than"):
        bytes_of(path)
    (tmp_path / "bad").write_bytes(b"a\xff")
    with pytest.raises(InputError, match="is not UTF-8 at byte 1"):
        text_of(tmp_path / "bad")
    (tmp_path / "marked").write_bytes(b"\xef\xbb\xbfheight")
    assert text_of(tmp_path / "marked") == "height"
    with pytest.raises(InputError, match="cannot be read"):
        bytes_of(odd_path(tmp_path, "nought"))


@pytest.mark.parametrize("kind", ["pipe", "device"])
def test_the_commands_refuse_them(tmp_path: Path, kind: str, capsys: pytest.CaptureFixture[str]) -> None:
    path = odd_path(tmp_path, kind)
    for asked in (
        ["warp", str(path)], ["heatup", str(path), "--json"],
        ["new", "--bed", "300x300mm", "--part", str(path), "-o", str(tmp_path / "o.mandorla")],
        ["new", "--bed", "300x300mm", "--log", str(path), "-o", str(tmp_path / "o.mandorla")],
    ):  # fmt: skip
        assert run(asked) == 2
        assert "no ordinary file" in capsys.readouterr().err


@pytest.mark.parametrize("path", ["/dev/null", "/dev/zero", "/dev/urandom", "/", "/dev/pts/99999", "/proc/self/mem"])
def test_a_path_that_is_no_terminal_is_no_machine(path: str) -> None:
    error = within(6.0, lambda: MachineSource(path, timeout=0.5))
    assert isinstance(error, InputError)
    assert "cannot be opened" in str(error)


@pytest.fixture
def terminal() -> Iterator[tuple[int, str]]:
    """A terminal whose other end is ours."""
    master, slave = os.openpty()
    tty.setraw(slave)
    yield master, os.ttyname(slave)
    for end in (master, slave):
        try:
            os.close(end)
        except OSError:
            continue


def poured(master: int, what: bytes, stop: threading.Event) -> threading.Thread:
    """Pour bytes into a terminal for as long as somebody drinks."""

    def pour() -> None:
        os.set_blocking(master, False)
        while not stop.is_set():
            try:
                os.write(master, what)
                os.read(master, 65536)
            except BlockingIOError:
                time.sleep(0.001)
            except OSError:
                return

    thread = threading.Thread(target=pour, daemon=True)
    thread.start()
    return thread


@pytest.mark.parametrize(
    "flood", [b"x" * 4000, b"ok T:1\n" * 500, b"\xff\x00\n" * 900, b"ok B:nan /nan\n" * 200, b"ok B:99999 /0\n" * 200]
)
def test_a_flood_keeps_nobody_and_grows_nowhere(terminal: tuple[int, str], flood: bytes) -> None:
    master, path = terminal
    stop = threading.Event()
    thread = poured(master, flood, stop)
    source = MachineSource(path, every=0.05, timeout=0.5)
    try:
        for _ in range(4):
            began = time.monotonic()
            assert source.read() == [], "nothing of it is a reading"
            assert time.monotonic() - began < 5.0
        assert source.note, "it is told"
        assert len(source.note) < 400
    finally:
        stop.set()
        thread.join(2.0)
        source.close()


def test_one_that_takes_nothing_does_not_hold_a_command_for_ever(terminal: tuple[int, str]) -> None:
    """Nobody reads at the other end: its queue fills, and writing must end by its own limit."""
    _, path = terminal
    with PrinterReader(path, timeout=0.3) as reader:
        error = within(20.0, lambda: [reader.ask("M105 " + "x" * 3000) for _ in range(30)])
    assert isinstance(error, InputError)


def test_one_that_vanishes_is_told_and_asked_for_again(terminal: tuple[int, str]) -> None:
    master, path = terminal
    source = MachineSource(path, every=0.02, timeout=0.3)
    os.close(master)
    for _ in range(3):
        assert source.read() == []
    assert "gone" in source.note or "cannot be opened" in source.note
    source.close()


def test_a_line_without_an_end_is_not_kept_for_ever(tmp_path: Path) -> None:
    path = tmp_path / "log.csv"
    path.write_bytes(b"time,bed\n")
    growing = GrowingFile(path)
    growing.lines()
    with path.open("ab") as file:
        for _ in range(5):
            file.write(b"7" * 3_000_000)
            file.flush()
            growing.lines()
    assert len(growing._rest) <= 1_000_000
