"""Listens to a printer on a terminal, the real one or the stand-in that ships, and keeps what it shows as a log."""

from __future__ import annotations

import time
import zlib
from dataclasses import dataclass, field

from mandorla.core.measure.printer import PrinterReader, StandInPrinter
from mandorla.core.measure.standins import Faults, bench_of
from mandorla.core.project.models import Project
from mandorla.core.runtime import RunContext

EVERY = 0.25  # s between questions
STAND_IN_SPEED = 240.0  # the stand-in's time runs that much faster
_HORIZON = 5400.0


@dataclass(slots=True)
class Heard:
    """What was heard so far: rows of seconds, bed as shown and as set, chamber (K; NaN where there is none)."""

    source: str
    rows: list[tuple[float, float, float, float]] = field(default_factory=list)

    def csv(self) -> bytes:
        """As a log in °C."""
        chamber = any(row[3] == row[3] for row in self.rows)
        head = "seconds,bed display °C,bed target °C" + (",chamber air °C" if chamber else "")
        lines = [head]
        for t, bed, target, air in self.rows:
            cells = [f"{t:.1f}", f"{bed - 273.15:.2f}", f"{target - 273.15:.1f}"]
            lines.append(",".join(cells + ([f"{air - 273.15:.2f}"] if chamber else [])))
        return ("\n".join(lines) + "\n").encode()


def listen(path: str, heard: Heard, run: RunContext, *, speed: float = 1.0, longest: float = 12 * 3600.0) -> None:
    """Ask a printer again and again until cancelled; answers go into ``heard`` (whole rows at once, safe to read meanwhile)."""
    with PrinterReader(path) as reader:
        start = time.monotonic()
        while True:
            run.checkpoint(0.5, "listening")
            now = reader.temperatures()
            elapsed = (time.monotonic() - start) * speed
            heard.rows.append((elapsed, now.bed, now.bed_target, float("nan") if now.chamber is None else now.chamber))
            if elapsed > longest:
                return
            time.sleep(EVERY)


def listen_to_stand_in(project: Project, heard: Heard, run: RunContext) -> None:
    """The same with the stand-in printer, which heats the project's rig with hidden faults drawn from the project's name."""
    seed = zlib.crc32(project.name.encode())
    bench = bench_of(project.rig, project.settings, project.criteria, _HORIZON)
    with StandInPrinter(
        bench,
        project.settings.bed_first,
        project.settings.chamber,
        speed=STAND_IN_SPEED,
        seed=seed,
        faults=Faults.drawn(seed),
    ) as printer:
        listen(printer.path, heard, run, speed=STAND_IN_SPEED, longest=_HORIZON)
