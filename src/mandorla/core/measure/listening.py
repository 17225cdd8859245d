"""Listens to a printer on a terminal, the real one or the stand-in that ships, and keeps what it shows as a log."""

from __future__ import annotations

import time
from dataclasses import dataclass, field

import numpy as np

from mandorla.core.measure.printer import PrinterReader, StandInPrinter
from mandorla.core.measure.simulated_instruments import Faults, bench_of
from mandorla.core.measure.soak import Soak, judge_soak
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.runtime import RunContext

EVERY = 0.25  # s between questions
STAND_IN_SPEED = 240.0  # the stand-in's time runs that much faster
_HORIZON = 5400.0
_FEWEST = 12  # answers from which the display's course is judged


@dataclass(slots=True)
class Heard:
    """What was heard so far: rows of seconds, bed as shown and as set, chamber (K; NaN where there is none)."""

    source: str
    rows: list[tuple[float, float, float, float]] = field(default_factory=list)

    def soak(self, drift_limit: float) -> Soak | None:
        """Whether the display stands still (drift limit in K/s); None while too little was heard."""
        if len(self.rows) < _FEWEST:
            return None
        rows = np.array(self.rows)
        return judge_soak(rows[:, 0], rows[:, 1], drift_limit)

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


def listen_to_stand_in(
    rig: Rig, settings: Settings, criteria: Criteria, seed: int, heard: Heard, run: RunContext
) -> None:
    """The same with the stand-in printer, which heats the project's rig with hidden faults drawn from a seed."""
    bench = bench_of(rig, settings, criteria, _HORIZON)
    with StandInPrinter(
        bench,
        settings.bed_first,
        settings.chamber,
        speed=STAND_IN_SPEED,
        seed=seed,
        faults=Faults.drawn(seed),
    ) as printer:
        listen(printer.path, heard, run, speed=STAND_IN_SPEED, longest=_HORIZON)
