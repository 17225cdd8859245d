"""The table of a sweep: rows appended as they come, so that a sweep that was killed goes on where it stopped."""

from __future__ import annotations

import csv
import io
import os
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any, Final, TextIO

from mandorla.core.errors import InputError
from mandorla.core.sweep.plan import Plan, Task
from mandorla.core.sweep.row import DIED, FIGURES

_FIRST: Final = ("key", "project", "part")


def columns_of(plan: Plan) -> tuple[str, ...]:
    """The columns of a plan's table."""
    return (*_FIRST, *(v.path for v in plan.vary), *FIGURES)


def done_in(path: Path, plan: Plan) -> set[str]:
    """Keys of the rows that a table holds already; a last line that was not finished is cut off.

    Raises
    ------
    InputError
        Where the file is of another plan.
    """
    if not path.exists() or path.stat().st_size == 0:
        return set()
    raw = path.read_bytes()
    whole = raw[: raw.rfind(b"\n") + 1]
    try:
        rows = list(csv.DictReader(io.StringIO(whole.decode("utf-8"))))
        names = next(csv.reader(io.StringIO(whole.decode("utf-8"))), [])
    except (UnicodeDecodeError, csv.Error):
        names, rows = [], []
    if tuple(names) != columns_of(plan):
        raise InputError(f"“{path.name}” is there already and is of another plan: choose another name, or remove it.")
    if len(whole) < len(raw):
        with path.open("rb+") as file:
            file.truncate(len(whole))
    return {row["key"] for row in rows if not str(row["error"]).startswith(DIED)}


def left_of(tasks: Sequence[Task], done: set[str]) -> list[Task]:
    """What is still to be computed."""
    return [t for t in tasks if t.key not in done]


class Table:
    """A CSV file that rows are appended to; each is on the disk before the next is waited for."""

    def __init__(self, path: Path, plan: Plan) -> None:
        new = not path.exists() or path.stat().st_size == 0
        try:
            self._file: TextIO = path.open("a", encoding="utf-8", newline="")
        except OSError as error:
            raise InputError(f"“{path}” cannot be written: {error.strerror}.") from None
        self._writer = csv.DictWriter(self._file, columns_of(plan), extrasaction="ignore", lineterminator="\n")
        if new:
            self._writer.writeheader()
            self._flush()

    def add(self, row: dict[str, Any]) -> None:
        """Append a row."""
        self._writer.writerow(row)
        self._flush()

    def _flush(self) -> None:
        self._file.flush()
        os.fsync(self._file.fileno())

    def close(self) -> None:
        """Close the file."""
        self._file.close()


def rows_in(path: Path) -> Iterator[dict[str, str]]:
    """The rows of a table."""
    with path.open(encoding="utf-8", newline="") as file:
        yield from csv.DictReader(file)


def as_parquet(table: Path, target: Path) -> None:
    """The table as Parquet. Raises :class:`InputError` where the library for it is not installed, or the file cannot be written."""
    try:
        from pyarrow import ArrowException, parquet
        from pyarrow import csv as arrow_csv
    except ImportError:
        raise InputError("Parquet needs its library: install mandorla[sweep].") from None
    try:
        parquet.write_table(arrow_csv.read_csv(table), target)
    except (OSError, ArrowException) as error:
        raise InputError(f"“{target}” cannot be written: {error}.") from None
