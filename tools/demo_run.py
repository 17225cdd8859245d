"""A run of the demo workshop that is half done: somebody looked in at the first layer and left the door ajar."""

from __future__ import annotations

import math
from datetime import UTC, datetime

from mandorla.core.project.store import Bundle
from mandorla.core.results.keys import WATCH_START
from mandorla.core.results.results import Results
from mandorla.core.run.keeping import record_of
from mandorla.core.run.live import LiveRun
from mandorla.core.run.recorder import HEAD, as_line
from mandorla.core.run.simulated_machine import Break, SimulatedMachine
from mandorla.core.run.sources import SimulatedSource

_SEED, _KEPT = 19, 5  # of the machine; every fifth reading goes into the file
_AJAR = Break("door-open", 3600.0, 0.5, 5400.0)
_SO_FAR = 2.4 * 3600.0  # s
FILE = "run-second-cradle.csv"


def half_done(bundle: Bundle) -> Bundle:
    """The project with that run among its records."""
    start = Results(bundle).get(WATCH_START)
    machine = SimulatedMachine(start.watched, _SEED, (_AJAR,))
    live, lines = LiveRun(start.watched, SimulatedSource(machine, math.inf, _SO_FAR), planned=start.planned), [HEAD]
    live.began = datetime(2026, 11, 20, 15, 5, tzinfo=UTC)
    read = live.source.read

    def noted() -> list:  # type: ignore[type-arg]
        points = read()
        lines.extend(as_line(p) for p in points[::_KEPT])
        return points

    live.source.read = noted  # type: ignore[method-assign]
    while not live.source.ended:
        live.step()
    record = record_of(live, FILE, "it is still printing").model_copy(
        update={
            "note": "Second cradle. I looked at the first layers and left the door ajar; found and shut half an hour later."
        }
    )
    project = bundle.project.model_copy(update={"records": (record,)})
    return Bundle(project, {**bundle.originals, FILE: ("\n".join(lines) + "\n").encode()})
