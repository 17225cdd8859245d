"""Writes a run to disk as it comes: every reading as a line of a CSV file, every event as a line of JSON; a kill loses a second
at most."""

from __future__ import annotations

import json
import os
import time
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import IO, Any, Final

from mandorla.core.errors import InputError
from mandorla.core.run.trace_point import TracePoint

_SYNC: Final = 1.0  # s between the moments at which the disk has everything
TRACE, EVENTS, ABOUT, KEPT = "trace.csv", "events.jsonl", "about.json", "kept"
# field, name and unit of a column; targets and temperatures in °C, duties in %
COLUMNS: Final = (
    ("bed", "bed °C"), ("bed_set", "bed target °C"), ("bed_duty", "bed duty %"), ("chamber", "chamber °C"),
    ("chamber_set", "chamber target °C"), ("chamber_duty", "chamber duty %"), ("nozzle", "nozzle °C"),
    ("nozzle_set", "nozzle target °C"), ("power", "power W"),
)  # fmt: skip
HEAD: Final = ",".join(["seconds", *(title for _, title in COLUMNS)])


def as_line(r: TracePoint) -> str:
    """One line of the trace; empty cells for what nobody told."""
    cells = [f"{r.time:.1f}"]
    for name, title in COLUMNS:
        value = getattr(r, name)
        if value != value:
            cells.append("")
        elif title.endswith("°C"):
            cells.append(f"{value - 273.15:.2f}")
        elif title.endswith("%"):
            cells.append(f"{100.0 * value:.1f}")
        else:
            cells.append(f"{value:.1f}")
    return ",".join(cells)


def from_line(line: str) -> TracePoint | None:
    """A line of a trace back as a reading; None where it is cut off or damaged."""
    cells = line.split(",")
    if len(cells) != len(COLUMNS) + 1:
        return None
    try:
        values = [float(c) if c else float("nan") for c in cells]
    except ValueError:
        return None
    found = {}
    for (name, title), value in zip(COLUMNS, values[1:], strict=True):
        found[name] = value + 273.15 if title.endswith("°C") else value / 100.0 if title.endswith("%") else value
    return TracePoint(values[0], **found)


class Recorder:
    """A folder of its own for a run: ``trace.csv``, ``events.jsonl``, ``about.json``. A full disk is told in ``trouble`` and ends
    the writing, never the watch."""

    def __init__(self, folder: Path, about: Mapping[str, Any]) -> None:
        name = datetime.now(UTC).strftime("%Y-%m-%d-%H%M%S")
        self.trouble = ""
        self.folder = folder / name
        try:
            number = 1
            while self.folder.exists():
                number += 1
                self.folder = folder / f"{name}-{number}"
            self.folder.mkdir(parents=True)
            (self.folder / ABOUT).write_text(
                json.dumps({**about, "began": datetime.now(UTC).isoformat()}, ensure_ascii=False)
            )
            self._trace: IO[str] = (self.folder / TRACE).open("w", encoding="utf-8", newline="\n")
            self._events: IO[str] = (self.folder / EVENTS).open("w", encoding="utf-8", newline="\n")
            self._trace.write(HEAD + "\n")
        except OSError as error:
            raise InputError(f"The run cannot be recorded in “{folder}”: {error.strerror}.") from error
        self._synced = 0.0

    def write(self, readings: Sequence[TracePoint]) -> None:
        """Append readings."""
        self._put(self._trace, [as_line(r) for r in readings])

    def event(self, time_: float, kind: str, text: str, **more: Any) -> None:
        """Append an event: ``time_`` s of the watch, what kind, in words."""
        row = {
            "time": round(time_, 1),
            "kind": kind,
            "text": text,
            "at": datetime.now(UTC).isoformat(timespec="seconds"),
            **more,
        }
        self._put(self._events, [json.dumps(row, ensure_ascii=False)])

    def _put(self, file: IO[str], lines: Sequence[str]) -> None:
        if self.trouble or file.closed:
            return
        try:
            file.write("".join(line + "\n" for line in lines))
            file.flush()
            if time.monotonic() - self._synced >= _SYNC:
                os.fsync(file.fileno())
                self._synced = time.monotonic()
        except OSError as error:
            self.trouble = f"The record ends here: {error.strerror}. The watch goes on."

    def close(self) -> None:
        """Bring everything to the disk."""
        for file in (self._trace, self._events):
            if file.closed:
                continue
            try:
                file.flush()
                os.fsync(file.fileno())
            except OSError as error:
                self.trouble = f"The end of the record may be missing: {error.strerror}."
            file.close()

    def kept(self) -> None:
        """Note that the record is in its project now."""
        (self.folder / KEPT).touch()


def unfinished(folder: Path, project: str) -> list[Path]:
    """Folders of runs of a project that no project keeps yet, the newest first."""
    found = []
    for about in sorted(folder.glob(f"*/{ABOUT}"), reverse=True):
        try:
            own = json.loads(about.read_text(encoding="utf-8"))
        except (OSError, ValueError):
            continue
        if isinstance(own, dict) and own.get("project") == project and not (about.parent / KEPT).exists():
            found.append(about.parent)
    return found
