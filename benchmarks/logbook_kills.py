"""Is anything lost that a logbook said was written: a writer is killed (SIGKILL) at a random instant, a thousand times.

    .venv/bin/python benchmarks/logbook_kills.py [--kills 1000]

After every kill the book is opened again, checked as at any start, and has to hold every entry whose writing had returned.
"""

from __future__ import annotations

import argparse
import os
import signal
import tempfile
import time
from pathlib import Path

import numpy as np

from mandorla.core.logbook.records import Note
from mandorla.core.logbook.store import Logbook


def writer(path: Path, told: int, first: int) -> None:
    """Write entries until somebody kills it; each number is told once its entry is on disk."""
    book = Logbook(path)
    n = first
    while True:
        book.put(Note(key=f"note-{n}", text=f"entry {n}"))
        os.write(told, f"{n}\n".encode())
        n += 1


def main() -> int:
    """Kill and count."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--kills", type=int, default=1000)
    options = parser.parse_args()
    rng, began, lost, entries = np.random.default_rng(3), time.time(), 0, 0
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "book.db"
        Logbook(path)
        for k in range(options.kills):
            read, write = os.pipe()
            child = os.fork()
            if child == 0:
                os.close(read)
                writer(path, write, 100_000 * k)
            os.close(write)
            time.sleep(float(rng.uniform(0.03, 0.25)))
            os.kill(child, signal.SIGKILL)
            os.waitpid(child, 0)
            with os.fdopen(read) as stream:
                told = [int(line) for line in stream.read().splitlines()]
            there = {note.key for note in Logbook(path).all(Note) if int(note.key.partition("-")[2]) >= 100_000 * k}
            lost += sum(f"note-{n}" not in there for n in told)
            entries += len(told)
            if (k + 1) % 200 == 0:
                print(f"{k + 1} kills, {entries} entries told, {lost} lost, {time.time() - began:.0f} s", flush=True)
    print(f"{options.kills} kills, {entries} entries told, {lost} lost: {'met' if lost == 0 else 'MISSED'}")
    return 0 if lost == 0 else 1


if __name__ == "__main__":
    raise SystemExit(main())
